package steward

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// Stack is one that runs on this machine for this user.
type Stack struct {
	ID       string           `json:"id"`
	Root     string           `json:"root"`
	Started  time.Time        `json:"started,omitzero"`
	Shift    int              `json:"shift"`
	Services []record.Service `json:"services"`
	// Left is true for one of which containers are there and no steward: something ended it the
	// hard way.
	Left bool `json:"left"`
}

// Stacks lists every stack on this machine: those whose stewards answer, and those of which an
// engine still has containers. The one that was launched first comes first.
func Stacks(ctx context.Context) []Stack {
	var out []Stack
	known := map[string]bool{}
	for _, socket := range stewards() {
		r := (&record.Record{Socket: socket}).Now()
		if r == nil || r.Ended || known[r.ID] {
			continue
		}
		known[r.ID] = true
		out = append(out, Stack{ID: r.ID, Root: r.Root, Started: r.Started, Shift: r.Shift,
			Services: r.Services})
	}
	out = append(out, leftBehind(ctx, known)...)
	slices.SortStableFunc(out, func(a, b Stack) int {
		return cmp.Or(a.Started.Compare(b.Started), strings.Compare(a.Root, b.Root))
	})
	return out
}

// stewards are the places at which this user's stewards listen.
func stewards() (out []string) {
	for _, folder := range record.Meetings() {
		info, err := os.Lstat(folder)
		if err != nil || !info.IsDir() || !record.IsMine(info) {
			continue
		}
		found, err := filepath.Glob(filepath.Join(folder, "*.sock"))
		for _, name := range found {
			if err == nil && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	return out
}

// leftBehind are stacks of which an engine has containers that no steward sees to.
func leftBehind(ctx context.Context, known map[string]bool) (out []Stack) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	e, err := engine.Connect(ctx)
	if err != nil {
		return nil
	}
	defer e.Close()
	list, err := e.List(ctx, nil)
	if err != nil {
		return nil
	}
	at := map[string]int{}
	for _, c := range list {
		id := c.Labels[engine.LabelStack]
		if id == "" || c.Service == "" || c.Labels[engine.LabelRoot] == "" || known[id] {
			continue
		}
		i, ok := at[id]
		if !ok {
			i = len(out)
			at[id] = i
			out = append(out, Stack{ID: id, Root: c.Labels[engine.LabelRoot], Left: true})
		}
		svc := record.Service{Name: c.Service, Runs: stack.Container, State: stack.Stopped}
		if c.Running {
			svc.State = stack.Running
		}
		for _, p := range c.Published {
			svc.Ports = append(svc.Ports,
				stack.Port{Host: p.Host, Target: p.Target, Transport: p.Transport})
		}
		out[i].Services = append(out[i].Services, svc)
	}
	return out
}

// Holding tells, by port of this machine, which service of which other stack holds it.
func Holding(ctx context.Context, id string) map[int]stack.Owner {
	out := map[int]stack.Owner{}
	for _, s := range Stacks(ctx) {
		if s.ID == id {
			continue
		}
		for _, svc := range s.Services {
			if !svc.Running() {
				continue
			}
			for _, p := range svc.Ports {
				if p.Host > 0 {
					out[p.Host] = stack.Owner{PID: svc.PID, Command: svc.Name, Stack: s.Root}
				}
			}
		}
	}
	return out
}
