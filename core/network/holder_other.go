//go:build !linux

package network

// Holder is reported on Linux only.
func Holder(string, uint16) string { return "" }
