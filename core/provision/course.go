package provision

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"pilotrix/core/units"
)

// Stage is how far a device has come that provisions itself.
type Stage int

// The stages, in their order. What a device fetches after it has restarted is its configuration.
const (
	Seen Stage = iota // it asks, and is offered nothing yet
	HasOffer
	HasAddress
	Fetching
	HasFile
	Restarted // it asks once more
)

func (s Stage) String() string {
	return [...]string{"asks", "was offered an address", "has an address", "fetches", "has fetched", "restarted"}[s]
}

// waits are what is awaited next at each stage, how long that usually takes at the most, and what may be the matter
// then.
var waits = [...]struct {
	next   string
	within time.Duration
	matter string
}{
	Seen: {"an offer from here", 10 * time.Second, "it is not admitted, or no address is free"},
	HasOffer: {
		"that it takes the offer",
		30 * time.Second,
		"it took no offer: another server may be on the network, or what is offered does not suit it (its vendor's options, the server's address)",
	},
	HasAddress: {
		"that it asks for its file",
		time.Minute,
		"it has an address and asks for no file: it may look for the server's address or the file's name in another option, or not reach the server",
	},
	Fetching: {"the end of the file", 15 * time.Minute, "the file does not come to its end"},
	HasFile: {
		"that it restarts and asks again",
		15 * time.Minute,
		"it has its file and did not come back: it may be writing still, or not like what it got",
	},
	Restarted: {
		"its address again, then its configuration",
		time.Minute,
		"it restarted and asks for no configuration: it may look for it under another name",
	},
}

// Course is how far one device has come.
type Course struct {
	Client Client
	Addr   netip.Addr
	Stage  Stage
	Since  time.Time
	File   string    // the last one that it asked for
	Files  []Fetched // those that it has whole, in the order in which it first had them
	Wrong  string    // what went wrong last
	Rounds int       // how often it has restarted
	Vain   int       // how often it began again without having fetched anything
	Waits  bool      // until it is said whether it is answered
	Alone  bool      // it was said that it is not
	Done   bool      // it is complete, and has shown so where that is asked for
	Back   bool      // it has restarted and has its address again
	Proves bool      // it is looked whether it shows so

	reach  extent
	again  time.Time // when it began again before the end of what it fetched was known, zero since it goes on
	leased time.Time // when it last got its address
}

// overtakes is how much later than a device's restart the end of what it fetched before may be known: its last word
// comes on another way than its first new one.
const overtakes = 10 * time.Second

// Fetched is a file that a device has whole, and how often it fetched it.
type Fetched struct {
	Name  string
	Times int
}

// Has finds the first of the names that a device fetched whole; -1 for none.
func (c Course) Has(names ...string) int {
	return slices.IndexFunc(c.Files, func(f Fetched) bool { return slices.Contains(names, f.Name) })
}

// Needs are what a device has to have had before it is complete.
type Needs struct {
	Image          string   // a file, empty for none
	Configurations []string // names of one file, of which it takes any; none for a device that gets no configuration
}

// Meets reports whether a device has had it: its configuration, or else its image, after which it has come back and has
// its address again.
func (c Course) Meets(n Needs) bool {
	switch {
	case len(n.Configurations) > 0:
		return c.Has(n.Configurations...) >= 0
	case n.Image != "" && c.Has(n.Image) < 0:
		return false
	}
	return c.Back
}

// Moved are bytes of a file that were sent to a device: the whole, or a part of it from there on.
type Moved struct {
	File              string
	From, Bytes, Size int64 // From is -1 where that is not known, Size 0
}

// extent is how far a device has come with a file that it fetches in parts, or once more from where it broke off.
type extent struct {
	file string
	to   int64
}

// takes takes in what was moved. It reports whether the device has the file whole now.
func (r *extent) takes(m Moved, broke bool) bool {
	if r.file != m.File {
		*r = extent{file: m.File}
	}
	if m.From >= 0 && m.From <= r.to {
		r.to = max(r.to, m.From+m.Bytes)
	}
	whole := !broke && r.to >= m.Size
	if whole {
		*r = extent{}
	}
	return whole
}

// gets takes in that a file is there whole. What was reported of the course before stays as it was.
func (c *Course) gets(name string) {
	c.Files = slices.Clone(c.Files)
	if i := c.Has(name); i >= 0 {
		c.Files[i].Times++
		return
	}
	c.Files = append(c.Files, Fetched{name, 1})
}

// Next is what is awaited, and for how long at the most.
func (c Course) Next() (what string, within time.Duration) {
	switch {
	case c.Done, c.Alone:
		return "nothing more", 0
	case c.Waits:
		return "that it is said whether it is answered", saidWithin
	case c.Proves:
		return "that it answers", proveWithin
	}
	return waits[c.Stage].next, waits[c.Stage].within
}

// proveWithin is how long a device may take until it answers, once it is complete its files.
const proveWithin = 5 * time.Minute

// saidWithin is how long one may wait until it is said whether it is answered.
const saidWithin = 10 * time.Minute

// Text are the progress: done, or what went wrong, or what it is waited for.
func (c Course) Text() string {
	var files []string
	for _, f := range c.Files {
		files = append(files, f.Name)
	}
	switch had := strings.Join(files, ", "); {
	case c.Done && had == "":
		return "done"
	case c.Done:
		return "done: has fetched " + had
	case c.Wrong != "":
		return c.Stage.String() + "; in trouble: " + c.Wrong
	case c.Loops() != "":
		return c.Stage.String() + "; in trouble: " + c.Loops()
	default:
		next, _ := c.Next()
		return c.Stage.String() + "; awaited: " + next
	}
}

// Stalls says what may be the matter with a device that is waited for longer than usual, empty while it is in time.
func (c Course) Stalls(now time.Time) string {
	wait := waits[c.Stage]
	gone := now.Sub(c.Since)
	if _, within := c.Next(); within == 0 || gone <= within {
		return ""
	}
	text := fmt.Sprintf("%s %s since %s: %s", c.Client.MAC, c.Stage, units.Text(gone), wait.matter)
	if c.Wrong != "" {
		text += "; " + c.Wrong
	}
	return text
}

// loopsFrom is how often a device does the same before it is said to go round and round.
const loopsFrom = 3

// Loops says what a device does again and again, empty where it does not.
func (c Course) Loops() string {
	if c.Vain >= loopsFrom {
		return fmt.Sprintf("%s began %d times and fetched nothing: it may want another name or another server's address; its console tells",
			c.Client.MAC, c.Vain)
	}
	for _, file := range c.Files {
		if file.Times >= loopsFrom {
			return fmt.Sprintf("%s fetched %s %d times and restarts again and again: it may not take what is in the file (another release, another board)",
				c.Client.MAC, file.Name, loopsFrom)
		}
	}
	return ""
}

// begins takes in that a device asks for an address from the beginning.
func (c *Course) begins(now time.Time) {
	switch c.Stage {
	case HasFile:
		c.Rounds++
		c.Stage, c.Since = Restarted, now
	case Fetching:
		c.Vain++
		c.Stage, c.Since, c.Wrong, c.again = Seen, now, "it began anew while it fetched "+c.File, now
	case HasAddress:
		c.Vain++
		c.Stage, c.Since, c.again = Seen, now, now
	}
}

// Courses follow devices by what the server says, and by what they fetch. It is used by one goroutine.
type Courses struct {
	all   map[string]*Course // by MAC
	seen  []string           // in the order in which they came
	early []early            // what addresses did that nobody is known to have
}

// early is what an address did before it was known whose it is: a device asks for its file as soon as it has its
// address, and another goroutine may say so first.
type early struct {
	peer netip.Addr
	at   time.Time
	does func()
}

// maxEarly bounds how much is kept of addresses that may be nobody's.
const maxEarly = 256

// whose is the device with an address. Where none is known to have it, what it did is kept until one is.
func (s *Courses) whose(peer netip.Addr, now time.Time, does func()) *Course {
	c := s.at(peer)
	if c == nil {
		s.early = slices.DeleteFunc(s.early, func(e early) bool { return now.Sub(e.at) > overtakes })
		s.early = append(s.early, early{peer, now, does})
		s.early = s.early[max(0, len(s.early)-maxEarly):] // a crowd pushes itself out: whose it is, is known at once
	}
	return c
}

// catchUp takes in what an address did before it was known whose it is.
func (s *Courses) catchUp(addr netip.Addr, now time.Time) {
	before := s.early
	s.early = nil
	for _, e := range before {
		switch {
		case e.peer != addr:
			s.early = append(s.early, e)
		case now.Sub(e.at) <= overtakes:
			e.does()
		}
	}
}

// maxCourses bounds how many devices are followed. A flood of others pushes out those that only ask, never one that has
// come further.
const maxCourses = 1024

// All are the devices in the order in which they came.
func (s *Courses) All() (all []Course) {
	for _, mac := range s.seen {
		all = append(all, *s.all[mac])
	}
	return all
}

// Reported takes in what the server reported.
func (s *Courses) Reported(t Reported, now time.Time) {
	stranger := t.Kind == Stranger || t.Kind == Left || t.Kind == Another
	if t.Client.MAC == "" || stranger && s.all[t.Client.MAC] == nil {
		return
	}
	c := s.of(t.Client, now)
	if c == nil {
		return
	}
	c.Waits = t.Kind == Waits || c.Waits && t.Kind == Asked
	c.Alone = t.Kind == Stranger || c.Alone && t.Kind != Asked
	switch t.Kind {
	case Asked:
		if t.Text == discover {
			c.begins(now)
		}
	case Offered:
		c.comesTo(HasOffer, now)
	case Leased:
		if before := s.at(t.Addr); before != nil && before != c {
			before.Addr = netip.Addr{} // what is fetched from there is not its any more
		}
		c.Addr, c.leased = t.Addr, now
		c.Back = c.Back || c.Stage == Restarted
		c.comesTo(HasAddress, now)
		s.catchUp(t.Addr, now)
	case Refused, Another, Conflict:
		c.Wrong = t.Text
		if c.Stage < Fetching && c.Stage != Seen {
			c.Stage, c.Since = Seen, now
		}
	case Left:
		c.Wrong = t.Text
	}
}

// comesTo takes it to a later stage, where what was wrong with its address before is mended.
func (c *Course) comesTo(next Stage, now time.Time) {
	if c.Stage < next {
		c.mends()
		c.Stage, c.Since = next, now
	}
}

// mends forgets what was wrong with its address; that it begins again and again is not mended by the next time.
func (c *Course) mends() {
	if c.Vain == 0 {
		c.Wrong = ""
	}
}

const discover = "DISCOVER"

func (s *Courses) of(client Client, now time.Time) *Course {
	if s.all == nil {
		s.all = map[string]*Course{}
	}
	c := s.all[client.MAC]
	if c == nil {
		if len(s.seen) >= maxCourses && !s.forget() {
			return nil
		}
		c = &Course{Client: client, Since: now}
		s.all[client.MAC], s.seen = c, append(s.seen, client.MAC)
	}
	c.Client = client
	return c
}

// forget makes room: of those that only ask, the one that was seen first is dropped.
func (s *Courses) forget() bool {
	i := slices.IndexFunc(s.seen, func(mac string) bool { return s.all[mac].Stage == Seen })
	if i < 0 {
		return false
	}
	delete(s.all, s.seen[i])
	s.seen = slices.Delete(s.seen, i, i+1)
	return true
}

// at finds a device by its address.
func (s *Courses) at(addr netip.Addr) *Course {
	for _, c := range s.all {
		if c.Addr == addr && addr.IsValid() {
			return c
		}
	}
	return nil
}

// Finish takes in that a device is complete.
func (s *Courses) Finish(mac string, now time.Time) {
	if c := s.all[mac]; c != nil {
		c.Done, c.Proves, c.Since, c.Wrong = true, false, now, ""
	}
}

// Proves takes in that it is looked whether a device answers now; wrong is why it does not, so far.
func (s *Courses) Proves(mac, wrong string, now time.Time) {
	c := s.all[mac]
	if c == nil || c.Done {
		return
	}
	if !c.Proves {
		c.Proves, c.Since = true, now
	}
	c.Wrong = wrong
}

// Asks takes in that a device asks a server for a file; refusal is why it does not get it, empty where it does.
func (s *Courses) Asks(peer netip.Addr, file, refusal string, now time.Time) {
	c := s.whose(peer, now, func() { s.Asks(peer, file, refusal, now) })
	if c == nil {
		return
	}
	c.File = file
	if refusal != "" {
		c.Wrong = refusal
		return
	}
	c.Stage, c.Since, c.Wrong, c.again = Fetching, now, "", time.Time{}
}

// Got takes in that a file, or a part of it, came to its end or broke off.
func (s *Courses) Got(peer netip.Addr, m Moved, failure error, now time.Time) {
	c := s.whose(peer, now, func() { s.Got(peer, m, failure, now) })
	if c == nil {
		return
	}
	whole := c.reach.takes(m, failure != nil)
	switch {
	case failure != nil:
		c.Wrong, c.Stage, c.Since = fmt.Sprintf("%s broke off: %v", m.File, failure), HasAddress, now
		return
	case !whole:
		c.Stage, c.Since = Fetching, now
		return
	}
	c.gets(m.File)
	c.Stage, c.Since, c.Wrong, c.Vain = HasFile, now, "", 0
	if !c.again.IsZero() && now.Sub(c.again) <= overtakes { // it had the file when it began
		c.Rounds++
		c.Stage, c.Back = Restarted, !c.leased.Before(c.again)
	}
	c.again = time.Time{}
}
