package enter

import (
	"context"
	"fmt"
	"os"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/memory"
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

// Open is a command that asks a person something, and that nobody has answered yet. Its methods
// belong to one goroutine.
type Open struct {
	*plan.Ask
	root      string
	remembers *memory.Memory
}

// OpenOf lists those of a plan, in their order.
func OpenOf(p *plan.Plan) (out []Open) {
	remembers := memory.Recall(p.Root)
	for i := range p.Asks {
		if a := &p.Asks[i]; !remembers.Asked(a.ID()) {
			out = append(out, Open{a, p.Root, remembers})
		}
	}
	return out
}

// Leave has it not offered again.
func (a Open) Leave() { a.remembers.Answer(a.ID()) }

// Answer runs it on a terminal, and gives its exit code; one that ended well is not offered again.
// It ends early with the context.
func (a Open) Answer(ctx context.Context, at Terminal) (code int, err error) {
	if code, err = answer(ctx, a.root, a.Ask, at); err == nil && code == 0 {
		a.Leave()
	}
	return code, err
}

func answer(ctx context.Context, root string, a *plan.Ask, at Terminal) (int, error) {
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
