package plain

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode/utf8"
)

// Writer makes what passes through it safe to show on a terminal: line ends and tabs stay, and what else acts becomes a
// dot, or its number where it may stand in JSON, which says the same by it. It is the last step before an output,
// whatever was forgotten before.
type Writer struct {
	To   io.Writer
	Also string // what else stays, such as the carriage return of a line that is drawn again

	mu   sync.Mutex
	held []byte // the beginning of a character whose rest has not come
}

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	rest := append(w.held, p...)
	w.held = nil
	var out strings.Builder
	for len(rest) > 0 {
		r, size := utf8.DecodeRune(rest)
		if r == utf8.RuneError && size == 1 && !utf8.FullRune(rest) {
			w.held = append([]byte(nil), rest...)
			break
		}
		switch {
		case r == utf8.RuneError && size == 1:
			out.WriteRune('·')
		case r == '\n' || r == '\t' || strings.ContainsRune(w.Also, r) || !Acts(r):
			out.Write(rest[:size])
		case r >= 0x7f:
			fmt.Fprintf(&out, `\u%04x`, r)
		default:
			out.WriteRune('·')
		}
		rest = rest[size:]
	}
	if _, err := io.WriteString(w.To, out.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}
