// Package enter runs what a person asks for where a stack's programs run: a shell or a command, a
// question of the project's own, its tests.
package enter

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// Entering is a command to run where a service runs.
type Entering struct {
	Plan    *plan.Plan
	Service string
	Command []string // nil for a shell
	In      io.Reader
	Out     io.Writer
	Err     io.Writer
	On      *Terminal // nil for pipes
}

// anyShell is the better shell of those that an image has.
var anyShell = []string{"sh", "-c", "command -v bash >/dev/null 2>&1 && exec bash; exec sh"}

// Enter runs the command and gives its exit code. In a container it gets what the container has;
// natively the environment and the folder of the service. The error is a *stack.Fault with the code
// service-unknown or not-launched where there is nothing to enter.
func Enter(ctx context.Context, e Entering) (int, error) {
	s, ok := e.Plan.Services[stack.ServiceNode(e.Service)]
	if !ok {
		return -1, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeServiceUnknown,
			Text: "no service is called " + e.Service, Remedy: "See what there is: nharbor survey"}
	}
	if s.Runs == stack.Native {
		command := e.Command
		if command == nil {
			command = []string{cmp.Or(os.Getenv("SHELL"), map[bool]string{true: "cmd",
				false: "sh"}[runtime.GOOS == "windows"])}
		}
		// What a person types is the person's own program: a PATH of the checkout's has no say in
		// which that is.
		if !strings.ContainsAny(command[0], `/\\`) {
			program, err := exec.LookPath(command[0])
			if err != nil {
				return -1, err
			}
			command = append([]string{program}, command[1:]...)
		}
		if e.On != nil {
			return run.OnTerminal(ctx, s.Dir, command, s.Environment, e.On.In, e.On.Out)
		}
		return run.Attached(ctx, s.Dir, command, s.Environment, e.In, e.Out, e.Err)
	}
	c, err := engines.On(ctx, e.Plan.Options.On[e.Service])
	if err != nil {
		return -1, err
	}
	defer c.Close()
	list, err := c.List(ctx, map[string]string{engine.LabelStack: e.Plan.ID,
		engine.LabelService: e.Service})
	if err != nil {
		return -1, err
	}
	for _, box := range list {
		if box.Running {
			return e.into(ctx, c, box.ID)
		}
	}
	return -1, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
		Text: fmt.Sprintf("the container of %s does not run",
			e.Service), Remedy: "Launch it: nharbor launch"}
}

func (e *Entering) into(ctx context.Context, c *engine.Engine, id string) (code int, err error) {
	command := e.Command
	if command == nil {
		command = anyShell
	}
	if e.On == nil {
		code, err = c.ExecPiped(ctx, id, command, e.In, e.Out, e.Err)
	} else {
		rows, columns, restore, rawErr := e.On.Raw()
		if rawErr != nil {
			return -1, rawErr
		}
		defer restore()
		code, err = c.ExecOnTerminal(ctx, id, command, rows, columns, e.On.In, e.On.Out)
	}
	if e.Command == nil && (code == 126 || code == 127) {
		return code, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNoShell,
			Text:   fmt.Sprintf("the image of %s has no shell", e.Service),
			Remedy: fmt.Sprintf("Name a program that it has: nharbor inside %s PROGRAM", e.Service)}
	}
	return code, err
}
