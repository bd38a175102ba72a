//go:build !unix

package supervise

import (
	"os/exec"
)

func detach(*exec.Cmd) {}
