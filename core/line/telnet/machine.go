package telnet

import "slices"

// Machine is one connection. It is used by one goroutine.
type Machine struct {
	opt   Options
	state state
	us    [256]side // what we do
	them  [256]side // what the other side does

	sub     []byte
	tooLong bool
	afterCR bool // of what came, outside of binary

	data     []byte
	replies  []byte
	messages []Message
}

// state is what the next byte is taken for.
type state func(m *Machine, b byte) state

// New makes the client's side of a connection, or the server's.
func New(opt Options) *Machine {
	return &Machine{opt: opt, state: inData}
}

// Begin is what the client opens with: the options that it wants.
func (m *Machine) Begin() []byte {
	if m.opt.Server {
		m.ask(&m.us[Echo], cmdWill, Echo)
		m.ask(&m.us[SuppressGA], cmdWill, SuppressGA)
		m.ask(&m.them[WindowSize], cmdDo, WindowSize)
		return m.Replies()
	}
	m.ask(&m.them[SuppressGA], cmdDo, SuppressGA)
	m.ask(&m.us[TerminalType], cmdWill, TerminalType)
	m.ask(&m.us[WindowSize], cmdWill, WindowSize)
	if m.opt.Binary || m.opt.ComPort {
		m.ask(&m.them[Binary], cmdDo, Binary)
		m.ask(&m.us[Binary], cmdWill, Binary)
	}
	if m.opt.ComPort { // RFC 2217 section 2: the client offers it
		m.ask(&m.us[ComPort], cmdWill, ComPort)
	}
	return m.Replies()
}

// Receive takes in what came and returns the data in it.
func (m *Machine) Receive(p []byte) []byte {
	m.data = make([]byte, 0, len(p))
	for _, b := range p {
		m.state = m.state(m, b)
	}
	return m.data
}

// Replies are the answers to what was received, to be sent before anything else.
func (m *Machine) Replies() []byte {
	replies := m.replies
	m.replies = nil
	return replies
}

// Messages are the subnegotiations that came and are not the machine's own.
func (m *Machine) Messages() []Message {
	messages := m.messages
	m.messages = nil
	return messages
}

// Ours reports whether we do an option, Theirs whether the other side does.
func (m *Machine) Ours(o Option) bool { return m.us[o].is == yes }

// Theirs reports whether the other side does an option.
func (m *Machine) Theirs(o Option) bool { return m.them[o].is == yes }

// Refused reports whether the other side does not want us to do what we offered.
func (m *Machine) Refused(o Option) bool { return m.us[o].is == no && m.us[o].asked }

// Encode makes data ready to be sent: IAC is doubled (RFC 854), and outside of binary a CR is followed by NUL unless
// by LF (RFC 854, "the NVT printer and keyboard").
func (m *Machine) Encode(p []byte) []byte {
	out := make([]byte, 0, len(p)+8)
	for i, b := range p {
		out = append(out, b)
		switch {
		case b == cmdIAC:
			out = append(out, cmdIAC)
		case b == '\r' && !m.Ours(Binary) && (i+1 == len(p) || p[i+1] != '\n'):
			out = append(out, 0)
		}
	}
	return out
}

// Resize is what says a new size of the window, nothing where the other side does not want to know.
func (m *Machine) Resize(cols, rows int) []byte {
	m.opt.Cols, m.opt.Rows = cols, rows
	if !m.Ours(WindowSize) {
		return nil
	}
	return m.size()
}

func (m *Machine) size() []byte { // RFC 1073 section 2
	if m.opt.Cols <= 0 || m.opt.Rows <= 0 {
		return nil
	}
	return Sub(WindowSize, []byte{byte(m.opt.Cols >> 8), byte(m.opt.Cols), byte(m.opt.Rows >> 8), byte(m.opt.Rows)})
}

// Break is the break of RFC 854.
func Break() []byte { return []byte{cmdIAC, cmdBRK} }

// Sub is a subnegotiation, its data doubled where need be (RFC 855).
func Sub(o Option, data []byte) []byte {
	out := []byte{cmdIAC, cmdSB, byte(o)}
	for _, b := range data {
		out = append(out, b)
		if b == cmdIAC {
			out = append(out, cmdIAC)
		}
	}
	return append(out, cmdIAC, cmdSE)
}

func inData(m *Machine, b byte) state {
	switch {
	case b == cmdIAC:
		return inCommand
	case m.Theirs(Binary):
		m.afterCR = false
	case m.afterCR:
		m.afterCR = false
		if b == 0 { // RFC 854: CR NUL is a CR alone
			return inData
		}
	}
	m.afterCR = b == '\r' && !m.Theirs(Binary)
	m.data = append(m.data, b)
	return inData
}

func inCommand(m *Machine, b byte) state {
	switch b {
	case cmdIAC:
		m.afterCR = false
		m.data = append(m.data, cmdIAC)
		return inData
	case cmdWill, cmdWont, cmdDo, cmdDont:
		return func(m *Machine, o byte) state {
			m.negotiated(b, Option(o))
			return inData
		}
	case cmdSB:
		m.sub, m.tooLong = m.sub[:0], false
		return inSub
	case cmdAYT:
		m.replies = append(m.replies, cmdIAC,
			cmdNOP) // there we are, and nobody sees a text that is none of the device's
	}
	return inData // NOP, data mark, go ahead and what else is no data
}

func inSub(m *Machine, b byte) state {
	if b == cmdIAC {
		return inSubCommand
	}
	m.add(b)
	return inSub
}

func inSubCommand(m *Machine, b byte) state {
	switch b {
	case cmdIAC:
		m.add(cmdIAC)
		return inSub
	case cmdSE:
		m.ended()
		return inData
	}
	return inCommand(m, b) // it was never ended: the command counts
}

func (m *Machine) add(b byte) {
	if len(m.sub) >= maxSub {
		m.tooLong = true
		return
	}
	m.sub = append(m.sub, b)
}

// ended takes a whole subnegotiation in.
func (m *Machine) ended() {
	if m.tooLong || len(m.sub) == 0 {
		return
	}
	option, data := Option(m.sub[0]), m.sub[1:]
	switch {
	case option == TerminalType:
		if len(data) == 1 && data[0] == ttypeSend && m.Ours(TerminalType) && m.us[TerminalType].mayAnswer() {
			m.replies = append(m.replies, Sub(TerminalType, append([]byte{ttypeIs}, m.opt.Terminal...))...)
		}
	case m.Ours(option):
		m.messages = append(m.messages, Message{option, slices.Clone(data)})
	}
}
