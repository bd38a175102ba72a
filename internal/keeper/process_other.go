//go:build !unix

package keeper

import (
	"os/exec"
)

func Detach(*exec.Cmd) {}
