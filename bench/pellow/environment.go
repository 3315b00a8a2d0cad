package pellow

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"
)

// The environment is lines of NAME=VALUE in its part, behind a line with their checksum.

func (l *loader) loadEnv() (whole bool) {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	sum, text, _ := bytes.Cut(l.flash.part(envArea), []byte("\n"))
	text, _, _ = bytes.Cut(text, []byte{0})
	if whole = string(sum) == checksum(text); !whole {
		l.env = map[string]string{"bootcmd": factoryBoot, "bootdelay": strconv.Itoa(bootDelay), "loadaddr": "81000000"}
		return false
	}
	l.env = map[string]string{}
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "=")
		l.env[name] = value
	}
	return true
}

func environmentText(env map[string]string) []byte {
	var text strings.Builder
	for _, name := range slices.Sorted(maps.Keys(env)) {
		fmt.Fprintf(&text, "%s=%s\n", name, env[name])
	}
	return []byte(checksum([]byte(text.String())) + "\n" + text.String() + "\x00")
}

func checksum(data []byte) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE(data)) }

func (l *loader) value(name string) string {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	return l.env[name]
}

func (l *loader) names() []string {
	l.Mu.Lock()
	defer l.Mu.Unlock()
	return slices.Sorted(maps.Keys(l.env))
}

func (l *loader) printEnv(args []string) error {
	for _, name := range args {
		if l.value(name) == "" {
			return fmt.Errorf("## Error: %q not defined", name)
		}
		l.Sayf("%s=%s\r\n", name, l.value(name))
	}
	if len(args) > 0 {
		return nil
	}
	size := 0
	for _, name := range l.names() {
		size += len(name) + len(l.value(name)) + 2
		l.Sayf("%s=%s\r\n", name, l.value(name))
	}
	l.Sayf("\r\nEnvironment size: %d/%d bytes\r\n", size, envArea.size-4)
	return nil
}

func (l *loader) setEnv(args []string) error {
	l.lock(func() {
		if l.env[args[0]] = strings.Join(args[1:], " "); l.env[args[0]] == "" {
			delete(l.env, args[0])
		}
	})
	return nil
}

func (l *loader) saveEnv([]string) error {
	l.Say("Saving Environment to Flash... Un-Protected 2 sectors\r\nErasing Flash...\r\n")
	l.Mu.Lock()
	data := environmentText(l.env)
	l.Mu.Unlock()
	fault := l.fault()
	first := sectorAt(envArea.at)
	for s := first; s < first+2; s++ {
		if !fault.EnvForgotten {
			l.lock(func() { l.flash.eraseSector(s) })
		}
		l.Dots("", 1, eraseTakes/4, "")
	}
	l.Say(" done\r\nErased 2 sectors\r\nWriting to Flash... ")
	if fault.EnvFails {
		l.Wait(time.Second)
		return says("Flash buffer write timeout\r\nTimeout writing to Flash\r\nProtected 2 sectors\r\nFailed (1)")
	}
	if fault.EnvForgotten || l.burn(l.Shell, envArea.at, data, func(int) {}) {
		l.Say("9....8....7....6....5....4....3....2....1....done\r\nProtected 2 sectors\r\nOK\r\n")
	}
	return nil
}

// split takes a line apart into commands: by semicolons outside of quotes, with the environment's values filled in.
func (l *loader) split(line string) (commands [][]string) {
	var words []string
	word, quoted, begun := "", false, false
	end := func() {
		if begun {
			words = append(words, word)
		}
		word, begun = "", false
	}
	for rest := line; rest != ""; {
		c := rest[0]
		rest = rest[1:]
		switch {
		case c == '\'' || c == '"':
			quoted, begun = !quoted, true
		case c == '$' && !quoted:
			name, after := variable(rest)
			word, begun, rest = word+l.value(name), true, after
		case c == ';' && !quoted:
			end()
			commands, words = append(commands, words), nil
		case c == ' ' && !quoted:
			end()
		default:
			word, begun = word+string(c), true
		}
	}
	end()
	return append(commands, words)
}

// variable takes the name of one, with or without braces.
func variable(text string) (name, after string) {
	if inner, ok := strings.CutPrefix(text, "{"); ok {
		name, after, _ = strings.Cut(inner, "}")
		return name, after
	}
	n := 0
	for n < len(text) && (text[n] == '_' || text[n] >= '0' && text[n] <= '9' || text[n] >= 'a' && text[n] <= 'z' || text[n] >= 'A' && text[n] <= 'Z') {
		n++
	}
	return text[:n], text[n:]
}
