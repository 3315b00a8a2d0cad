package image

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
)

// Unpacker makes plain files of packed images, each once, in a folder of its own that Close removes. It
// may be used by several goroutines: who asks for an image that is just being unpacked waits for it whole.
type Unpacker struct {
	// In is where the folder is made, the system's temporary folder unless said.
	In string

	mu     sync.Mutex
	folder string
	plain  map[string]*Image // by SHA-256
}

// Plain returns a plain file of an image. begins is called when it has to be unpacked first; it may be nil.
func (u *Unpacker) Plain(ctx context.Context, img *Image, begins func()) (*Image, error) {
	if !img.Packed() {
		return img, nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if out := u.plain[img.SHA256]; out != nil {
		return out, nil
	}
	if begins != nil {
		begins()
	}
	if u.folder == "" {
		folder, err := os.MkdirTemp(u.In, "pilotrix-unpacked-")
		if err != nil {
			return nil, fmt.Errorf("no folder to unpack into: %w", err)
		}
		u.folder, u.plain = folder, map[string]*Image{}
	}
	own := filepath.Join(u.folder, img.SHA256) // several may have one name
	if err := os.Mkdir(own, 0o700); err != nil && !errors.Is(err, fs.ErrExist) {
		return nil, fmt.Errorf("no folder to unpack into: %w", err)
	}
	out, err := Unpack(ctx, img, own, nil)
	if err == nil {
		u.plain[img.SHA256] = out
	}
	return out, err
}

// Close removes what was unpacked.
func (u *Unpacker) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.folder == "" {
		return nil
	}
	err := os.RemoveAll(u.folder)
	u.folder, u.plain = "", nil
	return err
}
