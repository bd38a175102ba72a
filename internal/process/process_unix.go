//go:build unix

package process

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"syscall"
)

// IsStopped reports whether a process was stopped by a signal; it knows on Linux alone.
func IsStopped(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	rest := bytes.TrimSpace(data[bytes.LastIndexByte(data,
		')')+1:]) // a name can have brackets in it
	return len(rest) > 0 && (rest[0] == 'T' || rest[0] == 't')
}

// IsThisProgram reports whether a process is this program.
func IsThisProgram(pid int) bool {
	self, err := os.Executable()
	exe, err2 := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	return err == nil && err2 == nil && strings.TrimSuffix(exe, " (deleted)") == self
}

// GoOn lets a stopped process go on.
func GoOn(pid int) { syscall.Kill(pid, syscall.SIGCONT) }

// GroupOf is the process group of a process; 0 if it isn't there.
func GroupOf(pid int) int {
	g, err := syscall.Getpgid(pid)
	if err != nil {
		return 0
	}
	return g
}
