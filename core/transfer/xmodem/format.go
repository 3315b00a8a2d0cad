// Package xmodem is XMODEM (checksum and CRC-16), XMODEM-1K and YMODEM (batch and streaming), as
// sender and as receiver.
//
// Sources: Ward Christensen's MODEM protocol overview (1982); Chuck Forsberg, "XMODEM/YMODEM
// Protocol Reference" (1988), cited below as XYMODEM with its chapter. The CRC is CCITT's polynomial
// x^16+x^12+x^5+1 with a start value of 0, most significant bit first.
package xmodem

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Control characters, XYMODEM chapter 7 (definitions) and 6.3 (streaming).
const (
	soh = 0x01 // begins a block of 128 bytes
	stx = 0x02 // begins a block of 1024 bytes
	eot = 0x04 // ends a file
	ack = 0x06
	nak = 0x15 // also: start, with checksums
	can = 0x18 // two in a row cancel
	bs  = 0x08 // takes back what a cancel typed into a shell
	crc = 'C'  // start, with CRC-16
	str = 'G'  // start, with CRC-16 and without answers
	pad = 0x1a
)

const (
	smallBlock = 128
	largeBlock = 1024
)

// Wire layout of a block: begin, number, 255-number, data, then a sum of one byte or a CRC of two
// with its high byte first.

// frame appends a block to out.
func frame(out []byte, number byte, data []byte, checksum bool) []byte {
	begin := byte(soh)
	if len(data) == largeBlock {
		begin = stx
	}
	out = append(out, begin, number, ^number)
	out = append(out, data...)
	if checksum {
		return append(out, sum8(data))
	}
	check := crc16(data)
	return append(out, byte(check>>8), byte(check))
}

func sum8(data []byte) (sum byte) {
	for _, b := range data {
		sum += b
	}
	return sum
}

var crcTable = func() (table [256]uint16) {
	for i := range table {
		value := uint16(i) << 8
		for range 8 {
			if value&0x8000 != 0 {
				value = value<<1 ^ 0x1021
			} else {
				value <<= 1
			}
		}
		table[i] = value
	}
	return table
}()

func crc16(data []byte) (check uint16) {
	for _, b := range data {
		check = check<<8 ^ crcTable[byte(check>>8)^b]
	}
	return check
}

// Header is what YMODEM says of a file before sending it, XYMODEM chapter 5. Size is -1 when it was
// not said.
type Header struct {
	Name     string
	Size     int64
	Modified time.Time
}

// block lays the header out: name, NUL, then size (decimal), time (octal seconds) and mode (octal).
func (h Header) block() ([]byte, error) {
	if strings.ContainsAny(h.Name, "\x00") || h.Name == "" {
		return nil, fmt.Errorf("file name %q cannot be sent by YMODEM", h.Name)
	}
	fields := ""
	if h.Size >= 0 {
		fields = strconv.FormatInt(h.Size, 10)
		if !h.Modified.IsZero() {
			fields += " " + strconv.FormatInt(h.Modified.Unix(), 8) + " 100644"
		}
	}
	text := h.Name + "\x00" + fields + "\x00"
	size := smallBlock
	if len(text) > smallBlock {
		size = largeBlock
	}
	if len(text) > size {
		return nil, fmt.Errorf("file name of %d bytes is too long for YMODEM", len(h.Name))
	}
	return append([]byte(text), make([]byte, size-len(text))...), nil
}

// parseHeader reads block 0. An empty name ends the batch.
func parseHeader(block []byte) (h Header, last bool, err error) {
	name, rest, found := strings.Cut(string(block), "\x00")
	if name == "" {
		return Header{}, true, nil
	}
	if !found {
		return Header{}, false, fmt.Errorf("YMODEM header without an end of the name: %.40q", block)
	}
	h = Header{Name: name, Size: -1}
	text, _, _ := strings.Cut(rest, "\x00")
	fields := strings.Fields(text)
	if len(fields) > 0 {
		if h.Size, err = strconv.ParseInt(fields[0], 10, 64); err != nil || h.Size < 0 {
			return Header{}, false, fmt.Errorf("YMODEM header of %.40q: size %.20q is no number", name, fields[0])
		}
	}
	if len(fields) > 1 {
		if seconds, err := strconv.ParseInt(fields[1], 8, 64); err == nil && seconds > 0 {
			h.Modified = time.Unix(seconds, 0).UTC()
		}
	}
	return h, false, nil
}
