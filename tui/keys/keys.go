// Package keys declares what keys do. Each is declared once, by whoever carries it out; the dispatch, the row of
// keys, the choices in the strip, the help and the table of the documentation are made from the same declarations.
// One that is disabled is in none of them.
package keys

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Key is one key, or a few that do the same.
type Key struct {
	key.Binding // the keys, what people call them, and what they do in a few words
	Do          func(tea.KeyPressMsg) tea.Cmd
	Says        string // what the help says, where there is more to say
}

// New declares a key: what people call it, what it does in a few words, and its names as Bubble Tea has them.
func New(shown, does string, do func() tea.Cmd, names ...string) Key {
	return Of(shown, does, func(tea.KeyPressMsg) tea.Cmd { return do() }, names...)
}

// Of declares keys whose doing depends on which it was.
func Of(shown, does string, do func(tea.KeyPressMsg) tea.Cmd, names ...string) Key {
	return Key{Binding: key.NewBinding(key.WithKeys(names...), key.WithHelp(shown, does)), Do: do}
}

// Typed says what typing does where no single key does it.
func Typed(shown, does string) Key { return New(shown, does, nil, noKey) }

// noKey is the name of no key.
const noKey = "\x00"

// Just makes something that gives no command one that does.
func Just(do func()) func() tea.Cmd {
	return func() tea.Cmd {
		do()
		return nil
	}
}

// If disables a key where it does nothing.
func (k Key) If(enabled bool) Key {
	k.SetEnabled(enabled)
	return k
}

// Explain gives a key more words for the help.
func (k Key) Explain(says string) Key {
	k.Says = says
	return k
}

// Unnamed leaves a key out of what is shown: another one of the same kind is.
func (k Key) Unnamed() Key {
	k.SetHelp("", "")
	return k
}

// Shown is what people call it.
func (k Key) Shown() string { return k.Help().Key }

// Does is what it does, in a few words.
func (k Key) Does() string { return k.Help().Desc }

// HelpText is what the help says of it.
func (k Key) HelpText() string {
	if k.Says != "" {
		return k.Says
	}
	return k.Does()
}

// Map is the keys of one part of the interface, in the order in which they are shown.
type Map []Key

// Press does what the first key that matches does. It reports whether there is one.
func (m Map) Press(k tea.KeyPressMsg) (cmd tea.Cmd, taken bool) {
	for _, one := range m {
		if key.Matches(k, one.Binding) {
			return one.Do(k), true
		}
	}
	return nil, false
}

// Enabled leaves out the keys that do nothing now, and those without words.
func (m Map) Enabled() (all Map) {
	for _, one := range m {
		if one.Enabled() && one.Does() != "" {
			all = append(all, one)
		}
	}
	return all
}

// Name writes the name of a key as people read it: ctrl+g as ^G.
func Name(key string) string {
	if rest, found := strings.CutPrefix(key, "ctrl+"); found {
		return "^" + strings.ToUpper(rest)
	}
	return key
}
