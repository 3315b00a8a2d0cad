package ftpd

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"strings"
	"time"
)

// Telnet's commands, as the control connection may hold them (RFC 959 section 3.3.1, RFC 854). An old client sends IAC
// IP and IAC DM before ABOR; the DM may come out of band and so not at all.
const (
	telnetIAC   = 0xff
	telnetWill  = 0xfb // to 0xfe: an option follows
	telnetFirst = 0xf0 // the lowest command
)

const (
	maxCommand = 4096             // bytes of a line
	loginTime  = time.Minute      // until the login has succeeded
	idleTime   = 10 * time.Minute // RFC 1123 section 4.1.3.2 asks for five at least
	replyTime  = 30 * time.Second // for a reply to be taken
)

// control is a control connection.
type control struct {
	net.Conn
	in *bufio.Reader
}

var errLongLine = errors.New("a command without an end")

// command reads one command: the word in capitals, and what follows it.
func (c control) command() (word, param string, err error) {
	line, err := c.line()
	if err != nil {
		return "", "", err
	}
	word, param, _ = strings.Cut(strings.TrimLeft(line, " "), " ")
	return capitals(word), param, nil
}

// capitals are those of ASCII, in which commands are: bytes of anything else stay as they are.
func capitals(word string) string {
	all := []byte(word)
	for i, b := range all {
		if 'a' <= b && b <= 'z' {
			all[i] = b - 'a' + 'A'
		}
	}
	return string(all)
}

// line reads up to the line's end, without it and without telnet's commands.
func (c control) line() (string, error) {
	var line []byte
	for {
		b, err := c.in.ReadByte()
		if err != nil {
			return "", err
		}
		switch {
		case b == telnetIAC:
			if b, err = c.afterIAC(); err != nil {
				return "", err
			}
			if b != 0 {
				line = append(line, b)
			}
		case b == '\n':
			return strings.TrimSuffix(string(line), "\r"), nil
		default:
			line = append(line, b)
		}
		if len(line) > maxCommand {
			return "", errLongLine
		}
	}
}

// afterIAC reads the rest of a telnet command. It returns the byte that is data, 0 for none.
func (c control) afterIAC() (byte, error) {
	b, err := c.in.ReadByte()
	switch {
	case err != nil, b == telnetIAC:
		return b, err
	case b >= telnetWill:
		_, err = c.in.ReadByte()
		return 0, err
	case b >= telnetFirst:
		return 0, nil
	}
	return 0, c.in.UnreadByte() // the command itself came out of band
}

// reply writes one reply, of several lines where the text has them (RFC 959 section 4.2).
func (c control) reply(code int, text string) error {
	_ = c.SetWriteDeadline(time.Now().Add(replyTime))
	lines := strings.Split(text, "\n")
	out := ""
	for i, line := range lines {
		switch {
		case i == len(lines)-1:
			out += fmt.Sprintf("%d %s\r\n", code, line)
		case i == 0:
			out += fmt.Sprintf("%d-%s\r\n", code, line)
		default:
			out += " " + line + "\r\n"
		}
	}
	_, err := c.Write([]byte(out))
	return err
}
