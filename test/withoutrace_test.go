//go:build !race

package test

const underRace = false
