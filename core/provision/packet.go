package provision

import (
	"bytes"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"github.com/insomniacslk/dhcp/dhcpv4"
)

// Where fields are in a message (RFC 2131 §2, figure 1).
const (
	serverNameAt = 44
	fileAt       = 108
	cookieAt     = 236
)

const optionOverload = 52 // RFC 2132 §9.3: where more options are

// parse reads a message as clients write them: the end of its options may be missing, and more of them may be in the
// fields of the server's name and of the file.
func parse(data []byte) (*dhcpv4.DHCPv4, error) {
	m, err := dhcpv4.FromBytes(data)
	if err != nil { // an option that has no end stays an error
		m, err = dhcpv4.FromBytes(append(bytes.Clone(data), dhcpv4.OptionEnd.Code()))
	}
	if err != nil {
		return nil, err
	}
	where := m.Options.Get(dhcpv4.GenericOptionCode(optionOverload))
	if len(where) != 1 || where[0] < 1 || where[0] > 3 {
		return m, nil
	}
	fields := [][]byte{}
	if where[0]&1 != 0 {
		fields, m.BootFileName = append(fields, data[fileAt:cookieAt]), ""
	}
	if where[0]&2 != 0 {
		fields, m.ServerHostName = append(fields, data[serverNameAt:fileAt]), ""
	}
	for _, field := range fields {
		if err := m.Options.FromBytes(field); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// Custom are options by their numbers, as they go out.
type Custom map[uint8][]byte

// decided are the options that this server says itself, or a client does.
var decided = map[uint8]string{
	0:   "padding",
	1:   "the network's mask",
	50:  "the address that is asked for",
	51:  "the lease",
	52:  "where options are",
	53:  "the kind of message",
	54:  "this server",
	55:  "what a client asks for",
	57:  "a client's largest message",
	58:  "the lease",
	59:  "the lease",
	61:  "a client's identity",
	82:  "a relay's words",
	255: "the end",
}

const maxCustom = 510 // bytes of one option, which is split (RFC 3396)

// ParseOption reads the value of an option: addresses (192.0.2.10, or several with blanks between), bytes (hex 01 04 c0
// 00 02 0a), or else a text.
func ParseOption(number, text string) (code uint8, value []byte, err error) {
	n, err := strconv.ParseUint(number, 10, 8)
	if err != nil {
		return 0, nil, fmt.Errorf("%q is no option: want a number from 2 to 254", number)
	}
	code = uint8(n)
	if what, own := decided[code]; own {
		return code, nil, fmt.Errorf("option %d is %s, which is not given by hand", code, what)
	}
	if digits, ok := strings.CutPrefix(text, "hex "); ok {
		for _, one := range strings.FieldsFunc(digits, func(r rune) bool { return r == ' ' || r == ':' }) {
			b, err := strconv.ParseUint(one, 16, 8)
			if err != nil || len(one) != 2 {
				return code, nil, fmt.Errorf("option %d: %q is no byte: want two digits, such as hex 01 04 c0", code,
					one)
			}
			value = append(value, byte(b))
		}
	} else if value = addresses(text); value == nil {
		value = []byte(text)
	}
	switch {
	case len(value) == 0:
		return code, nil, fmt.Errorf("option %d has no value", code)
	case len(value) > maxCustom:
		return code, nil, fmt.Errorf("option %d has %d bytes; %d are the most", code, len(value), maxCustom)
	}
	return code, value, nil
}

func addresses(text string) (value []byte) {
	for _, one := range strings.Fields(text) {
		addr, err := netip.ParseAddr(one)
		if err != nil || !addr.Is4() {
			return nil
		}
		value = append(value, addr.AsSlice()...)
	}
	return value
}
