//go:build unix

package image

import (
	"fmt"
	"io/fs"
	"syscall"
)

// numbers are the file's place on its disk, its size and its times; the time of change cannot be set by
// whoever writes the file.
func numbers(info fs.FileInfo) string {
	stat, is := info.Sys().(*syscall.Stat_t)
	if !is {
		return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
	}
	return fmt.Sprint(stat.Dev, stat.Ino, info.Size(), info.ModTime().UnixNano(), changeTime(stat))
}
