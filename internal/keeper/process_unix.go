//go:build unix

package keeper

import (
	"os/exec"
	"syscall"
)

// Detach lets a process outlive the terminal: it gets a session of its own.
func Detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }
