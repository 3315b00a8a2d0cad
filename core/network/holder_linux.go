package network

import (
	"bufio"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Holder names the process that holds a port on this machine, "" when it cannot be reported: another user's
// process is visible to root only. Protocol is udp or tcp.
func Holder(protocol string, port uint16) string {
	inodes := map[string]bool{}
	for _, table := range []string{protocol, protocol + "6"} {
		collectSockets("/proc/net/"+table, protocol == "tcp", port, inodes)
	}
	if len(inodes) == 0 {
		return ""
	}
	handles, _ := filepath.Glob("/proc/[0-9]*/fd/[0-9]*")
	for _, handle := range handles {
		to, err := os.Readlink(handle)
		if err != nil || !inodes[to] {
			continue
		}
		pid := strings.Split(handle, "/")[2]
		name, _ := os.ReadFile("/proc/" + pid + "/comm")
		return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
	}
	return ""
}

// collectSockets reads a table of proc(5): the local address is the second column, the state the fourth,
// the inode the tenth.
func collectSockets(path string, listeningOnly bool, port uint16, inodes map[string]bool) {
	file, err := os.Open(path)
	if err != nil {
		return
	}
	defer file.Close()
	const listening = "0A"
	for lines := bufio.NewScanner(file); lines.Scan(); {
		columns := strings.Fields(lines.Text())
		if len(columns) < 10 || (listeningOnly && columns[3] != listening) {
			continue
		}
		_, hexPort, found := strings.Cut(columns[1], ":")
		raw, err := hex.DecodeString(hexPort)
		if !found || err != nil || len(raw) != 2 || uint16(raw[0])<<8|uint16(raw[1]) != port {
			continue
		}
		if _, err := strconv.Atoi(columns[9]); err == nil {
			inodes["socket:["+columns[9]+"]"] = true
		}
	}
}
