package bench

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
)

// An image of the bench is a head of text lines, an empty line, then the body:
//
//	BRINDLE IMAGE 1
//	maker: Brindle
//	models: R40-1, R40-2
//	release: 4.2.1
//	length: 1310720
//	digest: <sha256 of the body, hexadecimal>
//
// The first line is the family's own, as is what stands between it and the last two. Length counts the body in bytes.

// Field is a line of a head.
type Field struct{ Name, Value string }

// MakeImage makes one on the spot, the same for the same arguments. Fields without a value are left out; size counts
// the body.
func MakeImage(magic, seed string, size int, fields ...Field) []byte {
	random := rand.NewChaCha8(sha256.Sum256([]byte(seed)))
	body := make([]byte, size)
	_, _ = random.Read(body)
	digest := sha256.Sum256(body)
	var out bytes.Buffer
	fmt.Fprintln(&out, magic)
	for _, field := range append(fields, Field{"length", strconv.Itoa(size)},
		Field{"digest", hex.EncodeToString(digest[:])}) {
		if field.Value != "" {
			fmt.Fprintf(&out, "%s: %s\n", field.Name, field.Value)
		}
	}
	out.WriteByte('\n')
	out.Write(body)
	return out.Bytes()
}

// ReadHead reads the head of a file of the bench, and returns what stands after it.
func ReadHead(data []byte, magic string) (fields map[string]string, body []byte, err error) {
	text, body, _ := bytes.Cut(data, []byte("\n\n"))
	lines := strings.Split(strings.TrimRight(string(text[:min(len(text), 4096)]), "\n"), "\n")
	if lines[0] != magic {
		return nil, nil, errors.New("not of this family")
	}
	fields = map[string]string{}
	for _, line := range lines[1:] {
		key, value, _ := strings.Cut(line, ": ")
		fields[key] = value
	}
	return fields, body, nil
}

// ReadImage checks an image whole, and returns it without what a transfer has padded it with.
func ReadImage(data []byte, magic string) (fields map[string]string, whole []byte, err error) {
	fields, body, err := ReadHead(data, magic)
	if err != nil {
		return nil, nil, err
	}
	length, _ := strconv.Atoi(fields["length"])
	if length <= 0 || len(body) < length {
		return fields, nil, fmt.Errorf("cut short: %d of %d B of its body", len(body), length)
	}
	if sum := sha256.Sum256(body[:length]); hex.EncodeToString(sum[:]) != fields["digest"] {
		return fields, nil, errors.New("its digest does not match its body")
	}
	return fields, data[:len(data)-len(body)+length], nil
}

// Commas writes a number as people read it.
func Commas(n int) string {
	text := strconv.Itoa(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// YesNo is how a device says it.
func YesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// Dash is text, or what a device shows where it has none.
func Dash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

// Older reports whether a release, such as 5.2.1, comes before another.
func Older(a, b string) bool {
	as, bs := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(as), len(bs)) {
		x, _ := strconv.Atoi(as[i])
		y, _ := strconv.Atoi(bs[i])
		if x != y {
			return x < y
		}
	}
	return len(as) < len(bs)
}
