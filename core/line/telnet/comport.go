package telnet

import (
	"encoding/binary"
	"fmt"
)

// Com-port control, RFC 2217 section 3: what the client sends; the server's answer has 100 more.
const (
	portSignature    = 0
	portBaud         = 1
	portDataSize     = 2
	portParity       = 3
	portStopSize     = 4
	portControl      = 5
	portLineState    = 6
	portModemState   = 7
	portSuspend      = 8
	portResume       = 9
	portLineMask     = 10
	portModemMask    = 11
	portPurge        = 12
	portFromServer   = 100
	maxPortSignature = 255
)

// PortSet is one setting of the port, with the number that stands for its value.
type PortSet struct {
	command byte
	value   []byte
	what    string
}

// String is the setting in words.
func (s PortSet) String() string { return s.what }

// Request is what asks for it.
func (s PortSet) Request() []byte { return Sub(ComPort, append([]byte{s.command}, s.value...)) }

// Baud sets the speed, RFC 2217 "SET-BAUDRATE": four bytes, the first the highest.
func Baud(baud int) PortSet {
	return PortSet{portBaud, binary.BigEndian.AppendUint32(nil, uint32(baud)), fmt.Sprintf("%d baud", baud)}
}

// parities and stop sizes, RFC 2217 "SET-PARITY", "SET-STOPSIZE".
var (
	parities  = map[byte]byte{'N': 1, 'O': 2, 'E': 3, 'M': 4, 'S': 5}
	stopSizes = map[int]byte{1: 1, 2: 2}
)

// Framing sets data bits, parity and stop bits.
func Framing(dataBits int, parity byte, stopBits int) []PortSet {
	return []PortSet{
		{portDataSize, []byte{byte(dataBits)}, fmt.Sprintf("%d data bits", dataBits)},
		{portParity, []byte{parities[parity]}, "parity " + string(parity)},
		{portStopSize, []byte{stopSizes[stopBits]}, fmt.Sprintf("%d stop bits", stopBits)},
	}
}

// Values of SET-CONTROL, RFC 2217.
const (
	controlNoFlow   = 1
	controlSoftFlow = 2
	controlHardFlow = 3
	controlBreakOn  = 5
	controlBreakOff = 6
	controlDTROn    = 8
	controlDTROff   = 9
	controlRTSOn    = 11
	controlRTSOff   = 12
)

var flows = map[string]byte{"none": controlNoFlow, "xonxoff": controlSoftFlow, "rtscts": controlHardFlow}

// Flow sets the flow control: none, xonxoff or rtscts.
func Flow(flow string) PortSet {
	return PortSet{portControl, []byte{flows[flow]}, "flow control " + flow}
}

// PortBreak begins or ends a break.
func PortBreak(on bool) PortSet { return control(on, controlBreakOn, controlBreakOff, "break") }

// DTR sets that signal.
func DTR(on bool) PortSet { return control(on, controlDTROn, controlDTROff, "DTR") }

// RTS sets that signal.
func RTS(on bool) PortSet { return control(on, controlRTSOn, controlRTSOff, "RTS") }

func control(on bool, onValue, offValue byte, what string) PortSet {
	if on {
		return PortSet{portControl, []byte{onValue}, what + " on"}
	}
	return PortSet{portControl, []byte{offValue}, what + " off"}
}

// Purge drops what the server holds and has not sent, RFC 2217 "PURGE-DATA": 2 is the transmit buffer.
func Purge() PortSet { return PortSet{portPurge, []byte{2}, "purge"} }

// Watch asks for the changes of the modem's signals and of the line's errors, each by a mask of one byte.
func Watch(modem, line byte) []PortSet {
	return []PortSet{{portModemMask, []byte{modem}, "modem state"}, {portLineMask, []byte{line}, "line state"}}
}

// PortSays is what a server says of its port.
type PortSays struct {
	Answers byte // the command that is answered, 0 for none
	Is      bool // it answers one
	Value   int  // as it is set now

	Modem, Line     byte // the states, where they are reported
	IsModem, IsLine bool
	Suspend, Resume bool // the server's buffer is full, or has room again
	Signature       string
}

// ParsePort reads a message of the com-port option. A malformed one is an error, which can be left alone.
func ParsePort(data []byte) (says PortSays, err error) {
	if len(data) == 0 {
		return says, fmt.Errorf("an empty message of com-port control")
	}
	if data[0] < portFromServer {
		return says, fmt.Errorf("com-port control: %d is nothing that a server says", data[0])
	}
	command, value := data[0]-portFromServer, data[1:]
	one := func() int {
		if len(value) != 1 {
			err = fmt.Errorf("com-port control: the answer to %d has %d bytes instead of 1", command, len(value))
			return 0
		}
		return int(value[0])
	}
	switch command {
	case portSignature:
		says.Signature = string(value[:min(len(value), maxPortSignature)])
	case portBaud:
		if len(value) != 4 {
			return says, fmt.Errorf("com-port control: a speed of %d bytes instead of 4", len(value))
		}
		says.Answers, says.Is, says.Value = command, true, int(binary.BigEndian.Uint32(value))
	case portDataSize, portParity, portStopSize, portControl, portLineMask, portModemMask, portPurge:
		says.Answers, says.Is, says.Value = command, true, one()
	case portLineState:
		says.Line, says.IsLine = byte(one()), true
	case portModemState:
		says.Modem, says.IsModem = byte(one()), true
	case portSuspend:
		says.Suspend = true
	case portResume:
		says.Resume = true
	default:
		err = fmt.Errorf("com-port control: %d is no command", command)
	}
	return says, err
}

// Answers reports whether a server's word answers a setting, and how the port is set now.
func (s PortSet) Answers(says PortSays) (value int, ok bool) {
	return says.Value, says.Is && says.Answers == s.command
}

// Value is the number that was asked for.
func (s PortSet) Value() int {
	if len(s.value) == 4 {
		return int(binary.BigEndian.Uint32(s.value))
	}
	return int(s.value[0])
}
