//go:build unix && !linux

package run

import "syscall"

// KeepToOurselves closes, for all that this program starts, what whoever called it had open beside
// the three streams.
func KeepToOurselves() { eachOpen(func(fd int) { syscall.CloseOnExec(fd) }) }

// Adopt is for systems that let a process take in orphans.
func Adopt() {}
