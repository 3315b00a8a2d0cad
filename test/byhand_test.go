package test

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/bench"
	"pilotrix/core/device"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/exchange"
	"pilotrix/core/line"
	"pilotrix/core/runbook/verbs"
	"pilotrix/core/sense"
	"pilotrix/core/session"
)

var handSeeds = flag.Int("byhand.seeds", 30, "how many operators type by hand at random")

// hands is a device that somebody works on by hand, and what it is in truth.
type hands struct {
	*onLAN
	login []string // what is typed at which prompt, prompt and text by turns
	looks []string // what can be read
	does  []string // what can be done
	truth func() map[string]string
	// rows says of each row of the list called banks what it has to have in the column called next, by its unit and
	// release.
	next func(unit, release string) string
}

type tapping func(line.Line) line.Line

// tapped is what went over a line both ways, in its order.
type tapped struct {
	mu  sync.Mutex
	all []event.Event
}

func (w *tapped) keep(body event.Body) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all = append(w.all, event.Event{At: time.Now(), Body: body})
}

// on taps a line.
func (w *tapped) on(inner line.Line) line.Line {
	l := &tappedLine{Line: inner, wire: w, chunks: make(chan line.Chunk)}
	go func() {
		defer close(l.chunks)
		for chunk := range inner.Chunks() {
			w.keep(event.In{Bytes: bytes.Clone(chunk.Bytes)})
			l.chunks <- chunk
		}
		w.keep(event.Line{State: event.LineLost})
	}()
	return l
}

type tappedLine struct {
	line.Line
	wire   *tapped
	chunks chan line.Chunk
}

func (l *tappedLine) Chunks() <-chan line.Chunk { return l.chunks }

func (l *tappedLine) Write(ctx context.Context, p []byte) error {
	l.wire.keep(event.Out{Who: event.Hand, Bytes: bytes.Clone(p)})
	return l.Line.Write(ctx, p)
}

// Close ends it, and takes what has come and nobody reads any more.
func (l *tappedLine) Close() error {
	err := l.Line.Close()
	go func() {
		for range l.chunks {
		}
	}()
	return err
}

// handled are the families as somebody works on them by hand.
func handled() map[string]func(t *testing.T, a awkwardness, tap tapping) *hands {
	return map[string]func(t *testing.T, a awkwardness, tap tapping) *hands{
		"gateway": func(t *testing.T, a awkwardness, tap tapping) *hands {
			g := newGateway(t, gatewayOptions{present: true, awkward: a, tap: tap})
			return &hands{
				onLAN: g.onLAN,
				login: []string{"name: ", "harbour", "word: ", "lamp-and-tide", " / ", "lift"},
				looks: []string{
					"look banks", "look self", "lo ba", "LOOK BANKS", "look cards", "look haul", "loo sel",
					"look lines",
				},
				does: []string{"favour A", "favour B", "stow", "fav b", "favour C", "recommence", "rebuild"},
				truth: func() map[string]string {
					release, bank := g.device.Runs()
					return map[string]string{
						"running.release": release,
						"running.bank":    bank,
						"choice.stowed":   g.device.Starts(),
					}
				},
			}
		},
		"edge router": func(t *testing.T, a awkwardness, tap tapping) *hands {
			x := newEdge(t,
				edgeOptions{lanOptions: lanOptions{present: true, awkward: a, tap: tap}, device: onTrial(20)})
			return &hands{
				onLAN: x.onLAN, login: []string{"account: ", "harbour", "code: ", "lamp-and-tide", "[look] ", "work"},
				looks: []string{"view systems", "view self", "view hold", "view setup"},
				does:  []string{"settle", "reboot", "swing 5.2 20", "swing 5.4 20", "anchor", "toss marl-5.4.tms"},
				truth: func() map[string]string {
					runs, _, lasting := x.device.Runs()
					return map[string]string{"running.release": runs, "lasting.release": lasting}
				},
			}
		},
		"stack": func(t *testing.T, a awkwardness, tap tapping) *hands {
			x := newStack(t, stackOptions{lanOptions: lanOptions{present: true, awkward: a, tap: tap}})
			return &hands{
				onLAN: x.onLAN,
				login: []string{"who: ", "harbour", "pass: ", "lamp-and-tide", "1: ", "arm"},
				looks: []string{
					"report banks", "report units", "report self", "report copies", "report clock", "report ring",
				},
				does: []string{"first A", "first B", "tumble all", "tumble in 3", "tumble never", "board 2"},
				truth: func() map[string]string {
					truth := map[string]string{}
					for _, u := range x.device.Units() {
						if u.Number == 1 {
							truth["running.release"] = u.Runs
						}
					}
					return truth
				},
				next: func(unit, release string) string {
					for _, u := range x.device.Units() {
						if fmt.Sprint(u.Number) == unit && u.Next != u.Standby && u.State == "here" {
							return map[bool]string{true: "yes", false: "no"}[u.Next == release]
						}
					}
					return ""
				},
			}
		},
		"small router": func(t *testing.T, a awkwardness, tap tapping) *hands {
			x := newParts(t, partsOptions{lanOptions: lanOptions{present: true, awkward: a, tap: tap}})
			return &hands{
				onLAN: x.onLAN, login: []string{"login: ", "harbour", "password: ", "lamp-and-tide"},
				looks: []string{"what self", "what layers", "what tray", "what features"},
				does:  []string{"turn over", "board take", "toss nothing"},
				truth: func() map[string]string {
					layers, board := x.device.Layers()
					return map[string]string{"running.release": layers["core"], "board.release": board}
				},
			}
		},
		"controller": func(t *testing.T, a awkwardness, tap tapping) *hands {
			x := newWireless(t, wirelessOptions{
				deviceOptions: controllerWith{lanOptions: lanOptions{present: true, awkward: a, tap: tap}},
			})
			return &hands{
				onLAN: x.onLAN, login: []string{"name: ", "harbour", "word: ", "lamp-and-tide"},
				looks: []string{"about", "services", "image", "points"},
				does:  []string{"service feed off", "service feed on", "verify", "install"},
				truth: func() map[string]string { return map[string]string{"running.release": x.device.Runs()} },
			}
		},
		"router": func(t *testing.T, a awkwardness, tap tapping) *hands {
			x := newStore(t, storeOptions{lanOptions: lanOptions{present: true, awkward: a, tap: tap}})
			return &hands{
				onLAN: x.onLAN,
				login: []string{"login: ", "harbour", "password: ", "lamp-and-tide", " ~ ", "rise"},
				looks: []string{"tell release", "tell store", "tell entry", "weigh tern-4.0.7.brm"},
				does: []string{
					"begin with tern-4.0.7.brm", "keep", "drop tern-3.9.4.brm", "restart", "begin with nothing",
				},
				truth: func() map[string]string {
					return map[string]string{"entry.kept": x.device.Entry(), "running.release": x.device.Started()}
				},
			}
		},
	}
}

// atTheKeys is one operator at such a device.
type atTheKeys struct {
	*testing.T
	*hands
	random *rand.Rand
	tapped bool // what went over the line is read again by nothing but its bytes
	did    []string
	open   []string // what was begun, and is ended before anything is judged
	held   int      // facts that were held to what the device is
}

func (o *atTheKeys) press(keys string) {
	o.did = append(o.did, fmt.Sprintf("%s %q", time.Now().Format("04:05.000"), keys))
	o.session.Press([]byte(keys))
}

// rest waits until nothing has come for a while.
func (o *atTheKeys) rest() {
	for range 600 {
		had := o.bytes()
		time.Sleep(1500 * time.Millisecond)
		synctest.Wait()
		if o.bytes() == had {
			return
		}
	}
}

func (o *atTheKeys) bytes() (n int) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, e := range o.events {
		if in, ok := e.Body.(event.In); ok {
			n += len(in.Bytes)
		}
	}
	return n
}

// line is what stands on the device's line.
func (o *atTheKeys) line() string {
	v, _ := o.session.Await(o.Context(), func(sense.State) bool { return true })
	return v.Partial
}

// logsIn answers what the device asks of whoever comes.
func (o *atTheKeys) logsIn() {
	for range 12 {
		o.rest()
		at := o.line()
		known := false
		for i := 0; i < len(o.login); i += 2 {
			if strings.HasSuffix(at, o.login[i]) || strings.HasSuffix(at+" ", o.login[i]) {
				o.press(o.login[i+1] + "\r")
				known = true
			}
		}
		if !known && at == "" {
			o.press("\r")
			known = true
		}
		if !known {
			return
		}
	}
}

func (o *atTheKeys) one(of []string) string { return of[o.random.IntN(len(of))] }

// acts does one thing at random.
func (o *atTheKeys) acts() {
	kinds := 21
	if o.tapped { // it is read as whoever typed it is nobody else
		kinds = 18
	}
	switch o.random.IntN(kinds) {
	case 0, 1, 2, 3:
		o.press(o.one(o.looks) + "\r")
	case 4, 5:
		o.press(o.one(o.does) + "\r")
	case 6: // ahead of each other
		o.press(o.one(o.looks) + "\r" + o.one(o.does) + "\r" + o.one(o.looks) + "\r")
	case 7:
		o.press(o.one(o.looks) + " | " + o.one(o.looks) + "\r")
	case 8:
		o.press(o.one(o.looks)[:o.random.IntN(4)] + "\t\r")
	case 9:
		o.press("\x1b[A")
		o.rest()
		o.press("\r")
	case 10:
		o.press(o.one(o.does)[:3])
		o.press("\x15" + o.one(o.looks) + "\r")
	case 11:
		o.press(o.one(o.looks) + "\r")
		time.Sleep(time.Duration(o.random.IntN(300)) * time.Millisecond)
		o.press("\x03")
	case 12:
		o.press("zzz " + o.one(o.looks) + "\r")
	case 13:
		if o.random.IntN(3) == 0 {
			o.did = append(o.did, "power cut")
			o.machine.PowerCut(2 * time.Second)
			time.Sleep(3 * time.Minute)
			return
		}
		o.press("\r\r")
	case 14:
		_ = o.session.PressPasted(o.one(o.looks) + "\r" + o.one(o.looks) + "\r")
		o.did = append(o.did, "pasted two looks")
	case 15:
		o.press(" ")
	case 16:
		text := o.one(o.looks) + "\n" + o.one(o.does) + "\n" + o.one(o.looks) + "\n"
		limited, cancel := context.WithTimeout(o.Context(), time.Minute)
		_, err := o.session.Paste(limited, text, session.PasteOptions{})
		o.did = append(o.did, fmt.Sprintf("%s pasted %q: %v", time.Now().Format("04:05.000"), text, err))
		cancel()
	case 17:
		o.did = append(o.did, "a break")
		sent := o.session.Break()
		limited, cancel := context.WithTimeout(o.Context(), time.Second)
		_ = sent(limited)
		cancel()
	case 18, 19:
		o.begins()
	case 20:
		o.did = append(o.did, "takes the helm")
		o.session.TakeHelm()
	}
	if o.random.IntN(2) == 0 {
		time.Sleep(time.Duration(o.random.IntN(900)) * time.Millisecond)
		return
	}
	o.rest()
	if o.session.SendHeld() {
		o.did = append(o.did, "sent what was held")
		o.rest()
		if strings.Contains(o.line(), "(y/n)") {
			o.press(o.one([]string{"y", "n"}) + "\r")
		}
		time.Sleep(time.Duration(o.random.IntN(240)) * time.Second)
	}
}

// begins has something done by hand, beside what is typed.
func (o *atTheKeys) begins() {
	values := map[string]map[string]string{
		"repeat":    {"command": o.one(o.looks), "every": "2s", "until": "never"},
		"expect":    {"text": o.one([]string{"never", "release", "bank"})},
		"take":      {"into": o.TempDir(), "protocol": "ymodem"},
		"interrupt": {"key": o.one([]string{"Enter", "Space", "Ctrl-C"})},
		"carry":     {"file": o.file(), "protocol": "ymodem"},
		"offer":     {"file": o.file(), "protocol": o.one([]string{"tftp", "http"})},
		"slot":      {"as": "saved.conf", "into": o.TempDir(), "protocol": "tftp"},
		"watch":     {"address": "192.0.2.41"},
	}
	name := o.one(slices.Sorted(maps.Keys(values)))
	one := verbs.ByHandNamed(name)
	book, err := one.Make(verbs.Place{})
	require.NoError(o, err)
	p, err := book.Prepare(o.session.Dialect(), values[name], o.kit)
	require.NoError(o, err)
	id, _, err := o.session.Do(p, one.Needs)
	o.did = append(o.did, fmt.Sprintf("%s %s %v: %v", time.Now().Format("04:05.000"), name, values[name], err))
	if err == nil {
		o.open = append(o.open, id)
	}
}

// file is one that can be sent.
func (o *atTheKeys) file() string {
	path := filepath.Join(o.TempDir(), "lamp.img")
	require.NoError(o, os.WriteFile(path, []byte("lamp"), 0o600))
	return path
}

// ends all that was begun.
func (o *atTheKeys) ends() {
	for _, id := range o.open {
		o.session.EndDeed(id)
	}
	o.open = nil
	o.session.ForgetKept()
}

// judge holds every fact that is not said to be old to what the device is.
func (o *atTheKeys) judge() bool {
	o.ends()
	o.rest()
	facts := o.session.Facts()
	for name, want := range o.truth() {
		fact, known := facts.Get(name)
		if known && !facts.Old(fact) {
			o.held++
		}
		if known && !facts.Old(fact) && fact.Text != want {
			o.mu.Lock()
			said := o.heard()
			o.mu.Unlock()
			return assert.Fail(o, "a fact is not what the device is",
				"%s is %q, and is shown as %q (read %s by %q)\n%s\n%s", name, want, fact.Text,
				fact.At.Format("04:05.000"), fact.Source, strings.Join(o.did, "\n"), said)
		}
	}
	return o.judgeRows(facts)
}

// judgeRows does the same for the rows of banks.
func (o *atTheKeys) judgeRows(facts *device.Facts) bool {
	fact, known := facts.Get("banks")
	rows, _ := fact.Value.([]map[string]any)
	if !known || facts.Old(fact) || o.next == nil {
		return true
	}
	for _, row := range rows {
		want := o.next(fmt.Sprint(row["unit"]), fmt.Sprint(row["release"]))
		if o.held++; want != "" && row["next"] != want {
			return assert.Fail(o, "a row is not what the device is", "%v: next is %s\n%s\n%s", row, want,
				strings.Join(o.did, "\n"), o.heard())
		}
	}
	return true
}

// heard is what was asked and answered, as it was answered.
func (o *atTheKeys) heard() string {
	var out strings.Builder
	for _, e := range o.events {
		switch e.Body.(type) {
		case event.Asked, event.Answered, event.Fact, event.Change, event.Restart:
			fmt.Fprintf(&out, "%s %+v\n", e.At.Format("04:05.000"), e.Body)
		}
	}
	return out.String()
}

// TestWhatTheHandReadsIsWhatTheDeviceIs has operators type at random at every family, tidy and awkward: whatever they
// do, a fact that is shown is what the device is, or is said to be old.
func TestWhatTheHandReadsIsWhatTheDeviceIs(t *testing.T) {
	t.Parallel()
	for name, made := range handled() {
		t.Run(name, func(t *testing.T) {
			held := 0
			for seed := range *handSeeds {
				if !sampled(seed) {
					continue
				}
				o := typesAtRandom(t, uint64(seed), seed%2 == 1, nil, made)
				if held += o.held; t.Failed() {
					return
				}
			}
			t.Logf("held to what the device is: %d", held)
			assert.Positive(t, held, "hardly anything was read")
		})
	}
}

// typesAtRandom has one operator work on a device.
func typesAtRandom(
	t *testing.T, seed uint64, awkward bool, tap tapping, made func(*testing.T, awkwardness, tapping) *hands,
) (o *atTheKeys) {
	synctest.Test(t, func(t *testing.T) {
		random := rand.New(rand.NewPCG(seed, 26))
		a := awkwardness{on: bench.Awkward{}, seed: seed}
		for _, one := range []string{bench.Noise, bench.Pager, bench.Colour, bench.History, bench.SlowEcho, bench.Wrap, bench.Name, bench.Questions, bench.Latency} {
			a.on[one] = awkward && random.IntN(3) == 0
		}
		o = &atTheKeys{T: t, hands: made(t, a, tap), random: random, tapped: tap != nil}
		if tap != nil { // no command twice in two spellings
			o.looks = slices.DeleteFunc(o.looks, func(look string) bool {
				return !strings.HasPrefix(look, o.looks[0][:3]) && strings.Contains(o.looks[0], " ")
			})
		}
		defer o.close()
		o.press("\r")
		o.logsIn()
		for range 12 {
			o.acts()
			if o.random.IntN(3) == 0 {
				if !o.judge() {
					return
				}
				o.logsIn()
			}
		}
		o.judge()
	})
	return o
}

// answered is a command and its answer.
type answered struct{ text, answer string }

// read are the exchanges of a record.
func read(events []event.Event) (all []answered) {
	reader := exchange.NewReader(func(x exchange.Recorded) {
		if x.Text != "" && x.Over.End != event.EndNone {
			all = append(all, answered{x.Text, strings.Join(x.Answer, "\n")})
		}
	}, func(string) {})
	for _, e := range events {
		reader.Event(e)
	}
	reader.End()
	return all
}

// blind are the same where nothing is known of how the device talks, out of its bytes and the keys.
func blind(events []event.Event) (all []event.Event) {
	var nobody *dialect.Dialect
	remake := exchange.NewRemaker(sense.Config{AsksSecret: nobody.AsksSecret}, nobody)
	for _, e := range events {
		switch e.Body.(type) {
		case event.In, event.Out, event.Line, event.Speed, event.SessionEnd:
			all = append(all, remake.Event(e)...)
		}
	}
	return all
}

// asksWord reports whether a password is asked for in an answer.
func asksWord(login []string, answer string) bool {
	return len(login) > 2 && strings.HasPrefix(answer, strings.TrimSpace(login[2]))
}

// whose is another command that was answered by what stands in an answer, nil for none. What several commands were
// answered by is nobody's.
func whose(one answered, all []answered) *answered {
	for _, other := range all {
		masked := strings.Contains(other.text,
			event.Redacted) // a command that was typed at the question for a password
		if masked || strings.TrimSpace(other.answer) == "" || !strings.Contains(one.answer, other.answer) {
			continue
		}
		answered := map[string]bool{}
		for _, right := range all {
			if strings.Contains(right.answer, other.answer) {
				answered[right.text] = true
			}
		}
		if len(answered) == 1 && !answered[one.text] {
			return &other
		}
	}
	return nil
}

// TestAnswersAreFoundWithoutADialect reads what operators did at random at tidy devices by its bytes and keys alone.
func TestAnswersAreFoundWithoutADialect(t *testing.T) {
	t.Parallel()
	for name, made := range handled() {
		t.Run(name, func(t *testing.T) {
			found, anothers, all := 0, 0, 0
			for seed := range *handSeeds {
				if !sampled(seed) {
					continue
				}
				wire := &tapped{}
				o := typesAtRandom(t, uint64(1000+seed), false, wire.on, made)
				rightly := read(o.events)
				left := map[answered]int{}
				for _, one := range rightly {
					if left[one]++; !asksWord(o.login, one.answer) {
						all++
					}
				}
				for _, one := range read(blind(wire.all)) {
					if asksWord(o.login, one.answer) {
						continue // it was typed as a name
					}
					if left[one] > 0 {
						left[one]--
						found++
					} else if other := whose(one, rightly); other != nil {
						if anothers++; anothers < 6 {
							t.Logf("seed %d: %q got %q, which is that of %q", seed, one.text, one.answer, *other)
						}
					} else if testing.Verbose() {
						t.Logf("seed %d: %q got %q", seed, one.text, one.answer)
					}
				}
			}
			t.Logf("%d of %d found, %d with another answer", found, all, anothers)
			assert.GreaterOrEqual(t, found+2, all*95/100, "a few, where there are few in all")
			assert.Zero(t, anothers)
		})
	}
}

// TestARecordFromBeforeIsReadByTheSameMaker takes the exchanges out of records, and finds them again by the bytes and
// the keys that were kept, with the dialect that was known then.
func TestARecordFromBeforeIsReadByTheSameMaker(t *testing.T) {
	t.Parallel()
	found, all := 0, 0
	for name, made := range handled() {
		for seed := range 6 {
			if !sampled(seed) {
				continue
			}
			o := typesAtRandom(t, uint64(2000+seed), false, nil, made)
			d := o.session.Dialect()
			config := d.Sense()
			config.AsksSecret = d.AsksSecret
			remake := exchange.NewRemaker(config, d)
			var again []event.Event
			for _, e := range o.events {
				switch e.Body.(type) {
				case event.Asked, event.Answered:
				default:
					again = append(again, remake.Event(e)...)
				}
			}
			left := map[answered]int{}
			for _, one := range read(o.events) {
				left[one]++
				all++
			}
			for _, one := range read(again) {
				if left[one] > 0 {
					left[one]--
					found++
				} else if testing.Verbose() {
					t.Logf("%s %d: %q got %q", name, seed, one.text, one.answer)
				}
			}
		}
	}
	t.Logf("%d of %d found", found, all)
	assert.GreaterOrEqual(t, found+2, all*95/100)
}
