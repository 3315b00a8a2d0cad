package sshd

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/pkg/sftp"

	"pilotrix/core/offer"
	"pilotrix/core/transfer"
)

// serveSFTP serves one channel by SFTP. The protocol is the package's; what it may touch is ours.
func (s *Server) serveSFTP(p peer) error {
	files := &files{s, p}
	server := sftp.NewRequestServer(p, sftp.Handlers{FileGet: files, FilePut: files, FileCmd: files, FileList: files})
	err := server.Serve() // its Close would close the channel before the status is reported
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}

// files is what one peer sees.
type files struct {
	s *Server
	p peer
}

// name is what is asked for, without the folder that clients put before it.
func name(r *sftp.Request) string { return strings.TrimPrefix(path.Clean("/"+r.Filepath), "/") }

// Fileread implements sftp.FileReader.
func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	staged, err := f.s.find("SFTP", f.p.from, name(r))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", sftp.ErrSSHFxNoSuchFile, err)
	}
	file, err := staged.Open()
	if err != nil {
		f.s.report("SFTP", f.p.from, false, "refused", err.Error())
		return nil, sftp.ErrSSHFxFailure
	}
	return &reading{file: file, size: staged.Size, first: -1, begin: func() *moving {
		return f.s.began("SFTP", f.p.from, "OPEN", staged.Name, staged.Size, false)
	}}, nil
}

// reading is a staged file that is fetched. Clients ask for several pieces at once, and may begin in the middle, to go
// on where an earlier try ended.
type reading struct {
	mu     sync.Mutex
	file   io.ReadSeekCloser
	size   int64
	first  int64 // where it began, -1 before that
	bytes  int64
	begin  func() *moving
	count  *moving
	failed error
}

// ReadAt implements io.ReaderAt.
func (r *reading) ReadAt(p []byte, at int64) (n int, err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if at >= r.size {
		return 0, io.EOF
	}
	if r.count == nil {
		r.count = r.begin()
	}
	if r.first < 0 || at < r.first {
		r.first = at
	}
	if _, err = r.file.Seek(at, io.SeekStart); err == nil {
		n, err = io.ReadFull(r.file, p[:min(int64(len(p)), r.size-at)])
	}
	r.bytes += int64(n)
	r.count.Add(n)
	switch {
	case err != nil:
		err = fmt.Errorf("it ends with %d B to go: %w", r.size-at-int64(n), transfer.ErrChanged)
		r.failed = err
	case n < len(p):
		err = io.EOF
	}
	return n, err
}

// TransferError implements sftp.TransferError: the connection broke.
func (r *reading) TransferError(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.failed = errors.Join(r.failed, fmt.Errorf("the device hung up: %w", err))
}

// Close implements io.Closer.
func (r *reading) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.count == nil && r.size == 0 {
		r.count, r.first = r.begin(), 0
	}
	if r.count != nil {
		if missing := r.size - r.first - r.bytes; r.failed == nil && missing > 0 {
			r.failed = fmt.Errorf("the device closed it with %d B to go", missing)
		}
		if r.first > 0 {
			r.count.Part(r.first, r.size-r.first)
		}
		r.count.End(r.failed)
	}
	return r.file.Close()
}

// Filewrite implements sftp.FileWriter.
func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	if flags := r.Pflags(); flags.Append {
		return nil, sftp.ErrSSHFxOpUnsupported
	}
	upload, err := f.s.opt.Stage.Receive(name(r), addrOf(f.p.from).Addr(), -1)
	if err != nil {
		f.s.report("SFTP", f.p.from, true, "refused", err.Error())
		return nil, fmt.Errorf("%w: %w", sftp.ErrSSHFxPermissionDenied, err)
	}
	return &writing{
		upload:  upload,
		count:   f.s.began("SFTP", f.p.from, "OPEN", upload.Name, -1, true),
		waiting: map[int64][]byte{},
	}, nil
}

// maxWaiting is how much of an upload may come ahead of what stands before it, in bytes: clients send several pieces at
// once, and they are taken in by several hands.
const maxWaiting = 8 << 20

// writing is a file that is left here. It is written from its beginning to its end.
type writing struct {
	mu      sync.Mutex
	upload  *offer.Upload
	count   *moving
	next    int64
	waiting map[int64][]byte
	ahead   int
	failed  error
}

// WriteAt implements io.WriterAt.
func (w *writing) WriteAt(p []byte, at int64) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case w.failed != nil:
		return 0, w.failed
	case at < w.next:
		w.failed = errors.New("a part of it was written twice")
	case w.ahead+len(p) > maxWaiting:
		w.failed = fmt.Errorf("it does not come from its beginning: %d B are missing before byte %d", at-w.next, at)
	}
	if w.failed != nil {
		return 0, w.failed
	}
	if at > w.next {
		w.waiting[at] = append([]byte(nil), p...)
		w.ahead += len(p)
		return len(p), nil
	}
	if w.put(p); w.failed != nil {
		return 0, w.failed
	}
	for {
		piece, there := w.waiting[w.next]
		if !there {
			return len(p), nil
		}
		delete(w.waiting, w.next)
		w.ahead -= len(piece)
		if w.put(piece); w.failed != nil {
			return 0, w.failed
		}
	}
}

func (w *writing) put(p []byte) {
	n, err := w.upload.Write(p)
	w.next += int64(n)
	w.count.Add(n)
	w.failed = err
}

// TransferError implements sftp.TransferError.
func (w *writing) TransferError(err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.failed = errors.Join(w.failed, fmt.Errorf("the device hung up: %w", err))
}

// Close implements io.Closer: what has a hole, or broke off, is not kept.
func (w *writing) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.failed == nil && len(w.waiting) > 0 {
		w.failed = fmt.Errorf("a part of it is missing behind byte %d", w.next)
	}
	if w.failed != nil {
		w.upload.Drop()
	} else {
		w.failed = w.upload.Keep()
	}
	w.count.End(w.failed)
	return w.failed
}

// Filecmd implements sftp.FileCmder: what clients set behind an upload is passed over, all else is refused.
func (f *files) Filecmd(r *sftp.Request) error {
	if r.Method == "Setstat" {
		return nil
	}
	f.s.report("SFTP", f.p.from, true, "refused", strings.ToLower(r.Method)+" "+name(r))
	return sftp.ErrSSHFxPermissionDenied
}

// Filelist implements sftp.FileLister: the one folder there is, and what is staged in it.
func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	asked := name(r)
	switch {
	case r.Method == "List" && asked == "":
		var all infos
		for _, staged := range f.s.opt.Stage.Offers() {
			all = append(all, info{staged.Name, staged.Size, false})
		}
		return all, nil
	case r.Method == "Stat" && asked == "":
		return infos{{"/", 0, true}}, nil
	case r.Method == "Stat":
		staged, _, err := f.s.opt.Stage.Find(asked)
		if err != nil {
			if !f.s.opt.Stage.Awaits(asked) { // who leaves a file looks first whether it is there
				f.s.report("SFTP", f.p.from, true, "refused", err.Error())
			}
			return nil, sftp.ErrSSHFxNoSuchFile
		}
		return infos{{staged.Name, staged.Size, false}}, nil
	}
	return nil, sftp.ErrSSHFxNoSuchFile
}

type infos []info

// ListAt implements sftp.ListerAt.
func (all infos) ListAt(to []os.FileInfo, from int64) (n int, err error) {
	for ; n < len(to) && from+int64(n) < int64(len(all)); n++ {
		to[n] = all[from+int64(n)]
	}
	if from+int64(n) >= int64(len(all)) {
		err = io.EOF
	}
	return n, err
}

// info is a staged file, or the folder.
type info struct {
	name   string
	size   int64
	folder bool
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return i.size }
func (i info) ModTime() time.Time { return time.Unix(0, 0) }
func (i info) IsDir() bool        { return i.folder }
func (i info) Sys() any           { return nil }

func (i info) Mode() os.FileMode {
	if i.folder {
		return os.ModeDir | 0o500
	}
	return 0o400
}
