package sshd

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"pilotrix/core/plain"
	"pilotrix/core/transfer"
)

// The scp protocol has no document of its own but the programs that speak it: the one side runs "scp -f FILE" to send
// or "scp -t FILE" to receive on the other, a line "Cmode size name" heads a file, a byte 0 answers each line and ends
// each file, a byte 1 or 2 begins the words of a refusal.

// order is what a peer wants of scp.
type order struct {
	fetch bool // it fetches, and else leaves
	file  string
}

// parseSCP reads the command that a client runs. It reports whether it is one of scp's for one file.
func parseSCP(command string) (o order, ok bool) {
	words := strings.Fields(command)
	if len(words) < 3 || path.Base(words[0]) != "scp" {
		return o, false
	}
	rest := words[1:]
	for ; len(rest) > 0 && strings.HasPrefix(rest[0], "-") && rest[0] != "-"; rest = rest[1:] {
		if rest[0] == "--" {
			rest = rest[1:]
			break
		}
		for _, flag := range rest[0][1:] {
			switch flag {
			case 'f':
				o.fetch, ok = true, true
			case 't':
				ok = true
			case 'v', 'p', 'q', 'd':
			default: // a whole folder, for one
				return order{}, false
			}
		}
	}
	o.file = strings.Trim(strings.Join(rest, " "), `'"`)
	return o, ok && o.file != ""
}

// head is the line before a file.
type head struct {
	size int64
	name string
}

// parseHead reads a line such as "C0644 1310898 tern.brm".
func parseHead(line string) (h head, err error) {
	mode, rest, found := strings.Cut(line, " ")
	size, name, also := strings.Cut(rest, " ")
	if !found || !also || len(mode) != 5 || mode[0] != 'C' {
		return h, fmt.Errorf("%q heads no file", plain.Clip(line, 80))
	}
	if h.size, err = strconv.ParseInt(size, 10, 64); err != nil || h.size < 0 {
		return h, fmt.Errorf("%q is no size", plain.Clip(size, 40))
	}
	if h.name = name; name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00") {
		return h, fmt.Errorf("%q is no name of a file", plain.Clip(name, 80))
	}
	return h, nil
}

// maxLine is how long a line of the protocol may be.
const maxLine = 4096

// exchange is one side of the protocol.
type exchange struct {
	p  peer
	in *bufio.Reader
}

func (x exchange) ok() error {
	_, err := x.p.Write([]byte{0})
	return err
}

// refuse says the other side why, and ends it.
func (x exchange) refuse(why error) error {
	_, _ = fmt.Fprintf(x.p, "\x01scp: %s\n", plain.Text(why.Error()))
	return why
}

// answered reads the other side's answer: a byte 0, or its words.
func (x exchange) answered() error {
	code, err := x.in.ReadByte()
	if err != nil {
		return fmt.Errorf("the device hung up: %w", err)
	}
	if code == 0 {
		return nil
	}
	words, _ := x.line()
	return fmt.Errorf("the device says: %s", plain.Clip(words, 200))
}

func (x exchange) line() (string, error) {
	var line []byte
	for len(line) < maxLine {
		b, err := x.in.ReadByte()
		if err != nil || b == '\n' {
			return string(line), err
		}
		line = append(line, b)
	}
	return "", errors.New("a line without an end")
}

func (s *Server) serveSCP(p peer, o order) error {
	x := exchange{p, bufio.NewReader(p)}
	if o.fetch {
		return s.sends(x, o.file)
	}
	return s.receives(x, o.file)
}

// sends gives a staged file.
func (s *Server) sends(x exchange, asked string) error {
	if err := x.answered(); err != nil {
		return err
	}
	staged, err := s.find("SCP", x.p.from, asked)
	if err != nil {
		return x.refuse(err)
	}
	file, err := staged.Open()
	if err != nil {
		s.report("SCP", x.p.from, false, "refused", err.Error())
		return x.refuse(err)
	}
	defer file.Close()
	if _, err := fmt.Fprintf(x.p, "C0644 %d %s\n", staged.Size, staged.Name); err != nil {
		return err
	}
	if err := x.answered(); err != nil {
		s.report("SCP", x.p.from, true, "refused", err.Error())
		return err
	}
	count := s.began("SCP", x.p.from, "fetch", staged.Name, staged.Size, false)
	_, err = io.Copy(counting{x.p, count}, transfer.Whole(file, staged.Size))
	if err == nil {
		err = errors.Join(x.ok(), x.answered())
	}
	count.End(err)
	return err
}

// receives takes what is left here, under the name of a slot that is open.
func (s *Server) receives(x exchange, to string) error {
	if err := x.ok(); err != nil {
		return err
	}
	for {
		line, err := x.line()
		if errors.Is(err, io.EOF) && line == "" {
			return nil // nothing, or nothing more
		}
		if err != nil {
			return err
		}
		if strings.HasPrefix(line, "T") { // times, which are passed over
			if err := x.ok(); err != nil {
				return err
			}
			continue
		}
		h, err := parseHead(line)
		if err == nil {
			err = s.receivesOne(x, to, h)
		}
		if err != nil {
			return x.refuse(err)
		}
	}
}

func (s *Server) receivesOne(x exchange, to string, h head) error {
	upload, err := s.opt.Stage.Receive(strings.TrimPrefix(to, "/"), addrOf(x.p.from).Addr(), h.size)
	if err != nil { // it is left in a folder, as the other side sees it
		upload, err = s.opt.Stage.Receive(h.name, addrOf(x.p.from).Addr(), h.size)
	}
	if err != nil {
		s.report("SCP", x.p.from, true, "refused", err.Error())
		return err
	}
	count := s.began("SCP", x.p.from, "leave", upload.Name, h.size, true)
	err = x.ok()
	if err == nil {
		var got int64
		if got, err = io.CopyN(counting{upload, count}, x.in, h.size); errors.Is(err, io.EOF) {
			err = fmt.Errorf("the device hung up with %d of %d B", got, h.size)
		}
	}
	if err == nil {
		err = x.answered() // the sender's word that it was whole
	}
	if err == nil {
		err = upload.Keep()
	} else {
		upload.Drop()
	}
	count.End(err)
	if err == nil {
		err = x.ok()
	}
	return err
}

// counting counts what is written.
type counting struct {
	io.Writer
	count interface{ Add(n int) }
}

func (c counting) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.count.Add(n)
	return n, err
}
