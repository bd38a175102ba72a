//go:build unix

package needs

import (
	"os"
	"os/exec"
	"syscall"
)

// wholly has all that a command starts end when its context does.
func wholly(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}

// rest ends what a command has started and left behind.
func rest(cmd *exec.Cmd) {
	if cmd.Process != nil {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
	}
}

// owned reports whether a process is this person's.
func owned(process string) bool {
	info, err := os.Stat(process)
	if err != nil {
		return false
	}
	is, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(is.Uid) == os.Getuid()
}
