package sshput

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/pkg/sftp"

	"pilotrix/core/plain"
	"pilotrix/core/units"
)

// tail is how much of what an earlier try has left is read back, in bytes, to see that it is of the same file.
const tail = 32 << 10

// bySFTP sends under a name of its own, which is given the wanted one once it is whole: what is there under that name
// stays until then, and a try that broke off is gone on with. A device that takes no such name, or renames nothing, is
// sent to directly.
func (p Put) bySFTP(ctx context.Context, from *metered) error {
	files, err := sftp.NewClient(p.Client)
	if err != nil {
		return fmt.Errorf("the device has no SFTP (%s): scp may do", plain.Clip(err.Error(), 120))
	}
	defer files.Close()
	stop := context.AfterFunc(ctx, func() { _ = files.Close() })
	defer stop()
	before, err := files.Stat(p.To)
	switch {
	case err == nil && before.IsDir():
		return fmt.Errorf("%s is a folder on the device", p.To)
	case err == nil:
		p.say(fmt.Sprintf("%s is on the device already (%s): it stays until the new one is whole", p.To,
			units.Bytes(before.Size())))
	}
	part := p.To + ".part-" + fmt.Sprintf("%.8s", p.SHA256)
	if p.SHA256 == "" || p.sendPart(files, part, from) == errDirect {
		return p.direct(files, from)
	}
	if err := from.failed; err != nil {
		return fmt.Errorf("%w; %s", err, stays(part))
	}
	if err := held(files, part, p.Size); err != nil {
		return err
	}
	if err := p.rename(files, part, before != nil); err != nil {
		return err
	}
	return held(files, p.To, p.Size)
}

func (p Put) say(text string) {
	if p.Say != nil {
		p.Say(text)
	}
}

func stays(part string) string {
	return "what came of it stays there as " + part + ", to be gone on with"
}

// errDirect says that the device does not take another name than the wanted one.
var errDirect = errors.New("no other name is taken")

// sendPart sends what is missing of a file. What goes wrong once it is open stands in from.
func (p Put) sendPart(files *sftp.Client, part string, from *metered) error {
	to, err := files.OpenFile(part, os.O_RDWR|os.O_CREATE)
	if err != nil {
		return errDirect
	}
	from.part = part
	from.failed = p.fill(to, from)
	if err := to.Close(); err != nil && from.failed == nil {
		from.failed = fmt.Errorf("the device did not keep it: %s", plain.Clip(err.Error(), 200))
	}
	return nil
}

func (p Put) fill(to *sftp.File, from *metered) error {
	there, err := p.sameUpTo(to, from)
	if err != nil {
		return err
	}
	if there > 0 {
		p.say(fmt.Sprintf("%s of it are there from an earlier try: it is gone on with", units.Bytes(there)))
	}
	if err := from.goOn(there); err != nil {
		return err
	}
	if err := to.Truncate(there); err != nil && there == 0 {
		return fmt.Errorf("the device does not take it: %s", plain.Clip(err.Error(), 200))
	}
	if _, err := to.Seek(there, io.SeekStart); err != nil {
		return err
	}
	if _, err := to.ReadFrom(from); err != nil {
		return fmt.Errorf("the device does not take all of it: %s", plain.Clip(err.Error(), 200))
	}
	return nil
}

// sameUpTo is how much of the file is there: what came before the last bytes of a try that broke off, if its end is
// that of the file there.
func (p Put) sameUpTo(to *sftp.File, from *metered) (int64, error) {
	info, err := to.Stat()
	if err != nil || info.Size() < tail || info.Size() > p.Size {
		return 0, nil
	}
	theirs, ours := make([]byte, tail), make([]byte, tail)
	at := info.Size() - tail
	if _, err := to.ReadAt(theirs, at); err != nil && !errors.Is(err, io.EOF) {
		return 0, nil
	}
	if _, err := from.file.Seek(at, io.SeekStart); err != nil {
		return 0, err
	}
	if _, err := io.ReadFull(from.file, ours); err != nil {
		return 0, fmt.Errorf("reading the file: %w", err)
	}
	if !bytes.Equal(theirs, ours) {
		return 0, nil
	}
	return at, nil // its last bytes are sent again: it may have been cut in the middle of a write
}

// rename gives the file its name, whatever has it.
func (p Put) rename(files *sftp.Client, part string, over bool) error {
	err := files.PosixRename(part, p.To)
	if err != nil {
		err = files.Rename(part, p.To) // version 3 alone: it takes no name that is taken
	}
	if err != nil && over {
		if err = files.Remove(p.To); err == nil {
			err = files.Rename(part, p.To)
		}
	}
	if err != nil {
		return fmt.Errorf("the device has it whole, as %s, and does not rename it to %s: %s", part, p.To,
			plain.Clip(err.Error(), 200))
	}
	return nil
}

// direct sends under the wanted name. What breaks off is removed: it would be taken for the file.
func (p Put) direct(files *sftp.Client, from *metered) error {
	to, err := files.Create(p.To)
	if err != nil {
		return fmt.Errorf("the device does not take %s: %s", p.To, plain.Clip(err.Error(), 200))
	}
	if _, err := to.ReadFrom(from); err != nil {
		return errors.Join(fmt.Errorf("the device does not take all of it: %s", plain.Clip(err.Error(), 200)),
			to.Close(), files.Remove(p.To))
	}
	if err := to.Close(); err != nil {
		return fmt.Errorf("the device did not keep it: %s", plain.Clip(err.Error(), 200))
	}
	return held(files, p.To, p.Size)
}

// held holds that a file has its size on the device.
func held(files *sftp.Client, name string, size int64) error {
	info, err := files.Stat(name)
	if err != nil {
		return fmt.Errorf("the device does not have %s afterwards: %s", name, plain.Clip(err.Error(), 200))
	}
	if info.Size() != size {
		return fmt.Errorf("the device has %d of %d B of %s afterwards", info.Size(), size, name)
	}
	return nil
}
