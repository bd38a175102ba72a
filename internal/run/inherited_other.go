//go:build !unix

package run

// KeepToOurselves has nothing to do where descriptors are handed on by name alone.
func KeepToOurselves() {}

// Adopt is for systems that let a process take in orphans.
func Adopt() {}
