package provision

import (
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Wanted says who is answered: whom it is for from the beginning, and new ones that whoever is at the keyboard lets in.
// Several goroutines may use it: the server asks, and another one says.
type Wanted struct {
	Only   []string       // MAC addresses
	Vendor *regexp.Regexp // of vendor classes, nil for none
	Ask    bool           // others wait until it is said of them

	mu    sync.Mutex
	said  map[string]Verdict
	waits []Client
}

// maxWaiting bounds how many devices are asked about: a flood of others is not, and must not bury the one that is
// meant.
const maxWaiting = 16

// Admit says whether a client is answered. One that it is asked about waits, and is new with the first of its messages
// only; one whose vendor class is meant stays so: clients leave it out of some messages.
func (m *Wanted) Admit(c Client) Verdict {
	if slices.Contains(m.Only, c.MAC) {
		return Served
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if verdict, known := m.said[c.MAC]; known {
		return verdict
	}
	if m.Vendor != nil && m.Vendor.MatchString(c.Vendor) {
		if len(m.said) < maxClients {
			m.say(c, Served)
		}
		return Served
	}
	if !m.Ask {
		return Ignored
	}
	if !slices.ContainsFunc(m.waits, c.same) {
		if len(m.waits) == maxWaiting {
			m.waits = m.waits[1:] // who asked longest ago may be gone; it is asked about again when it is not
		}
		m.waits = append(m.waits, c)
	}
	return Undecided
}

func (c Client) same(other Client) bool { return c.MAC == other.MAC }

// Next is the client that it is to be said of next, of those that wait the one that asked first.
func (m *Wanted) Next() (next Client, waits bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.waits) == 0 {
		return Client{}, false
	}
	return m.waits[0], true
}

// Say says whether a client is answered from now on.
func (m *Wanted) Say(c Client, wanted bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.say(c, map[bool]Verdict{true: Served, false: Ignored}[wanted])
	m.waits = slices.DeleteFunc(m.waits, c.same)
}

func (m *Wanted) say(c Client, verdict Verdict) {
	if m.said == nil {
		m.said = map[string]Verdict{}
	}
	m.said[c.MAC] = verdict
}

// Text is who it is, as it says of itself.
func (c Client) Text() string {
	text := c.MAC
	if c.Vendor != "" {
		text += ", a " + c.Vendor + ","
	}
	if c.HostName != "" {
		text += " that calls itself " + c.HostName
	}
	return strings.TrimSuffix(text, ",")
}
