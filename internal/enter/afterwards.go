package enter

import (
	"context"
	"fmt"
	"os"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/workspace"
)

// Terminal is where a person sits. Raw hands over every key as it is pressed, tells how many rows
// and columns there are, and gives what puts it back.
type Terminal struct {
	In, Out *os.File
	Raw     func() (rows, columns uint, restore func(), err error)
}

// Answer runs a command that asks a person something on a terminal, and gives its exit code. It
// ends early with the context.
func Answer(ctx context.Context, root string, a *plan.Ask, at Terminal) (int, error) {
	if a.Service == "" {
		return run.OnTerminal(ctx, a.Dir, a.Command, a.Environment, at.In, at.Out)
	}
	e, err := engine.Connect(ctx)
	if err != nil {
		return -1, err
	}
	defer e.Close()
	list, err := e.List(ctx, map[string]string{engine.LabelStack: workspace.ID(root),
		engine.LabelService: a.Service})
	if err != nil {
		return -1, err
	}
	for _, c := range list {
		if !c.Running {
			continue
		}
		rows, columns, restore, err := at.Raw()
		if err != nil {
			return -1, err
		}
		defer restore()
		return e.ExecOnTerminal(ctx, c.ID, a.Command, rows, columns, at.In, at.Out)
	}
	return -1, fmt.Errorf("the container of %s does not run", a.Service)
}
