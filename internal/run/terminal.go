package run

import (
	"context"
	"io"
	"os"
	"os/exec"
)

// Attached runs a command with the streams given, and gives its exit code. It is ended with the
// context. Its variables are those given and no others.
func Attached(ctx context.Context, dir string, command, env []string, in io.Reader, out,
	errOut io.Writer) (int, error) {
	program, err := lookPath(NativeSpec{Command: command, Dir: dir, Env: env})
	if err != nil {
		return -1, err
	}
	c := exec.CommandContext(ctx, program, command[1:]...)
	c.Dir, c.Env, c.Stdin, c.Stdout, c.Stderr = dir, env, in, out, errOut
	if err := c.Run(); c.ProcessState == nil {
		return -1, err
	}
	return c.ProcessState.ExitCode(), nil
}

// OnTerminal runs a command that speaks with a person on a terminal, and gives its exit code, as
// Attached does.
func OnTerminal(ctx context.Context, dir string, command, env []string, in,
	out *os.File) (int, error) {
	return Attached(ctx, dir, command, env, in, out, out)
}
