//go:build !unix

package run

import (
	"errors"
	"os"
	"os/exec"
)

func ownGroup(*exec.Cmd) {}

func terminateGroup(pid int) { killGroup(pid) }

func killGroup(pid int) {
	if p, err := os.FindProcess(pid); err == nil {
		p.Kill()
	}
}

func groupAlive(int) bool { return false }

func exitOf(err error) Exit {
	var exit *exec.ExitError
	switch {
	case err == nil:
		return Exit{}
	case errors.As(err, &exit):
		return Exit{Code: exit.ExitCode()}
	}
	return Exit{Code: -1, Err: err}
}

// KillGroup ends a process. It is for processes whose owner has died.
// EndGroup asks a process group to end.
func EndGroup(pid int) { killGroup(pid) }

func KillGroup(pid int) { killGroup(pid) }
