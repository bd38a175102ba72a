package engine

import (
	"bytes"
	"context"
	"io"
	"time"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/client"
)

// Exec runs a command inside a running container and gives its exit code; its output is dropped.
func (e *Engine) Exec(ctx context.Context, id string, command []string) (int, error) {
	made, err := e.cli.ExecCreate(ctx, id, client.ExecCreateOptions{Cmd: command})
	if err != nil {
		return -1, err
	}
	if _, err := e.cli.ExecStart(ctx, made.ID, client.ExecStartOptions{Detach: true}); err != nil {
		return -1, err
	}
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 100*time.Millisecond) {
		info, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
		if err != nil {
			return -1, err
		}
		if !info.Running {
			return info.ExitCode, nil
		}
		select {
		case <-ctx.Done():
			return -1, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Output runs a command inside a running container and gives what it writes, up to a limit, and its
// exit code.
func (e *Engine) Output(ctx context.Context, id string, command []string) ([]byte, int, error) {
	var out bytes.Buffer
	code, err := e.attached(ctx, id, client.ExecCreateOptions{Cmd: command, AttachStdout: true,
		AttachStderr: true}, &out, io.Discard)
	if err != nil {
		return nil, -1, err
	}
	return out.Bytes(), code, nil
}

// attached runs a command inside a running container, copies its output, up to a limit, and gives
// its exit code.
func (e *Engine) attached(ctx context.Context, id string, spec client.ExecCreateOptions, out,
	errOut io.Writer) (int, error) {
	made, err := e.cli.ExecCreate(ctx, id, spec)
	if err != nil {
		return -1, err
	}
	a, err := e.cli.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return -1, err
	}
	defer a.Close()
	defer context.AfterFunc(ctx, a.Close)()
	if _, err := stdcopy.StdCopy(out, errOut, io.LimitReader(a.Reader, maxOutput)); err != nil {
		return -1, err
	}
	info, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
	if err != nil {
		return -1, err
	}
	return info.ExitCode, nil
}

// ExecPiped runs a command inside a running container that reads from in and writes to out and
// errOut, and gives its exit code.
func (e *Engine) ExecPiped(ctx context.Context, id string, command []string, in io.Reader, out,
	errOut io.Writer) (int, error) {
	made, err := e.cli.ExecCreate(ctx, id,
		client.ExecCreateOptions{Cmd: command, AttachStdin: true, AttachStdout: true,
			AttachStderr: true})
	if err != nil {
		return -1, err
	}
	a, err := e.cli.ExecAttach(ctx, made.ID, client.ExecAttachOptions{})
	if err != nil {
		return -1, err
	}
	defer a.Close()
	defer context.AfterFunc(ctx, a.Close)()
	go func() { // until the connection or the input ends
		io.Copy(a.Conn, in)
		a.CloseWrite()
	}()
	if _, err := stdcopy.StdCopy(out, errOut, a.Reader); err != nil {
		return -1, err
	}
	info, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
	if err != nil {
		return -1, err
	}
	return info.ExitCode, nil
}

// maxOutput is how many bytes of a command's output are read.
const maxOutput = 1 << 20

// ExecOnTerminal runs a command inside a running container with a terminal of its own, of so many
// rows and columns, that reads from in and writes to out, and gives its exit code. The reading of
// in may end only with the next input.
func (e *Engine) ExecOnTerminal(ctx context.Context, id string, command []string, rows,
	columns uint, in io.Reader, out io.Writer) (int, error) {
	size := client.ConsoleSize{Height: rows, Width: columns}
	made, err := e.cli.ExecCreate(ctx, id,
		client.ExecCreateOptions{Cmd: command, TTY: true, ConsoleSize: size,
			AttachStdin: true, AttachStdout: true, AttachStderr: true})
	if err != nil {
		return -1, err
	}
	a, err := e.cli.ExecAttach(ctx, made.ID, client.ExecAttachOptions{TTY: true, ConsoleSize: size})
	if err != nil {
		return -1, err
	}
	defer a.Close()
	defer context.AfterFunc(ctx, a.Close)()
	go func() { // until the connection or the input ends
		io.Copy(a.Conn, in)
		a.CloseWrite()
	}()
	if _, err := io.Copy(out, a.Reader); err != nil && ctx.Err() != nil {
		return -1, ctx.Err()
	}
	info, err := e.cli.ExecInspect(ctx, made.ID, client.ExecInspectOptions{})
	if err != nil {
		return -1, err
	}
	return info.ExitCode, nil
}
