package run

import "golang.org/x/sys/unix"

// KeepToOurselves closes, for all that this program starts, what whoever called it had open beside
// the three streams: a lock or a pipe of a script would be held for as long as a stack lives.
func KeepToOurselves() {
	if unix.CloseRange(3, ^uint(0)>>1, unix.CLOSE_RANGE_CLOEXEC) == nil {
		return
	}
	eachOpen(func(fd int) { unix.CloseOnExec(fd) })
}

// Adopt has processes whose parents have ended become children of this one, instead of the system's
// first: one that has left its group and its session, and thrown away its variables, is still
// found.
func Adopt() { unix.Prctl(unix.PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0) }
