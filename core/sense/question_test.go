package sense

import (
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhatLooksLikeAQuestion(t *testing.T) {
	for text, asks := range map[string]bool{
		"Really drop all of them? ": true, "Drop it [y/n] ": true, "Drop it (yes/no): ": true, "Overwrite bank B? [no]: ": true, "Sure?": true, "go on (y)?": true,
		"": false, "hollow> ": false, "loading bank A ...": false, "login: ": false, "\xfe\xfd?": false, "? ": false, "12 [34]": false, "Are you \xff sure? ": false,
	} {
		assert.Equal(t, asks, State{Asked: text, Free: true}.UnknownQuestion() != "", "%q", text)
	}
	for name, known := range map[string]State{"prompt": {AtPrompt: true}, "dialog": {Dialog: "sure"}, "secret": {Secret: true}} {
		known.Asked, known.Free = "Sure?", true
		assert.Empty(t, known.UnknownQuestion(), name)
	}
}

// TestAPromptThatLooksLikeAQuestionIsNone, though something was typed at it that has not gone out: who types next
// empties the line first.
func TestAPromptThatLooksLikeAQuestionIsNone(t *testing.T) {
	now := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	s := New(Config{Modes: []Mode{{Name: "work", Prompt: regexp.MustCompile(`^[\w-]+ \[work\] $`)}}}, now)
	s.Feed(now, []byte("quay-er1 [work] "))
	s.Tick(now.Add(time.Second))
	s.Typed(now.Add(2*time.Second), []byte("settle"), []byte("settle"))
	require.False(t, s.State().AtPrompt)
	assert.Empty(t, s.State().UnknownQuestion())
	s.Feed(now.Add(3*time.Second), []byte("\r\nwipe all of it? [work]"))
	s.Tick(now.Add(20 * time.Second))
	assert.NotEmpty(t, s.State().UnknownQuestion())
}
