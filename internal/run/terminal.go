package run

import (
	"context"
	"os"
	"os/exec"
)

// OnTerminal runs a command that speaks with a person on a terminal, and gives its exit code. It is ended with the
// context. Its variables are those given and no others.
func OnTerminal(ctx context.Context, dir string, command, env []string, in, out *os.File) (int, error) {
	program, err := lookPath(NativeSpec{Command: command, Dir: dir, Env: env})
	if err != nil {
		return -1, err
	}
	c := exec.CommandContext(ctx, program, command[1:]...)
	c.Dir, c.Env, c.Stdin, c.Stdout, c.Stderr = dir, env, in, out, out
	if err := c.Run(); c.ProcessState == nil {
		return -1, err
	}
	return c.ProcessState.ExitCode(), nil
}
