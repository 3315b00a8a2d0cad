package tui

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
	"pilotrix/core/session"
	"pilotrix/core/units"
)

func (a *app) askSearch() tea.Cmd {
	return a.ask("search back for", "finds, again the one before", "ends", func(text string) (tea.Cmd, string) {
		if a.toLine().Search(text) {
			return nil, found
		}
		return nil, "not found further back"
	})
}

// found keeps the search open for the previous one.
const found = "found; Enter looks further back"

func (a *app) askSpeed(s *session.Session) tea.Cmd {
	return a.ask("our end's speed in baud", "sets it", "leaves it", func(text string) (tea.Cmd, string) {
		baud, err := strconv.Atoi(text)
		if err != nil || baud < 50 {
			return nil, fmt.Sprintf("%q is no speed in baud", text)
		}
		return func() tea.Msg {
			return said(s.SetSpeed(a.ctx, baud, "set by hand"), fmt.Sprintf("our end is at %d baud", baud))
		}, ""
	})
}

// askFolder has a folder put on the shelf.
func (a *app) askFolder() tea.Cmd {
	return a.ask("folder to put on the shelf", "puts it there", "leaves it", func(folder string) (tea.Cmd, string) {
		if folder == "" {
			return nil, "type or paste a folder"
		}
		if err := a.opt.AddFolder(folder); err != nil {
			return nil, err.Error()
		}
		a.say(folder + " is on the shelf; its images are read")
		return nil, ""
	})
}

// maxText is how long a text may be that is typed from a file: a line of 9,600 baud takes a quarter of an hour for it.
const maxText = 1 << 20

// askText has a text typed that is in a file, as one that is pasted is.
func (a *app) askText() tea.Cmd {
	return a.ask("file with the text to type", "types it, line by line", "leaves it", func(path string) (tea.Cmd, string) {
		info, err := os.Stat(path)
		switch {
		case err != nil:
			return nil, err.Error()
		case !info.Mode().IsRegular() || info.Size() > maxText:
			return nil, path + " is no text of " + units.Bytes(maxText) + " or less"
		}
		text, err := os.ReadFile(path)
		switch {
		case err != nil:
			return nil, err.Error()
		case !utf8.Valid(text):
			return nil, path + " holds what is no text"
		}
		a.paste(at{a.session, a.state}, string(text))
		return nil, ""
	})
}

// paste types what was pasted into the console.
func (a *app) paste(to at, text string) {
	if !strings.ContainsAny(strings.TrimRight(text, "\r\n"), "\r\n") {
		if err := to.session.PressPasted(text); err != nil {
			to.session.Emit(event.Note{Level: event.Error, Text: "nothing was pasted: " + err.Error()})
		}
		return
	}
	typed, err := to.session.BeginPaste(text, session.PasteOptions{})
	if err != nil {
		to.session.Emit(event.Note{Level: event.Error, Text: "pasting stopped: " + err.Error()})
		return
	}
	go a.pasteText(to.session, typed)
}

// pasteText types a text of several lines, line after line; a key stops it.
func (a *app) pasteText(s *session.Session, typed func(context.Context) (session.Pasted, error)) {
	result, err := typed(a.ctx)
	switch {
	case errors.Is(err, engine.ErrHelm):
		s.Emit(event.Note{
			Level: event.Warning,
			Text:  fmt.Sprintf("pasting was stopped by a key after %s", units.Many(result.Lines, "line")),
		})
	case err != nil:
		s.Emit(event.Note{Level: event.Error, Text: "pasting stopped: " + err.Error()})
	default:
		s.Emit(event.Note{Level: event.Info, Text: fmt.Sprintf("pasted %s", units.Many(result.Lines, "line"))})
	}
}
