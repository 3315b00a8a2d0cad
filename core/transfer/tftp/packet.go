// Package tftp moves files by TFTP: a server and a client, written from RFC 1350 (the protocol, version
// 2), RFC 2347 (options), RFC 2348 (block size), RFC 2349 (timeout and transfer size) and RFC 7440
// (windows).
//
// packet.go states the wire; sender.go and receiver.go are the two halves of every transfer; server.go
// and client.go say who begins one.
package tftp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"

	"pilotrix/core/plain"
)

// Operations, RFC 1350 §5; OACK is RFC 2347 §"Negotiation Protocol".
const (
	opRead    = 1
	opWrite   = 2
	opData    = 3
	opAck     = 4
	opError   = 5
	opOptions = 6
)

// Code says what an error packet is about: RFC 1350 §"Appendix" and RFC 2347.
type Code uint16

// The codes.
const (
	CodeOther     Code = 0 // see the message
	CodeNotFound  Code = 1
	CodeAccess    Code = 2
	CodeFull      Code = 3
	CodeIllegal   Code = 4
	CodeUnknownID Code = 5 // a packet from another port than the transfer's
	CodeExists    Code = 6
	CodeNoUser    Code = 7
	CodeOptions   Code = 8 // RFC 2347: the options are refused
)

var codeText = map[Code]string{
	CodeOther:     "error",
	CodeNotFound:  "file not found",
	CodeAccess:    "not allowed",
	CodeFull:      "disk full",
	CodeIllegal:   "illegal packet",
	CodeUnknownID: "unknown transfer",
	CodeExists:    "file exists",
	CodeNoUser:    "no such user",
	CodeOptions:   "options refused",
}

func (c Code) String() string {
	if words, known := codeText[c]; known {
		return words
	}
	return fmt.Sprintf("error %d", uint16(c))
}

// Refused is an error packet of the other side.
type Refused struct {
	Code    Code
	Message string
}

func (e *Refused) Error() string {
	if e.Message == "" || strings.EqualFold(e.Message, e.Code.String()) {
		return "the other side says: " + e.Code.String()
	}
	return fmt.Sprintf("the other side says: %s (%s)", e.Message, e.Code)
}

// Sizes. A block without options has 512 bytes (RFC 1350 §2); the largest that may be asked for is
// RFC 2348's. A request is read up to RFC 2347's limit, "512 octets".
const (
	DefaultBlock = 512
	minBlock     = 8
	MaxBlock     = 65464
	headSize     = 4
	maxRequest   = 512
	maxMessage   = 200 // of an error's text that is shown
)

// Modes of RFC 1350 §1; mail is obsolete there and refused here.
const (
	Octet    = "octet"
	Netascii = "netascii"
)

// request is RRQ or WRQ, RFC 1350 figure 5-1 with the options of RFC 2347.
type request struct {
	write   bool
	name    string
	mode    string
	options []option // in the order they came
}

type option struct{ name, value string }

func (r request) option(name string) (string, bool) {
	for _, o := range r.options {
		if o.name == name {
			return o.value, true
		}
	}
	return "", false
}

// packet is any packet read. Data points into the buffer it was read from.
type packet struct {
	op      uint16
	request request
	block   uint16
	data    []byte
	options []option
	refused Refused
}

var (
	errShort   = errors.New("it is cut short")
	errStrings = errors.New("its strings do not end in zero bytes")
)

// parse reads one packet. Nothing of it is trusted: every length is checked, strings are bounded, and
// options appear once (RFC 2347: "An option may only be specified once").
func parse(p []byte) (packet, error) {
	if len(p) < 2 {
		return packet{}, errShort
	}
	got := packet{op: binary.BigEndian.Uint16(p)}
	rest := p[2:]
	var err error
	switch got.op {
	case opRead, opWrite:
		got.request, err = parseRequest(rest, len(p))
		got.request.write = got.op == opWrite
	case opData, opAck:
		if len(rest) < 2 {
			return got, errShort
		}
		got.block, got.data = binary.BigEndian.Uint16(rest), rest[2:]
	case opError:
		if len(rest) < 2 {
			return got, errShort
		}
		message, _, _ := bytes.Cut(rest[2:], []byte{0})
		got.refused = Refused{Code(binary.BigEndian.Uint16(rest)), clean(message)}
	case opOptions:
		var texts []string
		if texts, err = zeroEnded(rest); err == nil {
			got.options, err = pairs(texts)
		}
	default:
		err = fmt.Errorf("its operation %d is none of TFTP's", got.op)
	}
	return got, err
}

func parseRequest(rest []byte, whole int) (request, error) {
	padding := len(rest) - len(bytes.TrimRight(rest, "\x00"))
	if whole-padding > maxRequest { // some send the whole of a buffer, which may be longer
		return request{}, fmt.Errorf("it has %d bytes; a request has at most %d", whole, maxRequest)
	}
	texts, err := zeroEnded(rest)
	if errors.Is(err, errStrings) { // old loaders leave the last one out
		texts, err = zeroEnded(append(slices.Clone(rest), 0))
	}
	if err != nil {
		return request{}, err
	}
	if len(texts) < 2 {
		return request{}, errShort
	}
	r := request{name: texts[0], mode: strings.ToLower(texts[1])}
	if r.name == "" {
		return r, errors.New("it names no file")
	}
	if slices.Contains(likeOctet, r.mode) {
		r.mode = Octet
	}
	if r.mode != Octet && r.mode != Netascii {
		return r, fmt.Errorf("its mode %q is neither octet nor netascii", clean([]byte(r.mode)))
	}
	r.options = wished(texts[2:])
	return r, err
}

// likeOctet are what old loaders call that mode.
var likeOctet = []string{"binary", "image"}

// wished are the options of a request. What is none there is passed over, as an option that is not known is: the rest
// of a buffer, one without a value, one that is there once more.
func wished(texts []string) (options []option) {
	for i := 0; i+1 < len(texts); i += 2 {
		o := option{strings.ToLower(texts[i]), texts[i+1]}
		again := slices.ContainsFunc(options, func(before option) bool { return before.name == o.name })
		if o.name != "" && o.value != "" && !again {
			options = append(options, o)
		}
	}
	return options
}

// zeroEnded splits strings that each end in a zero byte.
func zeroEnded(p []byte) (texts []string, err error) {
	for len(p) > 0 {
		text, rest, ended := bytes.Cut(p, []byte{0})
		if !ended {
			return nil, errStrings
		}
		texts, p = append(texts, string(text)), rest
	}
	return texts, nil
}

// pairs reads option names (letter case does not matter, RFC 2347) and values.
func pairs(texts []string) (options []option, err error) {
	if len(texts)%2 != 0 {
		return nil, errors.New("its last option has no value")
	}
	for i := 0; i < len(texts); i += 2 {
		o := option{strings.ToLower(texts[i]), texts[i+1]}
		for _, before := range options {
			if before.name == o.name {
				return nil, fmt.Errorf("its option %s is there twice", clean([]byte(o.name)))
			}
		}
		options = append(options, o)
	}
	return options, nil
}

// clean makes what the other side wrote fit to be shown, and short.
func clean(p []byte) string { return plain.Text(string(p[:min(len(p), maxMessage)])) }

// put forms, each the mirror of its part of parse.

func putRequest(r request) []byte {
	op := uint16(opRead)
	if r.write {
		op = opWrite
	}
	out := binary.BigEndian.AppendUint16(nil, op)
	out = append(append(out, r.name...), 0)
	out = append(append(out, r.mode...), 0)
	return putPairs(out, r.options)
}

func putOptions(options []option) []byte {
	return putPairs(binary.BigEndian.AppendUint16(nil, opOptions), options)
}

func putPairs(out []byte, options []option) []byte {
	for _, o := range options {
		out = append(append(out, o.name...), 0)
		out = append(append(out, o.value...), 0)
	}
	return out
}

// putHead writes the four bytes that begin a data or acknowledgement packet.
func putHead(p []byte, op, block uint16) {
	binary.BigEndian.PutUint16(p, op)
	binary.BigEndian.PutUint16(p[2:], block)
}

func putError(code Code, message string) []byte {
	out := binary.BigEndian.AppendUint16(nil, opError)
	out = binary.BigEndian.AppendUint16(out, uint16(code))
	return append(append(out, message...), 0)
}
