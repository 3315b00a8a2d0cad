//go:build !unix

package image

import (
	"fmt"
	"io/fs"
)

func numbers(info fs.FileInfo) string { return fmt.Sprint(info.Size(), info.ModTime().UnixNano()) }
