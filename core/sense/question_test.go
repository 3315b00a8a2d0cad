package sense

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
