//go:build unix

package run

import (
	"errors"
	"os/exec"
	"syscall"
)

func ownGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func terminateGroup(pid int) { syscall.Kill(-pid, syscall.SIGTERM) }

func killGroup(pid int) { syscall.Kill(-pid, syscall.SIGKILL) }

func groupAlive(pid int) bool { return syscall.Kill(-pid, 0) == nil }

func exitOf(err error) Exit {
	var exit *exec.ExitError
	switch {
	case err == nil:
		return Exit{}
	case errors.As(err, &exit):
		if st, ok := exit.Sys().(syscall.WaitStatus); ok && st.Signaled() {
			return Exit{Code: 128 + int(st.Signal()), Signal: "signal " + st.Signal().String()}
		}
		return Exit{Code: exit.ExitCode()}
	}
	return Exit{Code: -1, Err: err}
}

// EndGroup asks a process group to end.
func EndGroup(pid int) { terminateGroup(pid) }

// KillGroup ends a process group at once. It is for groups whose owner has died.
func KillGroup(pid int) { killGroup(pid) }
