package bench

import (
	"errors"
	"io"
	"os"
	"path"
	"sync"
	"time"

	"github.com/pkg/sftp"
)

// A device may take files over its shell session, by SFTP, into a store of its own.

// Takes is a device that does.
type Takes interface {
	// Drop is where files are dropped.
	Drop() *Store
}

// drop serves a store by SFTP.
type drop struct{ store *Store }

func (d drop) handlers() sftp.Handlers {
	return sftp.Handlers{FileGet: d, FilePut: d, FileCmd: d, FileList: d}
}

func base(name string) string { return path.Base(path.Clean("/" + name)) }

// Fileread implements sftp.FileReader.
func (d drop) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	f, there := d.store.Get(base(r.Filepath))
	if !there {
		return nil, os.ErrNotExist
	}
	return &dropped{drop: d, name: f.Name, data: f.Data}, nil
}

// Filewrite implements sftp.FileWriter. What is written is in the store at once, as a broken file until it is closed.
func (d drop) Filewrite(r *sftp.Request) (io.WriterAt, error) { return d.OpenFile(r) }

// OpenFile implements sftp.OpenFileWriter.
func (d drop) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	f, _ := d.store.Get(base(r.Filepath))
	data := f.Data
	if r.Pflags().Trunc {
		data = nil
	}
	if err := d.store.Put(
		File{Name: base(r.Filepath), Data: data, Broken: true}); err != nil { // it is there from now on
		return nil, err
	}
	return &dropped{drop: d, name: base(r.Filepath), data: append([]byte(nil), data...), writes: true}, nil
}

// Filecmd implements sftp.FileCmder.
func (d drop) Filecmd(r *sftp.Request) error {
	name, to := base(r.Filepath), base(r.Target)
	f, there := d.store.Get(name)
	switch {
	case !there:
		return os.ErrNotExist
	case r.Method == "Remove":
		d.store.Drop(name)
	case r.Method == "Setstat":
		if size := r.Attributes().Size; r.AttrFlags().Size && int(size) < len(f.Data) {
			f.Data = f.Data[:size]
			return d.store.Put(f)
		}
	case r.Method == "Rename", r.Method == "PosixRename":
		if _, taken := d.store.Get(to); taken && r.Method == "Rename" {
			return os.ErrExist
		}
		d.store.Drop(name)
		f.Name = to
		return d.store.Put(f)
	default:
		return sftp.ErrSSHFxOpUnsupported
	}
	return nil
}

// PosixRename implements sftp.PosixRenameFileCmder.
func (d drop) PosixRename(r *sftp.Request) error {
	r.Method = "PosixRename"
	return d.Filecmd(r)
}

// Filelist implements sftp.FileLister.
func (d drop) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method == "Stat" {
		if name := base(r.Filepath); name != "/" {
			f, there := d.store.Get(name)
			if !there {
				return nil, os.ErrNotExist
			}
			return listing{fileInfo{f}}, nil
		}
		return listing{fileInfo{File{Name: "/"}}}, nil
	}
	var all listing
	for _, f := range d.store.Files() {
		all = append(all, fileInfo{f})
	}
	return all, nil
}

type listing []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l listing) ListAt(into []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[at:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

type fileInfo struct{ f File }

func (i fileInfo) Name() string       { return i.f.Name }
func (i fileInfo) Size() int64        { return int64(len(i.f.Data)) }
func (i fileInfo) ModTime() time.Time { return time.Time{} }
func (i fileInfo) IsDir() bool        { return i.f.Name == "/" }
func (i fileInfo) Sys() any           { return nil }

func (i fileInfo) Mode() os.FileMode {
	if i.IsDir() {
		return os.ModeDir | 0o700
	}
	return 0o600
}

// dropped is a file that is open.
type dropped struct {
	drop   drop
	name   string
	writes bool

	mu   sync.Mutex
	data []byte
}

// ReadAt implements io.ReaderAt.
func (f *dropped) ReadAt(p []byte, at int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if at >= int64(len(f.data)) {
		return 0, io.EOF
	}
	n := copy(p, f.data[at:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// WriteAt implements io.WriterAt.
func (f *dropped) WriteAt(p []byte, at int64) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	end := int(at) + len(p)
	if others := f.drop.store.Free() + f.held(); end > others {
		return 0, errors.New("no space is left")
	}
	if end > len(f.data) {
		f.data = append(f.data, make([]byte, end-len(f.data))...)
	}
	copy(f.data[at:], p)
	return len(p), f.drop.store.Put(File{Name: f.name, Data: append([]byte(nil), f.data...), Broken: true})
}

// held is the room that the file has now.
func (f *dropped) held() int {
	now, _ := f.drop.store.Get(f.name)
	return len(now.Data)
}

// Close implements io.Closer: the file is whole, as far as anybody can know.
func (f *dropped) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.writes {
		return nil
	}
	now, _ := f.drop.store.Get(f.name)
	return f.drop.store.Put(File{Name: f.name, Data: now.Data})
}
