package session

import (
	"encoding/json"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"pilotrix/core/event"
	"pilotrix/core/runbook/engine"
)

const secret = "hunter2-and-tide"

// recorded is all that is kept of a session, as text, with the streams put together: no piece of a secret may
// stand in neighbouring events either.
func (k *talk) recorded() string {
	var in, out, rest strings.Builder
	for _, e := range k.happened() {
		switch b := e.Body.(type) {
		case event.In:
			in.Write(b.Bytes)
		case event.Out:
			out.Write(b.Bytes)
		default:
			text, err := json.Marshal(e)
			require.NoError(k.T, err)
			rest.Write(text)
		}
	}
	return in.String() + "\n" + out.String() + "\n" + rest.String()
}

// TestNoSecretIsRecorded types, pastes and renders one in every place where one can be.
func TestNoSecretIsRecorded(t *testing.T) {
	hidden := func(k *talk, prompt string) {
		k.far.says(prompt)
		k.far.mute.Store(true)
		time.Sleep(time.Second)
		for _, key := range secret + "\r" {
			k.Press([]byte(string(key)))
			time.Sleep(200 * time.Millisecond)
		}
	}
	quiet := func(string) string { return "> " }
	for name, use := range map[string]func(k *talk){
		"at a prompt that asks for one":       func(k *talk) { hidden(k, "\r\nword: ") },
		"at a question of an action":          func(k *talk) { hidden(k, "\r\nold word> ") },
		"at one that no dialect knows":        func(k *talk) { hidden(k, "\r\nWachtwoord: ") },
		"at one that is garbled":              func(k *talk) { hidden(k, "\r\n\xfe\x80\xf8x\x9c\xf0\x81\xfe\x80\xf8") },
		"at one that shows marks for letters": func(k *talk) { k.far.mute.Store(true); marks(k, "\r\nGeheim: ") },
		"ahead, behind a name": func(k *talk) {
			k.far.answers(func(command string) string {
				k.far.mute.Store(command == "harbour")
				return map[bool]string{true: "word: ", false: "> "}[command == "harbour"]
			})
			k.far.says("\r\nlogin: ")
			time.Sleep(time.Second)
			k.Press([]byte("harbour\r" + secret + "\r"))
			time.Sleep(time.Second)
		},
		"at one whose device shows it letter by letter": func(k *talk) {
			k.far.says("\r\nword: ")
			time.Sleep(time.Second)
			typeSlowly(k, secret+"\r", 150*time.Millisecond)
		},
		"at one whose device shows it much later": func(k *talk) {
			k.far.late.Store(int64(900 * time.Millisecond))
			k.far.says("\r\nword: ")
			time.Sleep(time.Second)
			typeSlowly(k, secret+"\r", 50*time.Millisecond)
			time.Sleep(2 * time.Second)
			k.far.late.Store(0)
		},
		"erased and typed anew": func(k *talk) { hidden(k, "\r\nword: "); hidden(k, "\r\nword: ") },
		"and printed back later": func(k *talk) {
			hidden(k, "\r\nword: ")
			for _, piece := range []string{"user harbour word ", secret[:4], secret[4:], " kept\r\n> "} {
				k.far.says(piece)
				time.Sleep(time.Second)
			}
		},
		"pasted at a prompt that asks for one": func(k *talk) {
			k.far.says("\r\nword: ")
			k.far.mute.Store(true)
			time.Sleep(time.Second)
			_, err := k.Paste(k.Context(), secret, PasteOptions{})
			assert.NoError(k.T, err)
		},
		"pasted blindly": func(k *talk) {
			k.far.says("\r\nWachtwoord: ")
			k.far.mute.Store(true)
			time.Sleep(time.Second)
			_, err := k.Paste(k.Context(), secret, PasteOptions{Blind: true})
			assert.NoError(k.T, err)
		},
		"known, and typed by hand into a command": func(k *talk) {
			k.hub.Protect(secret)
			typeKeys(k.Session, "user word "+secret+"\r")
			time.Sleep(time.Second)
		},
	} {
		t.Run(name, func(t *testing.T) {
			talking(t, "", quiet, func(k *talk) {
				use(k)
				time.Sleep(time.Second)
				synctest.Wait()
				assert.Contains(t, k.far.got(), secret, "it was typed")
				for n := 0; n+5 <= len(secret); n++ {
					assert.NotContains(t, k.recorded(), secret[n:n+5])
				}
				typeKeys(k.Session, "look\r")
				time.Sleep(time.Second)
				assert.Contains(t, k.recorded(), "look", "and nothing else is hidden")
			})
		})
	}
}

func typeSlowly(k *talk, text string, each time.Duration) {
	for _, key := range text {
		k.Press([]byte(string(key)))
		time.Sleep(each)
	}
}

// marks types a secret at a prompt that shows a mark for each letter.
func marks(k *talk, prompt string) {
	k.far.says(prompt)
	time.Sleep(time.Second)
	for _, key := range secret {
		k.Press([]byte(string(key)))
		time.Sleep(100 * time.Millisecond)
		k.far.says("*")
		time.Sleep(100 * time.Millisecond)
	}
	k.Press([]byte("\r"))
}

// TestASecretInACommandIsMasked has a runbook render one into a command, on a line that spoils the first try, so that
// it is typed key by key, and a device that prints it back.
func TestASecretInACommandIsMasked(t *testing.T) {
	const book = `
runbook: r
inputs: [{input: word, kind: secret}]
phases: [{phase: one, steps: [{step: Set it, hold: Sets it., act: {action: give, with: {word: '${word}'}}}]}]
`
	answer := func(command string) string {
		if strings.HasPrefix(command, "user") {
			return "bad word " + command + "\r\n> "
		}
		return "> "
	}
	talking(t, "", answer, func(k *talk) {
		k.beginWith(book, map[string]string{"word": secret})
		require.Equal(t, event.FormHold, k.asked().Form)
		assert.Equal(t, []string{"user word [secret]"}, k.asked().Types)
		k.far.spoil.Store(true)
		k.says(event.FormHold, engine.Approve)
		time.Sleep(time.Minute)
		k.says(event.FormFailure, engine.StopHere)
		result := k.over()
		assert.Contains(t, k.far.got(), secret, "it was typed")
		kept := k.recorded()
		for n := 4; n < len(secret); n++ {
			assert.NotContains(t, kept, secret[:n], "not a beginning of it either")
		}
		assert.Contains(t, kept, "user word [secret]")
		assert.Contains(t, result.Message, "bad word")
		assert.NotContains(t, result.Message, secret)
	})
}

// readBack is what the operator typed, as a person reads it in the record.
func (k *talk) readBack() (typed string) {
	for _, out := range of[event.Out](k) {
		if out.Who != event.Hand {
			continue
		}
		typed += string(out.Bytes) + strings.Repeat("*", out.Secret)
	}
	return typed
}

// TestABurstIsReadInTheRecordAsItWasTyped types faster than any echo comes back, all at once and key by key, at prompts
// and questions that are known or not: what is hidden is the secret, and nothing else.
func TestABurstIsReadInTheRecordAsItWasTyped(t *testing.T) {
	stars := strings.Repeat("*", len(secret)+1)
	for name, c := range map[string]struct {
		prompt, typed, record string
		answer                func(k *talk) func(string) string
	}{
		"a name at a login":                {"\r\nlogin: ", "harbour\r", "harbour\r", nil},
		"a name at an unknown one":         {"\r\nGebruiker: ", "harbour\r", "harbour\r", nil},
		"yes at an unknown question":       {"\r\nGo on with that (yes/no)? ", "yes\r", "yes\r", nil},
		"commands ahead of each other":     {"\r\n> ", "look a\rlook b\rlook c\r", "look a\rlook b\rlook c\r", nil},
		"commands at an unknown prompt":    {"\r\n<quay>", "look a\rlook b\r", "look a\rlook b\r", nil},
		"a name, a secret and two looks":   {"\r\nlogin: ", "harbour\r" + secret + "\rlook a\rlook b\r", "harbour\r" + stars + "look a\rlook b\r", asksWord("word: ")},
		"the same with what nobody knows":  {"\r\nGebruiker: ", "harbour\r" + secret + "\rlook a\r", "harbour\r" + stars + "look a\r", asksWord("Wachtwoord: ")},
		"the same with a generic question": {"\r\nuser> ", "harbour\r" + secret + "\rlook a\r", "harbour\r" + stars + "look a\r", asksWord("Password: ")},
	} {
		for _, each := range []time.Duration{-1, 0, time.Millisecond, 30 * time.Millisecond} {
			for _, late := range []time.Duration{0, 5 * time.Millisecond, 400 * time.Millisecond} {
				talking(t, "", func(string) string { return "> " }, func(k *talk) {
					k.far.late.Store(int64(late))
					if c.answer != nil {
						k.far.answers(c.answer(k))
					}
					k.far.says(c.prompt)
					time.Sleep(time.Second)
					if each < 0 {
						k.Press([]byte(c.typed))
					} else {
						for _, key := range c.typed {
							k.Press([]byte(string(key)))
							time.Sleep(each)
						}
					}
					time.Sleep(10 * time.Second)
					assert.Equal(t, c.record, k.readBack(), "%s, a key each %s, echo %s late", name, each, late)
					assert.NotContains(t, k.recorded(), secret, name)
				})
			}
		}
	}
}

// asksWord is a device that asks for a secret behind a name, and shows nothing of it.
func asksWord(question string) func(k *talk) func(string) string {
	return func(k *talk) func(string) string {
		return func(command string) string {
			if command == "harbour" {
				k.far.mute.Store(true)
				return question
			}
			return "> "
		}
	}
}
