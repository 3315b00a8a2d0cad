package telnet

// side is one side's option, RFC 1143 section 7: its four states, without the queues, since we never change our mind.
type side struct {
	is      is
	asked   bool // by us
	answers int
}

type is byte

const (
	no is = iota
	yes
	wantYes
	wantNo
)

// mayAnswer counts the answers to one option, which have an end.
func (s *side) mayAnswer() bool {
	s.answers++
	return s.answers <= maxAnswers
}

// ask asks for an option that is not in force.
func (m *Machine) ask(s *side, command byte, o Option) {
	if s.is == no {
		s.is, s.asked = wantYes, true
		m.say(command, o)
	}
}

func (m *Machine) say(command byte, o Option) {
	m.replies = append(m.replies, cmdIAC, command, byte(o))
}

// negotiated takes WILL, WONT, DO or DONT in.
func (m *Machine) negotiated(command byte, o Option) {
	switch command {
	case cmdWill:
		m.wanted(&m.them[o], o, m.letsThem(o), cmdDo, cmdDont)
	case cmdWont:
		m.unwanted(&m.them[o], o, cmdDont)
	case cmdDo:
		if m.wanted(&m.us[o], o, m.lets(o), cmdWill, cmdWont) && o == WindowSize {
			m.replies = append(m.replies, m.size()...)
		}
	case cmdDont:
		m.unwanted(&m.us[o], o, cmdWont)
	}
}

// lets reports what we do when we are asked to.
func (m *Machine) lets(o Option) bool {
	switch o {
	case Binary, SuppressGA:
		return true
	case TerminalType, WindowSize:
		return !m.opt.Server
	case Echo:
		return m.opt.Server
	case ComPort:
		return m.opt.ComPort
	}
	return false
}

// letsThem reports what the other side may do.
func (m *Machine) letsThem(o Option) bool {
	switch o {
	case Binary, SuppressGA:
		return true
	case Echo:
		return !m.opt.Server
	case WindowSize:
		return m.opt.Server
	case ComPort:
		return m.opt.ComPort
	}
	return false
}

// wanted is an offer or a wish of the other side. It reports whether the option came into force.
func (m *Machine) wanted(s *side, o Option, agreed bool, yesCommand, noCommand byte) bool {
	switch s.is {
	case yes: // RFC 1143: ignore
		return false
	case wantYes:
		s.is = yes
		return true
	case wantNo: // the other side answered a refusal with a wish
		s.is = no
		return false
	}
	if !s.mayAnswer() {
		return false
	}
	if !agreed {
		m.say(noCommand, o)
		return false
	}
	s.is = yes
	m.say(yesCommand, o)
	return true
}

// unwanted is a refusal, or the end of an option.
func (m *Machine) unwanted(s *side, o Option, answer byte) {
	if s.is == yes && s.mayAnswer() {
		m.say(answer, o)
	}
	s.is = no
}
