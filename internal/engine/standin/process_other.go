//go:build !unix

package standin

import (
	"os"
	"os/exec"
	"syscall"
)

func ownGroup(cmd *exec.Cmd) { cmd.ExtraFiles = nil }

func killGroup(pid int, _ syscall.Signal) {
	if p, err := os.FindProcess(pid); err == nil {
		p.Kill()
	}
}

func signalOf(*exec.ExitError) (int, bool) { return 0, false }
