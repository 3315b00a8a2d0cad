// Package telnet is the client's side of telnet as a state machine without a socket: what of a stream is data and
// what is not, which options are in force, and com-port control over it.
//
// Sources: RFC 854 (the protocol), 855 (options), 856 (binary), 857 (echo), 858 (suppress go ahead), 1073 (window
// size), 1091 (terminal type), 1143 (how options are negotiated without loops) and 2217 (com-port control).
//
// Whatever the other side sends, nothing but data comes out as data, no answer is given twice to what changes nothing,
// and the answers to one option have an end.
package telnet

// Commands, RFC 854, "TELNET COMMAND STRUCTURE".
const (
	cmdSE   = 240 // end of a subnegotiation
	cmdNOP  = 241
	cmdDM   = 242 // data mark
	cmdBRK  = 243 // break
	cmdIP   = 244
	cmdAO   = 245
	cmdAYT  = 246
	cmdEC   = 247
	cmdEL   = 248
	cmdGA   = 249 // go ahead
	cmdSB   = 250 // a subnegotiation
	cmdWill = 251
	cmdWont = 252
	cmdDo   = 253
	cmdDont = 254
	cmdIAC  = 255
)

// Option is the number of an option.
type Option byte

// Options.
const (
	Binary       Option = 0  // RFC 856
	Echo         Option = 1  // RFC 857
	SuppressGA   Option = 3  // RFC 858
	TerminalType Option = 24 // RFC 1091
	WindowSize   Option = 31 // RFC 1073, NAWS
	ComPort      Option = 44 // RFC 2217
)

// What stands in a subnegotiation of the terminal type, RFC 1091 section 3.
const (
	ttypeIs   = 0
	ttypeSend = 1
)

// Options of a machine.
type Options struct {
	Terminal   string // its type, such as xterm-256color
	Cols, Rows int    // of the window; 0 says no size
	ComPort    bool   // asks for com-port control
	Binary     bool   // asks for eight bits both ways
	Server     bool   // it is the other side: it echoes, and wants to know the window's size
}

// Message is a subnegotiation that is not the machine's own, such as an answer of com-port control.
type Message struct {
	Option Option
	Data   []byte
}

// maxSub is how long a subnegotiation may be. A longer one is read over: none that is known comes near.
const maxSub = 512

// maxAnswers is how often one option is answered. Whoever asks more often wants a loop.
const maxAnswers = 16
