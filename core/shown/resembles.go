package shown

import "strings"

// Resembles reports whether a line shows a text, most of it at least: a letter of the echo may be spoilt.
func Resembles(line, text string) bool {
	if strings.Contains(line, text) {
		return true
	}
	const short = 4
	return len(text) >= short && 4*common(line, text) >= 3*len(text)
}

// common is how many letters of a text stand in a line in their order, within about as many letters.
func common(line, text string) (most int) {
	if len(line) > maxWidth || len(text) > maxWidth {
		return 0
	}
	before, now := make([]int, len(text)+1), make([]int, len(text)+1)
	for i := range len(line) {
		for j := range len(text) {
			if now[j+1] = max(before[j+1], now[j]); line[i] == text[j] {
				now[j+1] = max(now[j+1], before[j]+1)
			}
		}
		before, now = now, before
	}
	return before[len(text)]
}

// maxWidth is how long a line is at most of which it is looked at how much it resembles another one.
const maxWidth = 300
