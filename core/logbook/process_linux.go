package logbook

import (
	"fmt"
	"os"
	"strings"
)

// processStart is when a process began, in the kernel's ticks since the machine did (proc(5), field
// 22 of stat), together with the boot it belongs to; empty when there is no such process.
func processStart(pid int) string {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return ""
	}
	_, after, _ := strings.Cut(string(stat), ") ") // the command's name may hold spaces
	fields := strings.Fields(after)
	if len(fields) < 20 || fields[0] == "Z" {
		return ""
	}
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id")
	return fields[19] + "@" + strings.TrimSpace(string(boot))
}
