//go:build unix

package standin

import (
	"os/exec"
	"syscall"
)

func ownGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

func killGroup(pid int, sig syscall.Signal) { syscall.Kill(-pid, sig) }

func signalOf(e *exec.ExitError) (int, bool) {
	st, ok := e.Sys().(syscall.WaitStatus)
	if !ok || !st.Signaled() {
		return 0, false
	}
	return int(st.Signal()), true
}
