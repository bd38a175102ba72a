//go:build !unix

package process

// GroupOf is the process group of a process; here each is its own.
func GroupOf(pid int) int { return pid }

// IsStopped reports whether a process was stopped by a signal; there is no telling here.
func IsStopped(int) bool { return false }

// IsThisProgram reports whether a process is this program; there is no telling here.
func IsThisProgram(int) bool { return false }

// GoOn lets a stopped process go on; here none is.
func GoOn(int) {}
