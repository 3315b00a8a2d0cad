package line

// Signals are what the other end of a serial line shows on its wires, each true while it is on. A cable of three wires
// carries none of them.
type Signals struct{ CTS, DSR, DCD, RI bool }

// Signaller is a line that can say them.
type Signaller interface {
	// Signals are those that are on now; known is false where they cannot be reported.
	Signals() (s Signals, known bool)
}

// Troubled is a line that is reported of errors on the wire by its other end.
type Troubled interface {
	// Troubles are those since the last call, in words.
	Troubles() []string
}

// Masks of a console server's port, RFC 2217 section 3, "NOTIFY-MODEMSTATE" and "NOTIFY-LINESTATE".
const (
	maskDCD = 128
	maskRI  = 64
	maskDSR = 32
	maskCTS = 16

	maskBreak   = 16
	maskFraming = 8
	maskParity  = 4
	maskOverrun = 2
)

func signalsOf(modem byte) Signals {
	return Signals{CTS: modem&maskCTS != 0, DSR: modem&maskDSR != 0, DCD: modem&maskDCD != 0, RI: modem&maskRI != 0}
}

func troublesOf(line byte) (words []string) {
	for _, one := range []struct {
		mask byte
		word string
	}{{maskFraming, "framing errors"}, {maskParity, "parity errors"}, {maskOverrun, "an overrun"}, {maskBreak, "a break"}} {
		if line&one.mask != 0 {
			words = append(words, one.word)
		}
	}
	return words
}
