//go:build linux || darwin

package image

import (
	"fmt"
	"io/fs"
	"syscall"
)

// numbers are the file's place on its disk, its size and its times; the time of change cannot be set by
// whoever writes the file.
func numbers(info fs.FileInfo) string {
	stat, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
	}
	return fmt.Sprint(stat.Dev, stat.Ino, info.Size(), info.ModTime().UnixNano(), changeTime(stat))
}

// freeSpace is how much may be written to a folder's disk, in bytes.
func freeSpace(folder string) (free int64, known bool) {
	var stat syscall.Statfs_t
	if err := syscall.Statfs(folder, &stat); err != nil {
		return 0, false
	}
	return int64(stat.Bavail) * int64(stat.Bsize), true
}
