package exchange

import (
	"cmp"
	"strings"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/sense"
	"pilotrix/core/shown"
)

// Talk is what a maker needs to know of how the device talks.
type Talk interface {
	Echoes() bool
	Refuses(answer string) (words string)
	Starts(mode string) bool
}

// Found is something that a line of the device has shown; After is where that line ends in what was taken in.
type Found struct {
	After int
	Body  event.Body
	Ended *Exchange // the exchange that Body is the end of, nil for none
}

// Maker makes the exchanges of one line. It is used by one goroutine.
type Maker struct {
	Typed Typed

	talk   Talk
	sense  *sense.Sense
	now    func() time.Time
	number int
	queue  []Sent // whose Enter has gone out, and that the device has not taken yet
	open   *Exchange
	found  []Found
	doubt  bool      // which of the lines that wait the device has taken is not certain
	rested time.Time // since when the device waits at a prompt though lines wait, zero for not
}

// NewMaker begins with nothing asked. Its Ended is to be sensed's Config.Ended.
func NewMaker(sensed *sense.Sense, talk Talk, now func() time.Time) *Maker {
	return &Maker{sense: sensed, talk: talk, now: now}
}

// Learn says how the device talks from here on.
func (m *Maker) Learn(talk Talk) { m.talk = talk }

// Open is the exchange that goes on, nil for none.
func (m *Maker) Open() *Exchange {
	if m.open == nil {
		return nil
	}
	copied := *m.open
	return &copied
}

// Take returns what was found since it was called last, in its order.
func (m *Maker) Take() []Found {
	found := m.found
	m.found = nil
	return found
}

// maxSent bounds how many lines may wait for the device to take them.
const maxSent = 1000

// Enter takes a line whose Enter goes out now, before the sensing knows. It says what that has to know of it.
func (m *Maker) Enter(one Sent, v sense.State) (e sense.Enter) {
	one.at = m.now()
	e = sense.Enter{Command: m.Typed.Command() && !one.Secret, Typed: m.Typed.Echo()}
	asks := cmp.Or(m.Typed.Asked, v.Question())
	if before := (drawn{text: one.Base}); !one.Secret && !e.Command &&
		m.likeBefore(&before) { // and no question with its default
		e.Command = true
	}
	switch {
	case one.Secret || !e.Command && asks != "":
		m.replied(one, v, asks)
	case !e.Command || strings.TrimSpace(one.Text) == "" && one.Certain:
		e.Leads = true // an Enter alone: whatever is written then is the device's own word
	default:
		m.command(one, v, &e)
	}
	return e
}

// replied notes the answer to a question. One that stands for itself is an exchange of its own.
func (m *Maker) replied(one Sent, v sense.State, asks string) {
	if base := strings.TrimSpace(one.Base); base != "" {
		asks = base // as it was before anything was typed there
	}
	asks = strings.TrimSpace(asks)
	text := strings.TrimSpace(one.Text)
	if one.Secret {
		text = ""
	}
	if m.open == nil && len(m.queue) > 0 && !m.queue[0].ahead {
		m.beginUnshown()
	}
	shown := one.Who != event.Hand ||
		strings.HasSuffix(shown.Squeeze(v.Partial),
			shown.Squeeze(text)) // else it may be a secret that nothing knows for one
	if m.open == nil && len(m.queue) == 0 {
		seen := event.SeenDrawn
		if one.Secret || !shown {
			text, seen = "", event.SeenSecret
		}
		m.begin(one, v.Mode, asks+" ", text, seen, 0)
		return
	}
	if m.open == nil {
		return
	}
	m.seeReply("") // the previous one was not shown
	m.open.Questions = append(m.open.Questions, event.Question{Text: asks, Answer: text, Secret: one.Secret || !shown})
	if !shown {
		m.open.unseen = text
	}
}

// seeReply takes the line that the answer to a question was typed on, which says whether that is shown.
func (m *Maker) seeReply(line string) {
	x := m.open
	if x == nil || x.unseen == "" {
		return
	}
	last := &x.Questions[len(x.Questions)-1]
	last.Secret = !strings.HasSuffix(shown.Squeeze(line), shown.Squeeze(x.unseen))
	x.unseen = ""
	if last.Secret {
		last.Answer = ""
	}
}

// command takes a command in: the device takes it now, or later.
func (m *Maker) command(one Sent, v sense.State, e *sense.Enter) {
	one.ahead = !m.idle(one, v)
	e.Ahead = one.ahead
	if one.Leads != nil && one.Certain {
		e.Leads = one.Leads(one.Text)
	}
	if !m.talk.Echoes() && !one.ahead {
		m.close(event.EndCut, v, 0)
		m.begin(one, one.Mode, one.Base, one.Text, event.SeenTyped, 0)
		return
	}
	if one.tentative = !one.ahead && m.open != nil && one.Mode == "" && !m.sense.KnowsDialect(); one.tentative {
		e.Ahead = true
	} else if !one.ahead && m.open != nil { // its prompt had come, and had not rested
		end := event.EndCut
		if prompt, _, behind := m.sense.BehindPrompt(v.Partial); behind {
			if mode, known := m.sense.ModeOf(prompt); known {
				v.Mode, end = mode, endAt(mode, m.open)
			}
		}
		m.close(end, v, 0)
	}
	if len(m.queue) < maxSent {
		m.queue = append(m.queue, one)
	}
}

// idle reports whether the device waits for the line, and is not busy with the previous one.
func (m *Maker) idle(one Sent, v sense.State) bool {
	if len(m.queue) > 0 {
		return false
	}
	drawn, behindPrompt := m.Typed.Drawn(v)
	_, bare := m.sense.ModeOf(v.Partial)
	ours := !one.Certain ||
		strings.HasPrefix(shown.Squeeze(one.Text), shown.Squeeze(drawn)) &&
			(drawn != "" || bare) // and no row of an answer
	if one.Mode != "" || behindPrompt && v.Ended && ours {
		return true
	}
	base := strings.TrimSpace(one.Base)
	if m.open != nil {
		_, known := m.sense.ModeOf(m.open.Prompt)
		again := !known && base != "" && Kind(base) == Kind(strings.TrimSpace(m.open.Prompt))
		return again || m.open.screen(m.sense) ||
			!m.sense.KnowsDialect() && m.Typed.rested && likePrompt(one.Base) != nil
	}
	return base != "" || !m.sense.KnowsPrompts()
}

// Kind is what prompts have in common that count.
func Kind(text string) string {
	return strings.Map(func(r rune) rune {
		if r >= '0' && r <= '9' {
			return -1
		}
		return r
	}, text)
}

// screen reports whether a full-screen program draws.
func (x *Exchange) screen(s *sense.Sense) bool { return s.Model().Painted() }

// Interrupt takes note of the key that breaks off what the device does, and drops what is typed. It says what the
// sensing has to know of it.
func (m *Maker) Interrupt() sense.Enter {
	drops := m.open == nil && m.Typed.Command()
	if m.open != nil {
		m.open.broken = true
	}
	m.queue = nil
	m.Typed.Forget()
	return sense.Enter{Command: drops}
}

// Ended takes a line that the device has ended.
func (m *Maker) Ended(line shown.Ended) {
	if m.open != nil && m.open.unseen != "" {
		m.seeReply(string(line.Text))
	}
	if len(m.queue) == 0 {
		return
	}
	d := drawn{text: string(line.Text), present: !line.New}
	if d.prompt, d.rest, d.behind = m.sense.BehindPrompt(d.text); !d.behind {
		d.rest = d.text
		m.likeBefore(&d)
	}
	for i := range m.queue {
		one := &m.queue[i]
		if i > 0 && !one.Certain {
			return // whatever stands there may be it, or the previous one
		}
		if one.tentative && i == 0 {
			base := strings.TrimSpace(one.Base)
			d.present = base != "" && strings.HasPrefix(strings.TrimSpace(d.text), base)
			if d.present && !d.behind && strings.TrimSpace(d.text) == base {
				m.notShown()
				return
			}
		}
		verdict, prompt, text := d.of(one)
		switch verdict {
		case whole, unlike:
			m.took(i, prompt, text, d.text, line.After)
			m.open.doubt = m.open.doubt || verdict == unlike
			return
		case part:
			one.joined += d.rest
			if prompt != "" {
				one.Base = prompt
			}
			return
		}
	}
	m.shownOnly(&m.queue[0], d, line.After)
}

// likeBefore finds a prompt on a line by that of the exchange that goes on, where no dialect knows any.
func (m *Maker) likeBefore(d *drawn) bool {
	if m.open == nil || m.sense.KnowsDialect() {
		return false
	}
	if m.open.like == nil {
		m.open.like = shown.NewPrompts(likePrompt(m.open.Prompt))
	}
	rest, found := m.open.like.Behind(d.text, m.open.Prompt)
	if found {
		d.prompt, d.rest, d.behind = d.text[:len(d.text)-len(rest)], rest, true
	}
	return found
}

// echoesWithin is how soon a terminal's own echo comes.
const echoesWithin = time.Second

// notShown takes the first line that waits, which the device has ended without showing it, for the answer to a question
// that it has asked: a secret.
func (m *Maker) notShown() {
	one := m.queue[0]
	m.queue = append([]Sent(nil), m.queue[1:]...)
	if m.open != nil {
		m.open.Questions = append(m.open.Questions, event.Question{Text: strings.TrimSpace(one.Base), Secret: true})
	}
}

// shownOnly takes a line that shows what was typed ahead where no prompt stands: as the answer to a question of a
// program, or as a terminal's own echo, which is not repeated behind the prompt then: where the answer begins is in
// doubt.
func (m *Maker) shownOnly(head *Sent, d drawn, after int) {
	want := shown.Squeeze(head.Text)
	shows := !d.behind && head.Certain && want != "" && strings.HasSuffix(shown.Squeeze(d.text), want)
	switch {
	case !head.ahead:
	case shows && m.open == nil: // its prompt had come before anybody listened
		m.took(0, strings.TrimSuffix(strings.TrimRight(d.text, " "), head.Text), head.Text, d.text, after)
		m.open.doubt = true
	case head.shown != "" && d.behind && shown.Squeeze(d.rest) != "":
		if m.doubt = true; m.open != nil {
			m.open.doubt = true
		}
		m.took(0, d.prompt, head.Text, d.prompt, after)
	case shows && m.now().Sub(head.at) < echoesWithin:
		head.shown = d.text
	}
}

// took begins the exchange of a line in the queue. Those before it were answers to questions of a program, or nothing
// has taken them. Echo is what of the drawn line is no answer yet.
func (m *Maker) took(i int, prompt, text, echo string, after int) {
	one := m.queue[i]
	if m.open != nil {
		for _, before := range m.queue[:i] {
			if before.shown != "" {
				asks := strings.TrimSuffix(strings.TrimRight(before.shown, " "), before.Text)
				m.open.Questions = append(m.open.Questions,
					event.Question{Text: strings.TrimSpace(asks), Answer: before.Text})
			}
		}
	}
	m.queue = append([]Sent(nil), m.queue[i+1:]...)
	if prompt == "" {
		prompt = one.Base
	}
	mode, known := m.sense.ModeOf(prompt)
	if !known {
		mode = one.Mode
	}
	if m.open != nil {
		end, v := event.EndCut, m.sense.State()
		if known {
			v.Mode, end = mode, endAt(mode, m.open)
		}
		m.close(end, v, after)
	}
	m.begin(one, mode, prompt, text, event.SeenDrawn, after)
	m.sense.Takes(echo, one.ahead || one.tentative, one.Leads != nil && one.Leads(text))
}

// beginUnshown begins the exchange of the first line in the queue, which the device does not show.
func (m *Maker) beginUnshown() {
	one := m.queue[0]
	m.queue = m.queue[1:]
	text, seen := one.Text, event.SeenTyped
	if m.talk.Echoes() && one.Who == event.Hand { // it may be a secret that nothing knew for one
		text, seen = "", event.SeenSecret
	}
	m.begin(one, one.Mode, one.Base, text, seen, 0)
}

func (m *Maker) begin(one Sent, mode, prompt, text string, seen event.Seen, after int) {
	m.number++
	asked := event.Asked{
		Number: m.number,
		Who:    one.Who,
		Mode:   mode,
		Prompt: prompt,
		Text:   text,
		Seen:   seen,
		Ahead:  one.ahead,
		Step:   one.Step,
	}
	if one.Means != nil && seen != event.SeenSecret {
		asked.Means = one.Means(text, mode)
	}
	m.open = &Exchange{
		Asked:  asked,
		Ref:    one.Ref,
		State:  Answering,
		Begun:  one.at,
		doubt:  m.doubt,
		proofs: m.sense.View().Count,
	}
	if seen == event.SeenDrawn && one.ahead {
		m.open.Begun = m.now()
	}
	if seen == event.SeenTyped && one.ahead { // at the prompt that it has come to
		m.open.bytes = m.sense.View().Bytes
	}
	m.rested = time.Time{}
	m.found = append(m.found, Found{After: after, Body: asked})
}

// close ends the exchange that goes on, if one does.
func (m *Maker) close(end event.End, v sense.State, after int) {
	x := m.open
	if x == nil {
		return
	}
	m.seeReply("")
	m.open = nil
	lost := v.Lost()
	switch {
	case x.screen(m.sense):
		end = event.EndScreen
	default:
		x.answer = x.before + v.Output()
	}
	if (end == event.EndPrompt || end == event.EndCut) && x.broken {
		end = event.EndBroken
	}
	x.State = Ended
	x.Over = event.Answered{
		Number:    x.Number,
		End:       end,
		Mode:      v.Mode,
		Took:      m.now().Sub(x.Begun),
		Rows:      strings.Count(x.answer, "\n"),
		Lost:      lost,
		Pages:     x.Pages,
		Questions: x.Questions,
		Doubt:     x.doubt,
	}
	if lost == 0 && x.Over.Rows <= maxRefusal {
		x.Over.Refused = m.talk.Refuses(x.answer)
	}
	m.found = append(m.found, Found{After: after, Body: x.Over, Ended: x})
}

// maxRefusal is how many rows a refusal has at most: a longer answer may have such words in it, and it takes time to
// look for them.
const maxRefusal = 60

// rests is how long a device may wait at a prompt and still take what was typed ahead.
const rests = 2 * time.Second

// See takes note of what the device is in, and ends what has ended.
func (m *Maker) See(v sense.State) {
	m.unshown(v)
	x := m.open
	if x == nil {
		return
	}
	if v.Pager && !x.paging {
		x.Pages++
	}
	x.paging = v.Pager
	switch {
	case v.AtPrompt && v.Bytes > x.bytes:
		m.close(endAt(v.Mode, x), v, 0)
		return
	case v.Count != x.proofs && m.talk.Starts(v.Mode):
		m.close(event.EndLed, v, 0)
		return
	}
	x.State = Answering
	switch {
	case v.Pager:
		x.State = Paged
	case v.Question() != "":
		x.State = Asking
	}
}

// unshown begins, and so ends, the exchange of a line that the device has answered without ever showing it.
func (m *Maker) unshown(v sense.State) {
	m.doubt = m.doubt && (len(m.queue) > 0 || !v.AtPrompt)
	if len(m.queue) == 0 || !v.AtPrompt || !v.Answered {
		m.rested = time.Time{}
		return
	}
	if !m.queue[0].ahead {
		switch {
		case v.Ended && m.queue[0].tentative:
			m.notShown()
		case v.Ended:
			m.beginUnshown()
		}
		return
	}
	if m.open != nil {
		m.close(endAt(v.Mode, m.open), v, 0)
	}
	if !m.talk.Echoes() { // it takes the next one now, and does not show that
		one := m.queue[0]
		m.queue = append([]Sent(nil), m.queue[1:]...)
		m.begin(one, v.Mode, v.Partial, one.Text, event.SeenTyped, 0)
		m.sense.Takes(v.Partial, true, one.Leads != nil && one.Leads(one.Text))
		return
	}
	if m.rested.IsZero() {
		m.rested = m.now()
	}
	if m.now().Sub(m.rested) >= rests { // nothing says whether it took them
		for len(m.queue) > 0 {
			m.beginUnshown()
			m.close(event.EndNone, sense.State{Mode: v.Mode}, 0)
		}
	}
}

// endAt is how an exchange ends at a prompt of a mode.
func endAt(mode string, x *Exchange) event.End {
	if x.Mode != "" && mode != x.Mode {
		return event.EndLed
	}
	return event.EndPrompt
}

// Next is when See is wanted though nothing may come, the zero time for never.
func (m *Maker) Next() time.Time {
	if m.rested.IsZero() || len(m.queue) == 0 {
		return time.Time{}
	}
	return m.rested.Add(rests)
}

// Moves notes that a file has the line, or is over: what was answered so far is kept.
func (m *Maker) Moves(v sense.State) {
	if m.open != nil {
		m.open.State, m.open.before = Moving, m.open.before+v.Output()
	}
}

// Close ends what goes on and drops what waits, before what is known of the line is forgotten.
func (m *Maker) Close(end event.End, v sense.State) {
	m.close(end, v, 0)
	m.queue = nil
	m.rested = time.Time{}
	m.Typed.Forget()
}
