//go:build race

package test

// underRace says that the race detector watches, under which the suites of many runs take a sample of what they try:
// dev/test runs them whole without it, in a fifth of the time.
const underRace = true
