package verbs

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"pilotrix/core/event"
	"pilotrix/core/expression"
	"pilotrix/core/reach"
	"pilotrix/core/runbook"
	"pilotrix/core/runbook/engine"
)

var _ = runbook.Register(runbook.Verb{
	Name:       "page",
	Does:       "gets a web page of the device, again and again until it has the status and the text that it has to have",
	Timeout:    5 * time.Minute,
	Repeatable: true,
	Cards:      []string{runbook.CardReach},
	New:        func() runbook.Body { return new(pageBody) },
})

type pageBody struct {
	URL    string `yaml:"url" jsonschema:"required" jsonschema_description:"Where it is, such as http://${address}/"`
	Status int    `yaml:"status" jsonschema:"minimum=100" jsonschema_description:"The status that it has to have; 200 unless said"`
	Text   string `yaml:"text" jsonschema:"required" jsonschema_description:"What has to stand on it, as a word of its own; may hold ${…}"`
	Proves string `yaml:"proves" jsonschema_description:"What it proves, in words"`
}

type pageWork struct {
	url, text, proves *expression.Template
	status            int
}

// Compile implements runbook.Body.
func (b *pageBody) Compile(c *runbook.Compiler) runbook.Work {
	w := &pageWork{c.Template("url", b.URL), c.Template("text", b.Text), c.Template("proves", b.Proves), b.Status}
	if w.status == 0 {
		w.status = 200
	}
	return w
}

// Summary implements runbook.Summarizer.
func (w *pageWork) Summary(p *runbook.Planner, _ *runbook.PreparedStep) runbook.Summary {
	return runbook.Summary{
		Checks: []string{
			fmt.Sprintf("%s answers with status %d, and “%s” stands on it", w.url.Shown(p.Known), w.status,
				w.text.Shown(p.Known)),
		},
	}
}

// pageEvery is how often a page is asked for, and how long one try may take.
const (
	pageEvery = time.Second
	pageTry   = 5 * time.Second
)

// Do implements engine.Doer.
func (w *pageWork) Do(ctx context.Context, run *engine.Run, s *runbook.PreparedStep) error {
	if run.Prepared.Kit.Network == nil {
		return errors.New("no network is at hand to ask the page over")
	}
	url, err := w.url.Render(run.Env())
	if err != nil {
		return err
	}
	text, err := w.text.Render(run.Env())
	if err != nil {
		return err
	}
	run.Now(s, "Asks for "+url, fmt.Sprintf("status %d, and “%s” on it", w.status, text), s.Timeout)
	report := ""
	for {
		page, err := w.try(ctx, run, url)
		if err == nil && page.Status == w.status && page.Holds(text) {
			run.Console.Emit(event.Check{
				Step: s.ID,
				Text: fmt.Sprintf("“%s” is on %s", text, url),
				Held: true,
				Got:  page.StatusText(),
			})
			return prove(run, w.proves)
		}
		got := pageText(page, err)
		if got != report {
			report = got
			run.Now(s, "Asks for "+url, fmt.Sprintf("status %d, and “%s” on it; now %s", w.status, text, got),
				s.Timeout)
		}
		if err := run.Console.Pause(ctx, pageEvery); err != nil {
			if errors.Is(err, engine.ErrTimeout) {
				run.Console.Emit(
					event.Check{Step: s.ID, Text: fmt.Sprintf("“%s” is on %s", text, url), Got: page.StatusText()})
				err = fmt.Errorf("%s does not show “%s”: %s; %w", url, text, got, err)
			}
			return err
		}
	}
}

func (w *pageWork) try(ctx context.Context, run *engine.Run, url string) (page reach.Page, err error) {
	limited, cancel := run.Console.Clock().WithTimeout(ctx, pageTry)
	defer cancel()
	return reach.GetPage(limited, run.Prepared.Kit.Network, url)
}

// pageText is what a page was, or why there was none.
func pageText(page reach.Page, err error) string {
	if err != nil {
		return "no answer"
	}
	return "status " + strconv.Itoa(page.Status) + ", " + strconv.Quote(page.Beginning())
}
