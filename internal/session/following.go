package session

import (
	"context"
	"fmt"
	"slices"

	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// Outside is a checkout whose repository lies outside of the workspace: that of a second working
// copy. Fault refuses to fetch into it.
type Outside struct {
	Checkout, Repository string
	Fault                *stack.Fault
}

// Outside are the checkouts whose repositories lie elsewhere.
func (w *Workspace) Outside() (out []Outside) {
	for _, c := range w.Checkouts {
		dir := w.dir(c.Path)
		if at := gitrepo.Outside(w.Root, dir); at != "" {
			out = append(out, Outside{c.Path, at, &stack.Fault{Kind: stack.NotSo,
				Code: stack.CodeCheckoutElsewhere, At: stack.Place{File: dir},
				Text:   "its repository lies outside of this workspace, in " + at,
				Remedy: "If it is yours, and may be fetched into: nharbor catchup --agree"}})
		}
	}
	return out
}

// InTheWay is what stands in the way of what comes. Where a person is asked, settings are asked for
// later.
func (in *Incoming) InTheWay(asked bool) (faults stack.Faults) {
	if in.Running {
		for _, n := range in.Needs {
			if n.Level == needs.Required {
				faults = append(faults, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNeedUnmet,
					Text: fmt.Sprintf("what comes needs %s %s, which this machine lacks", n.Name,
						n.Wanted), Remedy: n.Remedy})
			}
		}
	}
	for _, m := range in.Missing {
		if asked {
			continue
		}
		faults = append(faults, &stack.Fault{Kind: stack.Missing, Code: stack.CodeSettingMissing,
			At:     stack.Place{File: m.File},
			Text:   fmt.Sprintf("the new setting %s has no value, and only you can give it", m.Key),
			Remedy: "Give it: nharbor catchup --set " + m.Key + "=VALUE, or with --answers FILE"})
	}
	return faults
}

// Anew surveys a workspace whose files have become others, and fills its settings; the survey is nil
// if there is nothing in it.
func Anew(ctx context.Context, root string, filling Filling, waiting func()) (*Surveyed, *Filled,
	error) {
	w, err := Open(ctx, root, true)
	if err != nil {
		return nil, nil, err
	}
	s, err := w.Survey(WithCode)
	switch {
	case NothingFound(err):
		return nil, nil, nil
	case s == nil, err != nil && !OnlyVariables(err):
		return nil, nil, err
	}
	s, free, err := s.Alone(ctx, waiting)
	if err != nil {
		return nil, nil, err
	}
	defer free()
	f, err := s.Fill(ctx, filling)
	if err != nil {
		return nil, nil, err
	}
	s, err = f.Write(ctx)
	return s, f, err
}

// Following is what a stack has to do after its files have become others.
type Following int

// What there can be.
const (
	NothingRuns   Following = iota // and nothing did
	NoneConcerned                  // what runs goes on
	RestartThem                    // the services named
	LaunchAnew                     // services have come or gone, or it ran and was stopped
)

// Follow tells what the stack of a record, which may be nil, has to do.
func (way *Way) Follow(r *record.Record) (Following, []string) {
	alive := r.Alive()
	switch {
	case !alive && (r == nil || !way.Ran):
		return NothingRuns, nil
	case !alive, way.New:
		return LaunchAnew, nil
	}
	names := slices.DeleteFunc(slices.Clone(way.Services),
		func(name string) bool { return r.Service(name) == nil })
	if len(names) == 0 {
		return NoneConcerned, nil
	}
	return RestartThem, names
}
