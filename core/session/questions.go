package session

import (
	"context"
	"fmt"
	"slices"
	"strconv"

	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

// questions are those that wait for the operator: one is asked, the others queue. They belong to the
// session's loop.
type questions struct {
	emit func(event.Body)
	open []question // the one that is asked first
	next int
}

type question struct {
	ask    event.Ask
	answer chan string
}

func newQuestions(emit func(event.Body)) *questions {
	return &questions{emit: emit}
}

// ask opens a question, in its turn; its answer comes on the channel.
func (q *questions) ask(ask event.Ask) (id string, answer <-chan string) {
	q.next++
	ask.ID = strconv.Itoa(q.next)
	came := make(chan string, 1)
	q.open = append(q.open, question{ask, came})
	if len(q.open) == 1 {
		q.emit(ask)
	}
	return ask.ID, came
}

// at is the place of a question, -1 where it is not open.
func (q *questions) at(id string) int {
	return slices.IndexFunc(q.open, func(one question) bool { return one.ask.ID == id })
}

// over takes a question away, and asks the next one where it was asked. The answer is what ended it.
func (q *questions) over(at int, how event.Answer) {
	if one := q.open[at].ask; at > 0 && how.Who != "" { // nobody is there to be asked: all is answered at once
		q.emit(one)
	}
	q.open = slices.Delete(q.open, at, at+1)
	if at > 0 && how.Who == "" {
		return // it was never asked
	}
	q.emit(how)
	if len(q.open) > 0 {
		q.emit(q.open[0].ask)
	}
}

// answer closes a question. It reports whether it was open and has that answer.
func (q *questions) answer(id, answer, who string) bool {
	at := q.at(id)
	if at < 0 {
		return false
	}
	one := q.open[at]
	if !one.ask.Typed && !slices.Contains(one.ask.Answers, answer) {
		return false
	}
	report := answer
	if one.ask.Secret {
		report = event.Redacted
	}
	q.over(at, event.Answer{ID: id, Answer: report, Who: who})
	one.answer <- answer
	return true
}

// withdraw closes a question that nobody waits with any more.
func (q *questions) withdraw(id string) {
	if at := q.at(id); at >= 0 {
		q.over(at, event.Answer{ID: id, Answer: "withdrawn"})
	}
}

// Answer answers a question of the runbook. It reports whether the question was still open and has
// that answer.
func (s *Session) Answer(id, answer, who string) (taken bool) {
	s.do(func() { taken = s.questions.answer(id, answer, who) })
	return taken
}

// askForLine asks what the other side of the line wants to know, when it is opened again.
func (s *Session) askForLine(ctx context.Context, q line.Question) (string, error) {
	if s.opt.Approve != nil {
		return "", fmt.Errorf("%s: nobody is here to say", q.Text)
	}
	answer, err := s.run().Ask(ctx,
		event.Ask{Form: event.FormLine, Text: q.Text, Typed: len(q.Choice) == 0, Secret: q.Secret, Answers: q.Choice})
	switch {
	case err != nil:
		return "", err
	case answer == "":
		return "", fmt.Errorf("%w: the %s was not given", line.ErrDenied, q.Text)
	case q.Secret:
		s.hub.Protect(answer)
	}
	return answer, nil
}

// safest is the answer to a question that nobody is there for: to stop, or else what ends it.
func safest(answers []string) string {
	if slices.Contains(answers, engine.StopHere) || len(answers) == 0 {
		return engine.StopHere
	}
	return answers[len(answers)-1]
}

// Ask implements engine.Console.
func (c console) Ask(ctx context.Context, ask event.Ask) (string, error) {
	s := c.s
	var answer <-chan string
	s.do(func() { ask.ID, answer = s.questions.ask(ask) })
	if s.opt.Approve != nil {
		if !s.Answer(ask.ID, s.opt.Approve(ask), "command line") {
			s.Answer(ask.ID, safest(ask.Answers), "command line") // it has no such answer
		}
	}
	select {
	case got := <-answer:
		return got, nil
	case <-ctx.Done():
		s.do(func() { s.questions.withdraw(ask.ID) })
		return "", ctx.Err()
	case <-s.done:
		return "", engine.ErrLineLost
	}
}
