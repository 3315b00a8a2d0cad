// Package sshput puts a file on a device over the SSH connection that a session has with it: by SFTP
// (draft-ietf-secsh-filexfer-02), or by the scp protocol where the device has no other. No further login is needed, and
// the console stays as it is.
package sshput

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"pilotrix/core/clock"
	"pilotrix/core/plain"
	"pilotrix/core/transfer"
)

// The protocols.
const (
	SFTP = "sftp"
	SCP  = "scp"
)

// Put is a file that is put somewhere.
type Put struct {
	Client   *ssh.Client
	Protocol string
	To       string // its path on the device
	Size     int64
	SHA256   string // of the file, by which what an earlier try has left is known to be of the same one
	Open     func() (io.ReadSeekCloser, error)
	Clock    clock.Clock
	Progress func(transfer.Progress) // may be nil
	Say      func(string)            // what is of note, in words; may be nil
}

// Do puts it there, and returns how many bytes the device has taken and in what time. The device's word that it has the
// file whole is its size afterwards with SFTP, and its last answer with scp.
func (p Put) Do(ctx context.Context) (bytes int64, took time.Duration, err error) {
	if p.Client == nil {
		return 0, 0, errors.New("the line is no SSH session: a file cannot be put over it")
	}
	file, err := p.Open()
	if err != nil {
		return 0, 0, err
	}
	defer file.Close()
	meter := transfer.NewMeter(p.Clock)
	meter.Start()
	from := &metered{
		Reader: transfer.Whole(file, p.Size),
		file:   file,
		meter:  meter,
		thin:   transfer.NewThin(p.Clock),
		p:      transfer.Progress{File: path.Base(p.To), Size: p.Size},
		report: p.Progress,
		ctx:    ctx,
	}
	switch p.Protocol {
	case SFTP:
		err = p.bySFTP(ctx, from)
	case SCP:
		err = p.bySCP(ctx, from)
	default:
		err = fmt.Errorf("no protocol %q to put a file by; there are sftp and scp", p.Protocol)
	}
	// What ended it here goes before what the device made of that.
	reason := cmp.Or(context.Cause(ctx), from.unread)
	if reason != nil {
		err = reason
		if from.part != "" {
			err = fmt.Errorf("%w; %s", err, stays(from.part))
		}
	}
	return from.p.Bytes, meter.Elapsed(), err
}

// metered says how much was read.
type metered struct {
	io.Reader
	file   io.ReadSeeker
	meter  *transfer.Meter
	thin   *transfer.Thin
	p      transfer.Progress
	report func(transfer.Progress)
	ctx    context.Context

	before int64  // that were there already
	part   string // the name that it is sent under, empty for the wanted one
	failed error  // of what is sent so
	unread error  // why the file could not be read to its end
}

func (m *metered) Read(p []byte) (int, error) {
	if err := m.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := m.Reader.Read(p)
	if err != nil && err != io.EOF {
		m.unread = fmt.Errorf("the file here: %w", err)
	}
	m.p.Bytes += int64(n)
	if m.report != nil && m.thin.Due() {
		m.fill()
		m.report(m.p)
	}
	return n, err
}

// fill sets the rate of what is sent now, without what was there before.
func (m *metered) fill() {
	now := transfer.Progress{Bytes: m.p.Bytes - m.before, Size: m.p.Size - m.before}
	m.meter.Fill(&now)
	m.p.Rate, m.p.Left = now.Rate, now.Left
}

// goOn begins where an earlier try has ended.
func (m *metered) goOn(at int64) error {
	if _, err := m.file.Seek(at, io.SeekStart); err != nil {
		return err
	}
	m.before, m.p.Bytes = at, at
	m.Reader = transfer.Whole(m.file, m.p.Size-at)
	return nil
}

// bySCP is the sending side of the scp protocol, as core/transfer/sshd is the other.
func (p Put) bySCP(ctx context.Context, from *metered) error {
	session, err := p.Client.NewSession()
	if err != nil {
		return fmt.Errorf("the device opens no further channel: %w", err)
	}
	defer session.Close()
	stop := context.AfterFunc(ctx, func() { _ = session.Close() })
	defer stop()
	in, err := session.StdinPipe()
	if err != nil {
		return err
	}
	out, err := session.StdoutPipe()
	if err != nil {
		return err
	}
	if err := session.Start("scp -t -- " + quoted(p.To)); err != nil {
		return fmt.Errorf("the device runs no scp: %w", err)
	}
	answers := bufio.NewReader(out)
	if err := answered(answers); err != nil {
		return err
	}
	if _, err := fmt.Fprintf(in, "C0644 %d %s\n", p.Size, path.Base(p.To)); err != nil {
		return err
	}
	if err := answered(answers); err != nil {
		return err
	}
	if _, err := io.Copy(in, from); err != nil { // without the byte that ends it the device does not take it for whole
		return fmt.Errorf("the device does not take all of it: %w", err)
	}
	if _, err := in.Write([]byte{0}); err != nil {
		return err
	}
	if err := answered(answers); err != nil {
		return err
	}
	_ = in.Close()
	if err := session.Wait(); err != nil {
		return fmt.Errorf("the device's scp: %w", err)
	}
	return nil
}

// answered reads the device's answer: a byte 0, or 1 or 2 and its words.
func answered(from *bufio.Reader) error {
	code, err := from.ReadByte()
	switch {
	case err != nil:
		return fmt.Errorf("the device's scp ended without an answer: %w", err)
	case code == 0:
		return nil
	}
	words, _ := from.ReadString('\n')
	if code > 2 {
		words = string(code) + words
	}
	return fmt.Errorf("the device says: %s", plain.Clip(strings.TrimSpace(words), 200))
}

// quoted is a path as a shell on the device takes it for one word.
func quoted(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
