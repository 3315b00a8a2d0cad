package tftp

import "io"

// Netascii (RFC 764, by way of RFC 1350 §1): a line ends in CR LF, and a CR alone is written CR NUL.

// toNetascii turns a host's text, whose lines end in LF, into netascii.
type toNetascii struct {
	source io.Reader
	left   []byte // encoded and not read yet
	plain  [4096]byte
}

func (t *toNetascii) Read(p []byte) (int, error) {
	for len(t.left) == 0 {
		n, err := t.source.Read(t.plain[:])
		for _, b := range t.plain[:n] {
			switch b {
			case '\n':
				t.left = append(t.left, '\r', '\n')
			case '\r':
				t.left = append(t.left, '\r', 0)
			default:
				t.left = append(t.left, b)
			}
		}
		if n == 0 && err != nil {
			return 0, err
		}
	}
	n := copy(p, t.left)
	t.left = t.left[n:]
	return n, nil
}

// fromNetascii is its mirror. A CR at the end of a block waits for what follows it.
type fromNetascii struct {
	sink io.Writer
	cr   bool
}

func (f *fromNetascii) Write(p []byte) (int, error) {
	out := make([]byte, 0, len(p)+1)
	for _, b := range p {
		if f.cr {
			f.cr = false
			switch b {
			case '\n':
				out = append(out, '\n')
				continue
			case 0:
				out = append(out, '\r')
				continue
			}
			out = append(out, '\r') // a CR that means nothing else stands for itself
		}
		if b == '\r' {
			f.cr = true
			continue
		}
		out = append(out, b)
	}
	if _, err := f.sink.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// end writes a CR that nothing followed.
func (f *fromNetascii) end() error {
	if !f.cr {
		return nil
	}
	_, err := f.sink.Write([]byte{'\r'})
	return err
}
