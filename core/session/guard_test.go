package session

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/clock"
	"pilotrix/core/dialect"
	"pilotrix/core/event"
	"pilotrix/core/line"
	"pilotrix/core/runbook/engine"
)

const dangerous = `
dialect: dangerous
modes: [{mode: ready, prompt: '^> $'}, {mode: booting, text: '^booting'}]
pending: [{pending: choice, after: '^favour\b', until: '^stow\b', says: the choice}, {pending: trial, after: '^try\b', until: '^confirm\b', within: 5m, says: the old release comes back}]
restarts: ['^recommence\b']
dangers: [{pattern: '^wipe bank\b', says: empties a bank}]
secrets: ['^word: $']
`

// locked opens a session whose far end echoes what is typed.
func locked(t *testing.T, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
	lockedBy(t, dangerous, use)
}

func lockedBy(t *testing.T, text string, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
	d, err := dialect.Parse("dangerous.yaml", []byte(text))
	require.NoError(t, err)
	overFake(t, Options{Dialect: d}, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.prompt()
		use(t, s, l, feed)
	})
}

// overFake opens a session over a fake line, which has said nothing yet.
func overFake(t *testing.T, opt Options, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
	synctest.Test(t, func(t *testing.T) {
		l := newFakeLine()
		opt.Target, opt.Opener = l.Target(), line.NewOpener(clock.Real())
		opt.Opener.Register(line.TCP, func(context.Context, line.Target) (line.Line, error) { return l, nil })
		s, err := Open(t.Context(), opt)
		require.NoError(t, err)
		feed := s.Subscribe()
		s.Begin()
		use(t, s, l, feed)
		s.Close("the test ends")
	})
}

func (l *fakeLine) prompt() {
	l.says("\r\n> ")
	time.Sleep(50 * time.Millisecond)
}

// typeKeys types one key at a time.
func typeKeys(s *Session, keys string) {
	for _, key := range keys {
		s.Press([]byte(string(key)))
	}
}

func states(t *testing.T, feed *event.Feed) (all []string) {
	for _, i := range collect[event.Interlock](t, feed) {
		all = append(all, strings.TrimSpace(i.State+" "+i.Command))
	}
	return all
}

func TestADangerIsStoppedAtItsEnterAndNowhereElse(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "wipe  bank B\r")
		assert.Equal(t, "wipe  bank B", l.got(), "every byte but the Enter")
		assert.Equal(t, []string{"held wipe  bank B"}, states(t, feed))
		assert.True(t, s.SendHeld())
		assert.Equal(t, "wipe  bank B\r", l.got())
		assert.False(t, s.SendHeld(), "once")
		assert.Equal(t, []string{"sent wipe  bank B"}, states(t, feed))
	})
}

func TestAnyOtherKeyForgetsTheEnter(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "wipe bank B\r")
		typeKeys(s, "\x15look\r")
		assert.Equal(t, "wipe bank B\x15look\r", l.got(), "the changed line goes through")
		assert.Equal(t, []string{"held wipe bank B", "forgotten wipe bank B"}, states(t, feed))
		assert.False(t, s.SendHeld())
	})
}

func TestEditingIsFollowed(t *testing.T) {
	for typed, held := range map[string]bool{
		"wipex\x7f bank B\r":            true,
		"wipe bank\x08\x08\x08\x08st\r": false,
		"x\x03wipe bank B\r":            true,
		"look \x17wipe bank B\r":        true,
		"wipe bankrupt\r":               false,
		"say wipe bank\r":               false,
	} {
		locked(t, func(t *testing.T, s *Session, _ *fakeLine, feed *event.Feed) {
			typeKeys(s, typed)
			assert.Equal(t, held, len(states(t, feed)) > 0, "%q", typed)
		})
	}
}

func TestARestartIsStoppedWhileSomethingIsUnsaved(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "recommence\r")
		assert.Empty(t, states(t, feed), "nothing is unsaved")
		l.prompt()
		typeKeys(s, "favour B\r")
		l.prompt()
		typeKeys(s, "recommence\r")
		held := collect[event.Interlock](t, feed)
		require.Len(t, held, 1)
		assert.Equal(t, "restarts the device, and this is lost by it: the choice", held[0].Says)
		typeKeys(s, "\x15stow\r")
		l.prompt()
		typeKeys(s, "recommence\r")
		assert.Equal(t, []string{"forgotten recommence"}, states(t, feed), "it is saved now")
	})
}

func TestARestartThatHappensLosesWhatWasUnsaved(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "favour B\rrecommence\r")
		require.True(t, s.SendHeld())
		l.says("sure? ")
		l.says("\r\nbooting\r\n")
		time.Sleep(time.Second)
		l.prompt()
		states(t, feed)
		typeKeys(s, "recommence\r")
		assert.Empty(t, states(t, feed), "nothing to lose any more")
	})
}

// TestWhatTheDeviceRecallsIsSeen lets the device put a dangerous line there, as its history does.
func TestWhatTheDeviceRecallsIsSeen(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.Press([]byte("\x1b[A"))
		l.says("wipe bank B")
		time.Sleep(50 * time.Millisecond)
		s.Press([]byte("\r"))
		assert.Equal(t, []string{"held wipe bank B"}, states(t, feed))
		s.Press([]byte("\x03"))
		l.prompt()
		s.Press([]byte("\x1b[A"))
		s.Press([]byte("\r"))
		held := collect[event.Interlock](t, feed)
		require.Len(t, held, 2)
		assert.Contains(t, held[1].Says, "has not shown it yet")
	})
}

func TestAPasteWaitsBehindAHeldEnter(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.Press([]byte("look\rwipe bank B\rlook again\r"))
		assert.Equal(t, "look\rwipe bank B", l.got())
		require.True(t, s.SendHeld())
		assert.Equal(t, "look\rwipe bank B\rlook again\r", l.got())
		s.Press([]byte("wipe bank A\rlook\r"))
		s.Press([]byte("x"))
		assert.Equal(t, "look\rwipe bank B\rlook again\rwipe bank Ax", l.got())
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 1)
		assert.Contains(t, notes[0].Text, "not sent: 5 characters, pasted behind “wipe bank A”")
	})
}

func TestInterlocksMayBeSwitchedOffAndThatIsRecorded(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.SetInterlocks(false)
		typeKeys(s, "wipe bank B\r")
		assert.Equal(t, "wipe bank B\r", l.got())
		s.SetInterlocks(true)
		s.SetInterlocks(true)
		typeKeys(s, "wipe bank B\r")
		assert.Equal(t, []string{"off", "on", "held wipe bank B"}, states(t, feed))
	})
}

func TestASecretIsNoCommand(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.says("\r\nword: ")
		time.Sleep(50 * time.Millisecond)
		typeKeys(s, "wipe bank B\r")
		assert.Equal(t, "wipe bank B\r", l.got())
		assert.Empty(t, states(t, feed))
	})
}

// TestWhatIsRecalledIsSeenHoweverItIsDrawn lets the device put a dangerous line in the place of another.
func TestWhatIsRecalledIsSeenHoweverItIsDrawn(t *testing.T) {
	for name, shows := range map[string]string{
		"backspaces":         "\b\b\b\b\x1b[Kwipe bank B",
		"prompt redrawn":     "\r> wipe bank B\x1b[K",
		"cursor movement":    "\x1b[4D\x1b[Kwipe bank B",
		"erased below":       "\x1b[4D\x1b[Jwipe bank B",
		"column":             "\x1b[3G\x1b[Kwipe bank B",
		"deleted characters": "\x1b[4D\x1b[4Pwipe bank B",
		"cursor left in it":  "\x1b[4D\x1b[Kwipe bank B\x1b[5D",
		"a log line behind":  "\x1b[4D\x1b[Kwipe bank B\r\n%LOG-5: something happened\r\n",
		"a log line, prompt": "\x1b[4D\x1b[Kwipe bank B\r\n%LOG-5: something happened\r\n> wipe bank B",
	} {
		locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			typeKeys(s, "look")
			l.says("look")
			time.Sleep(50 * time.Millisecond)
			s.Press([]byte("\x1b[A"))
			time.Sleep(20 * time.Millisecond)
			l.says(shows)
			time.Sleep(50 * time.Millisecond)
			s.Press([]byte("\r"))
			assert.Equal(t, []string{"held wipe bank B"}, states(t, feed), name)
			assert.Equal(t, "look\x1b[A", l.got(), name)
		})
	}
}

// TestALineThatCannotBeSeenIsHeld has the recalled line pushed away before it was seen.
func TestALineThatCannotBeSeenIsHeld(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.Press([]byte("\x1b[A"))
		time.Sleep(20 * time.Millisecond)
		l.says("\r\n%LOG-5: something happened\r\n")
		time.Sleep(50 * time.Millisecond)
		s.Press([]byte("\r"))
		held := collect[event.Interlock](t, feed)
		require.Len(t, held, 1)
		assert.Contains(t, held[0].Says, "has not shown it yet")
	})
}

func TestASecretIsOneWhateverTheDeviceWritesMeanwhile(t *testing.T) {
	for _, between := range []string{"", "\r\n%LOG-5: link up\r\n", "\r\n%LOG-5: link up\r\nword: "} {
		locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			l.says("\r\nword: ")
			time.Sleep(50 * time.Millisecond)
			if between != "" {
				l.says(between)
				time.Sleep(50 * time.Millisecond)
			}
			typeKeys(s, "hunter2\r")
			for _, out := range collect[event.Out](t, feed) {
				assert.Empty(t, out.Bytes, "%q", between)
				assert.Equal(t, 1, out.Secret)
			}
			l.says("\r\n$ ") // a prompt that no dialect knows
			time.Sleep(50 * time.Millisecond)
			typeKeys(s, "look")
			l.says("look")
			time.Sleep(50 * time.Millisecond)
			assert.Equal(t, event.Text("look"), collect[event.Out](t, feed)[0].Bytes, "what it shows is no secret")
		})
	}
}

// TestATrialHasADeadlineOfTheSession is reported when it begins, is still there for whoever asks, and runs out by
// itself while nobody does anything.
func TestATrialHasADeadlineOfTheSession(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		began := time.Now()
		typeKeys(s, "try 8.1\r")
		open := s.run().Pending()
		require.Len(t, open, 1)
		assert.WithinDuration(t, began.Add(5*time.Minute), open[0].Until, time.Second)
		time.Sleep(6 * time.Minute)
		assert.Empty(t, s.run().Pending())
		typeKeys(s, "favour B\r")
		typeKeys(s, "stow\r")
		var report []string
		for _, p := range collect[event.Pending](t, feed) {
			report = append(report, p.Name+" "+p.State)
		}
		assert.Equal(t, []string{"trial pending", "trial ran out", "choice pending", "choice dealt with"}, report)
	})
}

const clearing = "line: {clear: \"\\x15\"}\n" + dangerous

// controlled is a session of a dialect, with the helm at a runbook that waits for what the test does.
func controlled(t *testing.T, text string, use func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed)) {
	lockedBy(t, text, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		s.do(func() { s.helm.begin("a test") })
		use(t, s, l, feed)
	})
}

// half types without an Enter, as far as the device shows it.
func half(s *Session, l *fakeLine, keys, echoed string) {
	typeKeys(s, keys)
	l.says(echoed)
	time.Sleep(50 * time.Millisecond)
}

func TestTheHelmIsNotGivenBackWhileAnEnterIsHeld(t *testing.T) {
	controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		who := func() (who string) { s.do(func() { who = s.helm.who }); return who }
		half(s, l, "wipe bank B\r", "wipe bank B")
		for _, as := range []engine.Wish{engine.Repeat, engine.GoOn} {
			s.GiveHelm(as)
			assert.Equal(t, event.Hand, who())
		}
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 2)
		assert.Contains(t, notes[0].Text, "not given back while the Enter behind “wipe bank B” is held")
		assert.Equal(t, "wipe bank B", l.got())
		s.GiveHelm(engine.Stop)
		assert.Equal(t, event.Runbook, who(), "a stop is always taken")
		s.TakeHelm()
		require.True(t, s.SendHeld())
		s.GiveHelm(engine.Repeat)
		assert.Equal(t, event.Runbook, who())
	})
}

func TestWhatTheHandLeftIsNeverEndedByTheRunbook(t *testing.T) {
	types := map[string]func(context.Context, console) error{
		"wake": func(ctx context.Context, c console) error { return c.Type(ctx, "\r", false) },
		"key":  func(ctx context.Context, c console) error { return c.Type(ctx, "s", false) },
		"secret": func(ctx context.Context, c console) error {
			return c.Command(ctx, "x",
				engine.Typing{Secret: true})
		},
		"empty": func(ctx context.Context, c console) error { return c.Command(ctx, "", engine.Typing{}) },
	}
	for name, do := range types {
		controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
			half(s, l, "wipe bank B", "wipe bank B")
			s.GiveHelm(engine.Repeat)
			done := make(chan error, 1)
			go func() { done <- do(t.Context(), s.run()) }()
			assert.Equal(t, "wipe bank B\x15", l.got(), "%s: the line is emptied first", name)
			l.says("\r\x1b[K> ")
			require.NoError(t, <-done)
			after := strings.TrimPrefix(l.got(), "wipe bank B\x15")
			assert.Contains(t, []string{"\r", "s", "x\r"}, after)
			assert.Contains(t, collect[event.Note](t, feed)[0].Text,
				"“wipe bank B” stands on the line and was not sent")
		})
		controlled(t, dangerous, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			half(s, l, "wipe bank B", "wipe bank B")
			s.GiveHelm(engine.Repeat)
			err := do(t.Context(), s.run())
			assert.ErrorContains(t, err,
				"“wipe bank B” stands on the line and was not sent; the dialect knows no key that empties the line")
			assert.Equal(t, "wipe bank B", l.got(), "%s: nothing is typed behind it", name)
		})
	}
}

// TestWhatIsNotShownIsEmptiedUnseen has a device that echoes nothing: it is off, say, or asks for a password in words
// that nobody knows.
func TestWhatIsNotShownIsEmptiedUnseen(t *testing.T) {
	controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		typeKeys(s, "lamp-and-tide")
		s.GiveHelm(engine.Repeat)
		before := time.Now()
		require.NoError(t, s.run().Type(t.Context(), "\r", false))
		assert.Equal(t, "lamp-and-tide\x15\r", l.got())
		assert.Zero(t, time.Since(before), "there is nothing to wait for")
		notes := collect[event.Note](t, feed)
		require.Len(t, notes, 1)
		assert.Contains(t, notes[0].Text, "something that the device does not show")
		require.NoError(t, s.run().Type(t.Context(), "\r", false))
		assert.Equal(t, "lamp-and-tide\x15\r\r", l.got(), "once")
	})
}

// TestTheRunbooksOwnLeftoverIsNotEndedEither has a command that came back wrong, and the step that is tried again.
func TestTheRunbooksOwnLeftoverIsNotEndedEither(t *testing.T) {
	for text, want := range map[string]string{dangerous: "wipe bank B", clearing: "wipe bank B\x15"} {
		controlled(t, text, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			limited, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
			defer cancel()
			failed := make(chan error, 1)
			go func() { failed <- s.run().Command(limited, "wipe bank B", engine.Typing{Fresh: true}) }()
			require.Equal(t, "wipe bank B", l.got())
			l.says("wipe bank 8")
			require.Error(t, <-failed)
			again, end := context.WithTimeout(t.Context(), time.Minute)
			defer end()
			require.Error(t, s.run().Type(again, "\r", false), "the line is not seen to be empty")
			assert.Equal(t, want, l.got())
		})
	}
}

// TestWhoseTimeIsOverTypesNothing has a time limit run out while the hand has the helm: nothing is typed behind that,
// not even the piece that leaves before the limit is noticed.
func TestWhoseTimeIsOverTypesNothing(t *testing.T) {
	for range 50 { // which of the two is noticed first is chance
		controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			l.says("> ")
			s.GiveHelm(engine.Repeat)
			over, cancel := context.WithTimeout(t.Context(), -time.Second)
			defer cancel()
			for _, how := range []engine.Typing{{}, {Fresh: true}, {Secret: true}, {Unseen: true}, {Masks: true}} {
				require.ErrorIs(t, s.run().Command(over, "view self", how), context.DeadlineExceeded)
			}
			require.ErrorIs(t, s.run().Type(over, "\r", false), context.DeadlineExceeded)
			assert.Empty(t, l.got())
		})
	}
}

func TestALineThatIsOverIsNoLeftover(t *testing.T) {
	for name, says := range map[string]string{"the device asked anew": "\r\n> ", "it starts": "\r\nbooting\r\n"} {
		controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
			half(s, l, "q", says)
			time.Sleep(time.Second)
			s.GiveHelm(engine.Repeat)
			require.NoError(t, s.run().Type(t.Context(), "\r", false), name)
			assert.Equal(t, "q\r", l.got(), name)
		})
	}
}

func TestWhatTheRunbookLeftBeginsTheHandsLine(t *testing.T) {
	controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		ctx, cancel := context.WithCancel(t.Context())
		defer cancel()
		go func() { _ = s.run().Command(ctx, "wipe bank", engine.Typing{Fresh: true}) }()
		synctest.Wait()
		require.Equal(t, "wipe bank", l.got(), "it waits for its echo")
		typeKeys(s, " B\r")
		assert.Equal(t, "wipe bank B", l.got())
		assert.Equal(t, []string{"held wipe bank B"}, states(t, feed), "although nothing is echoed yet")
	})
}

func TestAHalfTypedCommandIsEmptiedWhenTheStepIsRepeated(t *testing.T) {
	controlled(t, clearing, func(t *testing.T, s *Session, l *fakeLine, _ *event.Feed) {
		ctx, cancel := context.WithCancel(t.Context())
		go func() { _ = s.run().Command(ctx, "wipe bank B", engine.Typing{Fresh: true}) }()
		synctest.Wait()
		s.TakeHelm()
		cancel()
		l.says("wipe bank B")
		s.GiveHelm(engine.Repeat)
		go func() { _ = s.run().Type(t.Context(), "\r", false) }()
		assert.Equal(t, "wipe bank B\x15", l.got())
	})
}

// TestAnAnswerIsNotTheCommandThatItsQuestionNames: the device asks with the words of the command that was sent.
func TestAnAnswerIsNotTheCommandThatItsQuestionNames(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.says("> ")
		time.Sleep(50 * time.Millisecond)
		half(s, l, "wipe bank B\r", "wipe bank B")
		require.True(t, s.SendHeld())
		l.says("\r\n  wipe bank B now? (y/n) ")
		time.Sleep(50 * time.Millisecond)
		half(s, l, "y", "y")
		typeKeys(s, "\r")
		held := collect[event.Interlock](t, feed)
		require.Len(t, held, 2, "held and sent, once")
		assert.True(t, strings.HasSuffix(l.got(), "y\r"), "%q", l.got())
	})
}

// TestWhatTheDevicePutThereIsHeldStill though it is no answer, at a prompt that is not known.
func TestWhatTheDevicePutThereIsHeldStill(t *testing.T) {
	locked(t, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
		l.says("\r\nwipe bank B")
		time.Sleep(50 * time.Millisecond)
		half(s, l, "x", "x")
		typeKeys(s, "\r")
		require.Len(t, collect[event.Interlock](t, feed), 1)
	})
}

// TestWhatIsPastedBehindASecretIsHeldToTheInterlocks pastes a danger with the secret before it.
func TestWhatIsPastedBehindASecretIsHeldToTheInterlocks(t *testing.T) {
	for _, answered := range []bool{true, false} {
		talking(t, "", func(string) string { return "> " }, func(k *talk) {
			k.far.says("\r\nword: ")
			k.far.mute.Store(true)
			time.Sleep(time.Second)
			if !answered {
				k.far.late.Store(int64(time.Hour))
			}
			k.Press([]byte(secret + "\rlook\rwipe everything\r"))
			k.Press([]byte("x"))
			time.Sleep(time.Minute)
			if !answered {
				assert.Equal(t, secret+"\r", k.far.got(),
					"the rest is for what the device shows next, and it shows nothing")
				assert.Contains(t, last(of[event.Note](k)).Text, "has not answered the secret")
				return
			}
			assert.Equal(t, []string{secret, "look"}, k.far.commands())
			held := of[event.Interlock](k)
			require.NotEmpty(t, held)
			assert.Equal(t, "wipe everything", held[0].Command)
		})
	}
}

// TestWordsOfSecretsSwitchNoInterlockOff types commands with such words in them.
func TestWordsOfSecretsSwitchNoInterlockOff(t *testing.T) {
	for _, command := range []string{"wipe pin:", "wipe a password:", "wipe secret : ", "wipe the passphrase now:", "wipe word: "} {
		for _, each := range []time.Duration{-1, 0, 50 * time.Millisecond} {
			talking(t, "", func(string) string { return "> " }, func(k *talk) {
				k.far.says("\r\nChange your password:\r\n> ")
				time.Sleep(time.Second)
				if each < 0 {
					k.Press([]byte(command + "\r"))
				} else {
					typeSlowly(k, command+"\r", each)
				}
				time.Sleep(time.Second)
				assert.Empty(t, k.far.commands(), "%q", command)
				assert.Len(t, of[event.Interlock](k), 1, "%q", command)
				assert.NotContains(t, k.readBack(), "*", "%q is no secret", command)
			})
		}
	}
}

// TestEveryKeyThatEndsALineIsHeld ends a danger by each.
func TestEveryKeyThatEndsALineIsHeld(t *testing.T) {
	for _, key := range []string{"\r", "\n", "\x0f"} {
		talking(t, "", func(string) string { return "> " }, func(k *talk) {
			k.Press([]byte("wipe a"))
			time.Sleep(time.Second)
			k.Press([]byte(key))
			time.Sleep(time.Second)
			assert.Len(t, of[event.Interlock](k), 1, "%q", key)
			assert.Equal(t, "wipe a", k.far.got(), "%q", key)
			require.True(t, k.SendHeld())
			time.Sleep(time.Second)
			assert.Equal(t, "wipe a"+key, k.far.got(), "%q", key)
		})
	}
}

// TestWhatEndsALineIsWhatTheDeviceTakesForIt ends a danger by each key, under a dialect that says which they are and
// one that does not.
func TestWhatEndsALineIsWhatTheDeviceTakesForIt(t *testing.T) {
	for ends, text := range map[string]string{"\r\n\x0f": dangerous, "\r;": dangerous + "line: {ends: \"\\r;\"}\n"} {
		for _, key := range "\r\n\x0f;" {
			lockedBy(t, text, func(t *testing.T, s *Session, l *fakeLine, feed *event.Feed) {
				typeKeys(s, "wipe bank B"+string(key))
				held := strings.ContainsRune(ends, key)
				assert.Equal(t, held, len(states(t, feed)) > 0, "%q of %q", key, ends)
				assert.Equal(t, !held, strings.HasSuffix(l.got(), string(key)))
			})
		}
	}
}

// TestBehindAKeyThatPutsALineThereItCountsAsShown ends a line after it before the device has shown it.
func TestBehindAKeyThatPutsALineThereItCountsAsShown(t *testing.T) {
	for keys, held := range map[string]bool{
		"look\x0f\r":             true,  // the next one of its history stands there
		"\x1b[A\x01\x15\r":       true,  // Ctrl-U takes back nothing behind the cursor
		"\x1b[A\x03\r":           false, // Ctrl-C gives the line up
		"look\x15\r":             false,
		"\x12wi\r":               true, // found in the history
		"\x10\r":                 true,
		"wi\t\r":                 true,
		"\x1b.\r":                true, // the last word of the line before
		"\x19\r":                 true, // what was cut is put back
		"look\r\x1b[A\x1b[A\x0f": true,
	} {
		locked(t, func(t *testing.T, s *Session, _ *fakeLine, feed *event.Feed) {
			s.Press([]byte(keys))
			assert.Equal(t, held, len(states(t, feed)) > 0, "%q", keys)
		})
	}
}
