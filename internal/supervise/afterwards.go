package supervise

import (
	"context"
	"fmt"
	"os"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// SignIns are what people sign in with: what services have printed since they were first started,
// which is remembered, and then what the files mention.
func SignIns(root string, s *stack.Stack) []stack.SignIn {
	m := memory.Recall(root)
	if lines, err := logs.Read(root, nil).Next(); err == nil {
		var printed []memory.Printed
		for _, p := range logs.PrintedIn(lines) {
			if s.Service(p.Source) != nil { // steps say what others do with them
				printed = append(printed, memory.Printed{Service: p.Source, User: p.User,
					Password: p.Password})
			}
		}
		m.Print(printed)
	}
	var out []stack.SignIn
	for _, p := range m.Printed() {
		out = append(out, stack.SignIn{User: p.User, Password: p.Password, Service: p.Service})
	}
	return append(out, s.SignIns...)
}

// Pages are the addresses beyond first pages that READMEs name, on ports as they are now.
func Pages(services, now []stack.Service) []stack.PageCheck {
	var out []stack.PageCheck
	for i, v := range services {
		for _, page := range v.Pages {
			port := page.Port
			for k, p := range v.Ports { // a second copy has moved
				if p.Host == port && i < len(now) && now[i].Name == v.Name &&
					k < len(now[i].Ports) {
					port = now[i].Ports[k].Host
				}
			}
			out = append(out, stack.PageCheck{Service: v.Name, At: page.At,
				Address: fmt.Sprintf("http://localhost:%d%s", port, page.Path)})
		}
	}
	return out
}

// Terminal is where a person sits. Raw hands over every key as it is pressed, tells how many rows
// and columns there are, and gives what puts it back.
type Terminal struct {
	In, Out *os.File
	Raw     func() (rows, columns uint, restore func(), err error)
}

// Answer runs a command that asks a person something on a terminal, and gives its exit code. It
// ends early with the context.
func Answer(ctx context.Context, root string, a *launch.Ask, at Terminal) (int, error) {
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
