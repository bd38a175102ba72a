//go:build !linux

package process

// IsBelow reports whether a process descends from another one; it knows on Linux alone.
func IsBelow(int, int) bool { return false }

// Children are known on Linux alone.
func Children(int) []int { return nil }

// Descendants are known on Linux alone.
func Descendants(int, ...int) []int { return nil }

// Line is known on Linux alone.
func Line(int) string { return "" }
