//go:build unix

package supervise

import (
	"os/exec"
	"syscall"
)

// detach lets a process outlive the terminal: it gets a session of its own.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
