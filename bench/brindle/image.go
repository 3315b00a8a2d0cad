package brindle

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
)

// An image of this family is a head of text lines, an empty line, then the body:
//
//	BRINDLE IMAGE 1
//	maker: Brindle
//	models: R40-1, R40-2
//	release: 4.2.1
//	architecture: wren32
//	length: 1310720
//	digest: <sha256 of the body, hexadecimal>
//
// Length counts the body in bytes.
const magic = "BRINDLE IMAGE 1"

// Architecture is the one processor family that these routers have.
const Architecture = "wren32"

// ImageInfo is what an image's head says.
type ImageInfo struct {
	Models       []string
	Release      string
	Architecture string
	Length       int
	Digest       string
}

// MakeImage makes an image on the spot, the same for the same arguments. Size counts the body.
func MakeImage(release string, models []string, size int) []byte {
	sum := sha256.Sum256([]byte(release + strings.Join(models, ",")))
	random := rand.NewChaCha8(sum)
	body := make([]byte, size)
	_, _ = random.Read(body)
	digest := sha256.Sum256(body)
	var out bytes.Buffer
	fmt.Fprintf(&out, "%s\nmaker: Brindle\nmodels: %s\nrelease: %s\narchitecture: %s\nlength: %d\ndigest: %s\n\n",
		magic, strings.Join(models, ", "), release, Architecture, size, hex.EncodeToString(digest[:]))
	out.Write(body)
	return out.Bytes()
}

// parseImage checks an image whole and returns it without what a transfer padded it with.
func parseImage(data []byte) (info ImageInfo, whole []byte, err error) {
	head, body, found := bytes.Cut(data, []byte("\n\n"))
	lines := strings.Split(string(head), "\n")
	if !found || len(head) > 4096 || lines[0] != magic {
		return info, nil, fmt.Errorf("not an image for this family")
	}
	for _, line := range lines[1:] {
		key, value, _ := strings.Cut(line, ": ")
		switch key {
		case "models":
			info.Models = strings.Split(value, ", ")
		case "release":
			info.Release = value
		case "architecture":
			info.Architecture = value
		case "length":
			info.Length, _ = strconv.Atoi(value)
		case "digest":
			info.Digest = value
		}
	}
	if info.Length <= 0 || len(body) < info.Length {
		return info, nil, fmt.Errorf("cut short: %d of %d B of its body", len(body), info.Length)
	}
	body = body[:info.Length]
	if sum := sha256.Sum256(body); hex.EncodeToString(sum[:]) != info.Digest {
		return info, nil, fmt.Errorf("its digest does not match its body")
	}
	return info, data[:len(head)+2+info.Length], nil
}
