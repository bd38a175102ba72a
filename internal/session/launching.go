package session

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/judge"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/workspace"
)

// Idle makes sure that no stack of the workspace is launched. What a dead steward has left is
// removed.
func (s *Surveyed) Idle(ctx context.Context) error {
	r, err := record.Read(s.Root)
	var unreadable *stack.Fault
	switch {
	case errors.As(err, &unreadable) && unreadable.Code == stack.CodeStateUnreadable:
		_, err := steward.StopStack(ctx, s.Root, nil)
		return err
	case err != nil:
		return err
	case r.Alive():
		f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeAlreadyLaunched,
			Text:   "this workspace's stack is launched already",
			Remedy: "See how it stands with nharbor check, or stop it first: nharbor stop"}
		if c := s.Changes(r); c != nil && c.Remedy != "" {
			f.Text += ", and something has changed since"
			f.Remedy = "See what: nharbor check. Make it follow: " + c.Remedy
		}
		return f
	case r != nil && !r.Ended, steward.Left(ctx, s.Root):
		_, err := steward.StopStack(ctx, s.Root, nil)
		return err
	}
	return nil
}

// Ready writes the settings and finds everything that still stands in the way of a launch, all at
// once. Filled is told as soon as the settings are written.
func (s *Surveyed) Ready(ctx context.Context, opt plan.Options, filling Filling,
	ask Asking) (*Mixed, error) {
	if _, err := s.Mix(opt); err != nil { // a wrong name is said before anything is written
		return nil, err
	}
	s, free, err := s.Alone(ctx, ask.Waiting)
	if err != nil {
		return nil, err
	}
	defer free()
	f, err := s.Fill(ctx, filling)
	if err != nil {
		return nil, err
	}
	now, err := f.Write(ctx)
	faults := f.Missing()
	if err != nil && !(OnlyVariables(err) && len(faults) > 0) {
		return nil, err
	}
	ask.Filled(f)
	m, err := now.Mix(opt)
	if err != nil {
		return nil, err
	}
	if m, err = m.makeRoom(ctx); err != nil {
		return nil, err
	}
	m, answer, err := m.provided(ctx, ask)
	if err != nil {
		return nil, err
	}
	faults = append(unmet(answer), faults...)
	if r, err := record.Read(s.Root); err == nil && r.Alive() { // another launch was first
		return nil, now.Idle(ctx)
	}
	if len(faults) > 0 {
		return nil, faults
	}
	if len(m.Services()) == 0 {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNothingToLaunch,
			Text: "no service was found here that could be launched", Remedy: "If you know what " +
				"starts it, name it in " + corrections.File + "; nharbor survey --write drafts it"}
	}
	return m, nil
}

// provided are the needs of a mix, and the mix with the servers that somebody has it run.
func (m *Mixed) provided(ctx context.Context, ask Asking) (*Mixed, *needs.Answer, error) {
	answer := m.Needs(ctx, nil)
	more := m.providable(answer)
	taught, kinds := m.taughtServers(), []string(nil)
	more = slices.DeleteFunc(more, func(w stack.Server) bool {
		known := slices.Contains(taught, w.Speaks)
		if known {
			kinds = append(kinds, w.Speaks)
		}
		return known
	})
	if len(more) > 0 && ask.Provide != nil {
		kinds = append(kinds, ask.Provide(more)...)
	}
	if len(kinds) == 0 {
		return m, answer, nil
	}
	opt := m.Options
	opt.Provide = append(slices.Clone(opt.Provide), kinds...)
	with, err := m.Surveyed.Mix(opt)
	if err != nil {
		return nil, nil, err
	}
	with.Moved = m.Moved
	return with, with.Needs(ctx, nil), nil
}

// Asking is what a launch tells, and asks, on its way.
type Asking struct {
	Waiting func()        // another command of ours is at work here
	Filled  func(*Filled) // the settings are written
	// Provide chooses, by what they speak, among servers that nothing here offers and that a launch
	// can run; nil where nobody can be asked.
	Provide func([]stack.Server) []string
}

// providable are the servers that are wanted, that don't answer, and that the engine at hand could
// run.
func (m *Mixed) providable(answer *needs.Answer) (out []stack.Server) {
	for _, n := range answer.Needs {
		if n.Kind == needs.Engine && !n.Met {
			return nil
		}
	}
	for _, n := range answer.Needs {
		for _, w := range m.Mix.Stack.Servers {
			if n.Kind == needs.Server && !n.Met &&
				n.Name == fmt.Sprintf("%s on port %d", w.Speaks, w.Port) &&
				plan.Providable(&w) && !slices.ContainsFunc(out, func(o stack.Server) bool {
				return o.Speaks == w.Speaks
			}) {
				out = append(out, w)
			}
		}
	}
	return out
}

// unmet are the needs that stand in the way of a launch, as faults.
func unmet(answer *needs.Answer) (faults stack.Faults) {
	for _, n := range answer.Needs {
		if n.Met || n.Level != needs.Required {
			continue
		}
		f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNeedUnmet,
			Text: fmt.Sprintf("this machine lacks %s", n.Name), Remedy: n.Remedy}
		if n.Kind == needs.Tool {
			f.Text += " " + n.Wanted
		}
		if n.Found != "" {
			f.Text += ": " + n.Found
		}
		if n.Kind == needs.Port {
			f.Text = fmt.Sprintf("%s, which %s wants, is %s", n.Name, strings.Join(n.For, ", "),
				n.Found)
		}
		if len(n.Because) > 0 {
			f.At = n.Because[0]
		}
		faults = append(faults, f)
	}
	return faults
}

// Again makes sure that the record's stack can be restarted with the settings as they are, and
// mixes it as it was launched.
func (s *Surveyed) Again(ctx context.Context, r *record.Record, filling Filling) (*Mixed, error) {
	f, err := s.Fill(ctx, filling)
	if err != nil {
		return nil, err
	}
	if len(f.Plan.Missing) > 0 {
		m := f.Plan.Missing[0]
		return nil, &stack.Fault{Kind: stack.Missing, Code: stack.CodeSettingMissing,
			At:     stack.Place{File: m.File},
			Text:   fmt.Sprintf("the setting %s has no value, and only you can give it", m.Key),
			Remedy: "Give it: nharbor fill"}
	}
	return s.Mix(r.Options)
}

// Stale lists the services that run with what the settings files said before they were written.
func (f *Filled) Stale(now *Surveyed) []string {
	if now == f.Surveyed { // nothing was written
		return nil
	}
	r, err := record.Read(f.Root)
	if err != nil {
		return nil
	}
	if c := now.Changes(r); c != nil {
		return c.Services
	}
	return nil
}

// Moved tells that a stack's ports were moved by themselves, since another stack of ours has some
// of them.
type Moved struct {
	By   int
	Held []string // "8080 (api of the stack in /x)"
}

// farthest is how far ports are moved by themselves.
const farthest = 2000

// makeRoom moves the ports of a stack while another one of ours holds some of them: by the next
// hundred at which all are free. Where a person has said how far, or not at all, nothing is moved.
func (m *Mixed) makeRoom(ctx context.Context) (*Mixed, error) {
	if m.Options.Shift != 0 || m.Options.Fixed || m.Options.Literal {
		return m, nil
	}
	others := steward.Holding(ctx, workspace.ID(m.Root))
	moved := Moved{}
	var ports []stack.Port
	for _, name := range m.Services() {
		for _, p := range m.Mix.Stack.Service(name).Ports {
			if p.Host == 0 {
				continue
			}
			ports = append(ports, p)
			if o, held := others[p.Host]; held && p.Transport == "tcp" &&
				!sockets.Free(p.HostIP, p.Host) {
				moved.Held = append(moved.Held,
					fmt.Sprintf("%d (%s of the stack in %s)", p.Host, o.Command, o.Stack))
			}
		}
	}
	if len(moved.Held) == 0 {
		return m, nil
	}
	for moved.By = 100; moved.By <= farthest; moved.By += 100 {
		if slices.ContainsFunc(ports, func(p stack.Port) bool {
			to := p.Host + moved.By
			return to > 65535 || p.Transport == "tcp" && !sockets.Free(p.HostIP, to)
		}) {
			continue
		}
		opt := m.Options
		opt.Shift = moved.By
		out, err := m.Surveyed.Mix(opt)
		if err == nil {
			out.Moved = &moved
		}
		return out, err
	}
	return m, nil // the needs tell who has which
}

// Result gathers how a launch or a restart that took so long has gone, and asks the ports of those
// of its services that counts is true for.
func (m *Mixed) Result(ctx context.Context, r *record.Record, s *record.Settled,
	took time.Duration, counts func(*record.Service) bool) stack.LaunchResult {
	out := stack.LaunchResult{Schema: "nharbor.launch/1", Outcome: s.Outcome,
		Seconds: took.Round(time.Millisecond).Seconds(), Services: s.Services,
		Check: stack.Check{Schema: "nharbor.check/1"}}
	if s.Outcome == stack.WasStopped {
		return out
	}
	out.Check = judge.Judging{Root: m.Root, Stack: m.Mix.Survey, Services: m.Mix.Stack.Services,
		Record: r, Part: counts, Value: m.Value}.Ask(ctx)
	out.Failures = s.Failures
	m.toldPasswords(out.Failures)
	if out.Outcome == stack.AllAnswer && !out.Check.Answers {
		out.Outcome = stack.SomeFailed
	}
	return out
}
