//go:build !unix

package supervise

import "os/exec"

func detach(*exec.Cmd) {}

func private(string) error { return nil }

func groupOf(pid int) int { return pid }
