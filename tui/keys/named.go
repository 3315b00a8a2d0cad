package keys

import tea "charm.land/bubbletea/v2"

// Named is a key by how it is shown and by its name as Bubble Tea has it. Keys that texts of other parts mention have
// theirs here: one that is moved here has moved everywhere.
type Named struct{ Shown, Name string }

// Helm takes the helm, and gives it back.
var Helm = Named{"F10", "f10"}

// Keys after the leader key.
var (
	Runbooks   = letter("r")
	ReadAgain  = letter("f")
	LogIn      = letter("a")
	Dialects   = letter("d")
	Hunt       = letter("h")
	Stop       = letter("x")
	Interlocks = letter("i")
	Lock       = letter("l")
	Quit       = letter("q")
	More       = letter(".")
	Carry      = letter("t")
	Offer      = letter("o")
	Watch      = letter("v")
	GetIn      = letter("e")
	Accept     = Named{"Enter", "enter"}
)

func letter(name string) Named { return Named{name, name} }

// After is how it is shown where the leader key comes before it.
func (n Named) After(leader string) string { return leader + " " + n.Shown }

// On declares what the key does.
func (n Named) On(does string, do func()) Key { return New(n.Shown, does, Just(do), n.Name) }

// To is On for what gives a command.
func (n Named) To(does string, do func() tea.Cmd) Key { return New(n.Shown, does, do, n.Name) }
