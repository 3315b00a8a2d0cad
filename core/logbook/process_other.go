//go:build !linux

package logbook

import (
	"os"
	"runtime"
	"syscall"
)

// processStart only says here whether there is such a process.
func processStart(pid int) string {
	process, err := os.FindProcess(pid)
	if err != nil {
		return ""
	}
	if runtime.GOOS != "windows" && process.Signal(syscall.Signal(0)) != nil {
		return ""
	}
	return "running"
}
