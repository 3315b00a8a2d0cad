package cormel

import (
	"context"
	"crypto/md5"
	"errors"
	"fmt"
	"io"
	"strings"

	"pilotrix/bench"
)

// stickRoom is the room of a stick in the port, in bytes.
const stickRoom = 1 << 30

// PlugStick implements bench.Sticks: it puts a stick with files into the port, or takes it out where there are none.
func (g *Gateway) PlugStick(files ...bench.File) error {
	var stick *bench.Store
	if len(files) > 0 {
		stick = &bench.Store{Capacity: stickRoom}
	}
	for _, file := range files {
		if err := stick.Put(file); err != nil {
			return err
		}
	}
	g.Mu.Lock()
	defer g.Mu.Unlock()
	g.stick = stick
	return nil
}

func (g *Gateway) plugged() *bench.Store {
	g.Mu.Lock()
	defer g.Mu.Unlock()
	return g.stick
}

// lookStick lists the stick, each file that can be read whole with its MD5.
func (l *lark) lookStick([]string) error {
	stick := l.plugged()
	if stick == nil {
		l.Say("  no stick in the port\r\n")
		return nil
	}
	var out strings.Builder
	for _, file := range stick.Files() {
		sum := "cannot be read"
		if !file.Broken {
			sum = fmt.Sprintf("md5 %x", md5.Sum(file.Data)) //nolint:gosec // what old devices tell
		}
		fmt.Fprintf(&out, "  %-20s  %11s B  %s\r\n", file.Name, bench.Commas(len(file.Data)), sum)
	}
	l.Say(out.String())
	return nil
}

// haulStick brings a file of the stick into the bank that does not run.
func (l *lark) haulStick(args []string) error {
	stick := l.plugged()
	if stick == nil {
		return errors.New("no stick in the port")
	}
	file, there := stick.Get(args[0])
	if !there {
		return fmt.Errorf("no file %s on the stick", args[0])
	}
	return l.began(file.Name, func(_ context.Context, to io.Writer, size func(int)) error {
		size(len(file.Data))
		return l.copyOff(file, to)
	})
}

// copyOff copies a file off the stick in blocks, for as long as the stick is in the port.
func (l *lark) copyOff(file bench.File, to io.Writer) error {
	const block = 64 << 10
	for at := 0; at < len(file.Data); at += block {
		if l.plugged() == nil {
			return errors.New("the stick was pulled out")
		}
		if _, err := to.Write(file.Data[at:min(at+block, len(file.Data))]); err != nil {
			return err
		}
	}
	if file.Broken {
		return errors.New("the stick cannot be read to the end")
	}
	return nil
}
