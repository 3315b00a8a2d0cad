package tui

import (
	"cmp"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"

	"pilotrix/tui/field"
	"pilotrix/tui/keys"
	"pilotrix/tui/paint"
	"pilotrix/tui/strip"
	"pilotrix/tui/theme"
	"pilotrix/tui/view"
)

// place is a view, one of the main ones with its key in the row of keys.
type place struct {
	key, name string
	says      string // what the help says of it
	back      string // the view that Esc leads back to, empty for home
	view.View
}

// shell is what the start and a session have in common: places that are turned to, the strip, and the terminal.
type shell struct {
	theme theme.Theme
	fixed bool // the theme does not follow the terminal
	few   bool // the terminal has 256 colours or fewer
	plain bool // NO_COLOR: leave the terminal's own ground

	width, height int
	places        []place
	shown         int        // of the places
	home          string     // the one that Esc leads back to
	over          strip.Over // what the strip is used for before anything else, nil for nothing
	message       string
	messageAt     time.Time
	leave         tea.Msg // what leaving says, nil for the end of the program
}

const messageShown = 6 * time.Second

func newShell(ground string) shell {
	s := shell{
		theme:  theme.Dark(),
		fixed:  ground == "dark" || ground == "light",
		plain:  os.Getenv("NO_COLOR") != "",
		width:  80,
		height: 24,
	}
	if ground == "light" {
		s.theme = theme.Light()
	}
	return s
}

// asksGround asks the terminal whether its ground is light, where that decides the theme.
func (s *shell) asksGround() tea.Cmd {
	if s.fixed {
		return nil
	}
	return tea.RequestBackgroundColor
}

// hears takes what the terminal says of itself, the mouse, and pasted text. It reports whether it was such.
func (s *shell) hears(msg tea.Msg) bool {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		s.width, s.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if !s.fixed && !msg.IsDark() {
			s.setTheme(theme.Light())
		}
	case tea.ColorProfileMsg:
		s.few = msg.Profile < colorprofile.TrueColor
		s.setTheme(s.theme)
	case tea.PasteMsg:
		s.focused().Update(msg)
	case tea.MouseWheelMsg:
		s.wheel(msg.Mouse())
	default:
		return false
	}
	return true
}

func (s *shell) setTheme(t theme.Theme) {
	if s.few {
		t = t.Few()
	}
	s.theme = t
}

func (s *shell) wheel(m tea.Mouse) {
	rows := 3
	if m.Button == tea.MouseWheelDown {
		rows = -3
	}
	if v, can := s.view().(interface{ Wheel(rows int) }); can {
		v.Wheel(rows)
	}
}

// leaves is the command that ends this part of the interface.
func (s *shell) leaves() tea.Msg {
	if s.leave != nil {
		return s.leave
	}
	return tea.Quit()
}

func (s *shell) say(text string) { s.message, s.messageAt = text, time.Now() }

// An answer this soon after its question was for something else.
const tooSoonAfter = 700 * time.Millisecond

// early reports whether something was shown only just now.
func early(shown time.Time) bool { return time.Since(shown) < tooSoonAfter }

// quiet takes a message away that was there long enough.
func (s *shell) quiet() {
	if s.message != "" && time.Since(s.messageAt) > messageShown {
		s.message = ""
	}
}

// describes gives what a view's own command gave to all of them: each knows its own.
func (s *shell) describes(msg tea.Msg) tea.Cmd {
	var commands []tea.Cmd
	for _, p := range s.places {
		commands = append(commands, p.Update(msg))
	}
	return tea.Batch(commands...)
}

// updater is what takes the keys that nobody has declared, and pasted text.
type updater interface{ Update(tea.Msg) tea.Cmd }

// press gives a key to the first of some that declares it, or else to what has the focus. A text of several letters, as
// an input method gives them, is no key: it may read as the name of one.
func (s *shell) press(k tea.KeyPressMsg, focus []keys.Map) tea.Cmd {
	if utf8.RuneCountInString(k.Text) > 1 {
		return s.focused().Update(k)
	}
	for _, declared := range focus {
		if cmd, taken := declared.Press(k); taken {
			return cmd
		}
	}
	return s.focused().Update(k)
}

// focused takes what nobody has declared.
func (s *shell) focused() updater {
	if s.over != nil {
		return s.over
	}
	return s.view()
}

func (s *shell) view() view.View { return s.places[s.shown].View }

// show turns to a view. What was said of the previous one is over.
func (s *shell) show(name string) {
	s.message = ""
	if at := slices.IndexFunc(s.places, func(p place) bool { return p.name == name }); at >= 0 {
		s.shown = at
	}
}

// back is what Esc leads to: the view before, or home.
func (s *shell) back() string { return cmp.Or(s.places[s.shown].back, s.home) }

// placeKeys turn to the places that have a key.
func (s *shell) placeKeys(show func(string)) (all keys.Map) {
	for _, p := range s.places {
		if p.key != "" {
			all = append(all, keys.New(shownKey(p.key), p.name, keys.Just(func() { show(p.name) }), p.key).
				Explain(p.name+": "+p.says))
		}
	}
	return all
}

// menu offers choices in the strip until one is taken.
func (s *shell) menu(m strip.Menu) {
	for i, choice := range m.Choices {
		m.Choices[i].Do = func(k tea.KeyPressMsg) tea.Cmd {
			s.over = nil
			return choice.Do(k)
		}
	}
	s.over = &m
}

// ask has a text typed in the strip. done takes it; where it gives a complaint, it may be typed better.
func (s *shell) ask(label, enter, esc string, done func(text string) (cmd tea.Cmd, complaint string)) tea.Cmd {
	input := field.New("")
	prompt := &strip.Prompt{Label: label, Field: input}
	prompt.Choices = keys.Map{
		keys.New("Enter", enter, func() (cmd tea.Cmd) {
			if cmd, prompt.Complaint = done(strings.TrimSpace(input.Text())); prompt.Complaint == "" &&
				s.over == strip.Over(prompt) {
				s.over = nil
			}
			return cmd
		}, "enter"),
		keys.New("Esc", esc, keys.Just(func() { s.over = nil }), "esc"),
	}
	s.over = prompt
	return nil
}

func (s *shell) paint(lines []paint.Line) string {
	var out strings.Builder
	for i, line := range lines[:min(len(lines), s.height)] {
		if i > 0 {
			out.WriteByte('\n')
		}
		out.WriteString(line.Cut(s.width).String())
	}
	return out.String()
}

// keysRow is the row of keys that work everywhere. Where there is no room only the present view has its
// name.
func (s *shell) keysRow(all keys.Map) paint.Line {
	t, wide := s.theme, s.width >= sideLeast
	left, right := paint.Line{{Text: " "}}, paint.Line{}
	for _, k := range all.Enabled() {
		at := slices.IndexFunc(s.places, func(p place) bool { return shownKey(p.key) == k.Shown() })
		switch {
		case at < 0 && k.Shown() == "Esc": // the strip says it
		case at < 0:
			right = append(right, paint.In(t.Key, k.Shown()), paint.In(t.Quiet, " "+k.Does()+"   "))
		case at == s.shown:
			left = append(left, paint.Strong(t.Here, k.Shown()), paint.Strong(t.Bright, " "+k.Does()+"   "))
		case wide:
			left = append(left, paint.In(t.Key, k.Shown()), paint.In(t.Quiet, " "+k.Does()+"   "))
		case s.places[at].name == "help":
			left = append(left, paint.In(t.Key, k.Shown()), paint.In(t.Quiet, " "+k.Does()+"  "))
		default:
			left = append(left, paint.In(t.Key, k.Shown()), paint.In(t.Quiet, "  "))
		}
	}
	if last := len(right) - 1; last >= 0 {
		right[last].Text = strings.TrimSuffix(right[last].Text, "  ")
	}
	return paint.Between(left, right, s.width)
}
