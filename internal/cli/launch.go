package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func (a *app) launch() *cobra.Command {
	var flags fillFlags
	var opt launch.Options
	var vouched bool
	c := &cobra.Command{
		Use:   "launch [SERVICE...]",
		Short: "Does the whole job: needs, settings, steps, start, check",
		Long: `Launches the stack, or the services named and what they need. It stays in the
foreground, and Ctrl-C stops everything; with --background it returns when all
answer, and nharbor stop stops it.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			opt.Services = args
			return a.runLaunch(cmd.Context(), opt, flags, vouched)
		},
	}
	flags.add(c)
	f := c.Flags()
	f.BoolVar(&opt.Background, "background", false, "return when everything answers, and let it run")
	f.StringArrayVar(&opt.Except, "except", nil, "leave this service out; may be repeated")
	f.StringArrayVar(&opt.Native, "native", nil, "run this service natively; may be repeated")
	f.StringArrayVar(&opt.Container, "container", nil, "run this service in a container; may be repeated")
	f.IntVar(&opt.Shift, "shift", 0, "move every published port by this number, for a second copy")
	f.BoolVar(&opt.Literal, "literal", false, "keep a plain depends_on to the letter: begun, not answering")
	f.BoolVar(&opt.Halt, "halt", false, "start nothing more once something has failed")
	f.BoolVar(&vouched, "vouch", false, "consent to the commands that are shown, for unattended runs")
	return c
}

func (a *app) runLaunch(ctx context.Context, opt launch.Options, flags fillFlags, vouched bool) error {
	begin := time.Now()
	w, err := a.open(ctx)
	if w == nil || w.stack == nil || err != nil && !onlyVariables(err) {
		return err
	}
	if r, err := launch.ReadRecord(w.root); err != nil {
		return err
	} else if r.Alive() {
		f := &stack.Fault{Kind: stack.NotSo, Code: "already-launched",
			Text:   "this workspace's stack is launched already",
			Remedy: "See how it stands with nharbor check, or stop it first: nharbor stop"}
		if c := a.changes(w, r); c != nil && c.Remedy != "" {
			f.Text += ", and something has changed since"
			f.Remedy = "See what: nharbor check. Make it follow: " + c.Remedy
		}
		return f
	} else if r != nil && !r.Ended {
		// Its steward died; what it left is removed before anything new starts.
		if _, err := launch.StopStack(ctx, w.root, nil); err != nil {
			return err
		}
	}
	if err := a.ready(ctx, w, opt, flags); err != nil {
		return err
	}
	if err := w.survey(ctx); err != nil { // the settings files are there now
		return err
	}
	mixed, o, err := a.mix(w, opt)
	if err != nil {
		return err
	}
	if len(serviceNames(o)) == 0 {
		return &stack.Fault{Kind: stack.NotSo, Code: "nothing-to-launch",
			Text: "no service was found here that could be launched", Remedy: "See what was found: nharbor survey"}
	}
	mixedWork := &work{root: w.root, fsys: w.fsys, stack: mixed}
	if err := a.consent(mixedWork, o, vouched); err != nil {
		return err
	}
	plan, err := launch.Make(w.root, w.stack, mixed, o, opt)
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, name := range launch.OtherPasswords(ctx, plan) {
		a.complain(&stack.Fault{Code: "password-of-before",
			Text: fmt.Sprintf(
				"the data of %s was made with another password than its settings have now, and will hardly let "+
					"anybody in", name),
			Remedy: "Put the earlier password back (.nharbor/before has what files held before), or throw the data " +
				"away: nharbor reset --data"})
	}
	if !a.json {
		t := a.text()
		line := fmt.Sprintf("Launching %d services", len(serviceNames(o)))
		if o.Estimate > 0 {
			line += fmt.Sprintf("; last time it took %.1f s", o.Estimate)
		}
		t.Line("%s. What they say: nharbor logs --follow", line)
	}
	l, err := launch.Start(plan, self, []string{"steward"})
	if err != nil {
		return err
	}
	defer l.Close()
	return a.follow(ctx, w, mixed, o, l, opt, begin)
}

// mix turns the survey into what is to be launched, in its order.
func (a *app) mix(w *work, opt launch.Options) (*stack.Stack, *order.Order, error) {
	mixed, err := launch.Mix(w.stack, opt)
	if err != nil {
		return nil, nil, err
	}
	o, err := order.Build(mixed, order.Options{Services: opt.Services, Except: opt.Except, Literal: opt.Literal,
		Seconds: launch.Recall(w.root).Seconds()})
	return mixed, o, err
}

// changes tells what has changed since the stack was launched; nil where nothing has, or where it can't be told.
func (a *app) changes(w *work, r *launch.Record) *stack.Changed {
	if !r.Alive() {
		return nil
	}
	mixed, o, err := a.mix(w, r.Options)
	if err != nil {
		return nil
	}
	plan, err := launch.Make(w.root, w.stack, mixed, o, r.Options)
	if err != nil {
		return nil
	}
	if c := launch.Changes(r, plan); c.Any() {
		return &c
	}
	return nil
}

// ready finds everything that stands in the way of a launch, and says it all at once.
func (a *app) ready(ctx context.Context, w *work, opt launch.Options, flags fillFlags) error {
	mixed, err := launch.Mix(w.stack, opt)
	if err != nil {
		return err
	}
	o, err := order.Build(mixed, order.Options{Services: opt.Services, Except: opt.Except, Literal: opt.Literal})
	if err != nil {
		return err
	}
	free, err := a.alone(ctx, w)
	if err != nil {
		return err
	}
	defer free()
	p, err := a.makeFill(ctx, w, flags, true)
	if err != nil {
		return err
	}
	if err := a.writeFill(ctx, w, p, flags); err != nil {
		return err
	}
	t := a.text()
	if !a.json {
		for _, f := range p.Files {
			if f.Written {
				t.Line("Settings: wrote %s", f.Path)
			}
		}
		t.Loud(p)
	}
	answer := needs.Ask(ctx, mixed, serviceNames(o), nil, &needs.Local{Dir: w.root})
	var faults stack.Faults
	for _, n := range answer.Needs {
		if n.Met || n.Level != "required" {
			continue
		}
		f := &stack.Fault{Kind: stack.NotSo, Code: "need-unmet", Text: fmt.Sprintf("this machine lacks %s", n.Name),
			Remedy: n.Remedy}
		if n.Kind == needs.Tool {
			f.Text += " " + n.Wanted
		}
		if n.Found != "" {
			f.Text += ": " + n.Found
		}
		if n.Kind == needs.Port {
			f.Text = fmt.Sprintf("%s, which %s wants, is %s", n.Name, strings.Join(n.For, ", "), n.Found)
		}
		if len(n.Because) > 0 {
			f.At = n.Because[0]
		}
		faults = append(faults, f)
	}
	for _, m := range p.Missing {
		if m.Skipped {
			t.Line("Left open: %s in %s. What needs it may not work.", m.Key, m.File)
			continue
		}
		f := &stack.Fault{Kind: stack.Missing, Code: "setting-missing", At: stack.Place{File: m.File},
			Text: fmt.Sprintf("the setting %s has no value, and only you can give it", m.Key),
			Remedy: fmt.Sprintf(
				"Give it with --set or --answers, or run nharbor fill on a terminal; to leave it empty: nharbor fill "+
					"--set %s=", m.Key)}
		if m.Hint != "" {
			f.Remedy = strings.TrimRight(m.Hint, ".") + ". " + f.Remedy
		}
		faults = append(faults, f)
	}
	if len(faults) > 0 {
		return faults
	}
	return nil
}

// follow shows the launch until it has settled and, in the foreground, until it is stopped.
func (a *app) follow(ctx context.Context, w *work, mixed *stack.Stack, o *order.Order, l *launch.Launched,
	opt launch.Options, begin time.Time) error {
	t := a.text()
	names := 0
	for _, n := range o.Nodes {
		names = max(names, len(order.Title(n.ID)))
	}
	stopping := context.AfterFunc(ctx, func() {
		if !a.json {
			t.Line("Stopping everything; press Ctrl-C again to end at once.")
		}
		l.Stop()
		again := make(chan os.Signal, 1)
		signal.Notify(again, os.Interrupt, syscall.SIGTERM)
		<-again
		l.Kill()
	})
	defer stopping()
	interrupted := false
	for {
		m, err := l.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		switch {
		case m.Event != nil:
			if a.json {
				view.JSONLine(a.out, m.Event)
			} else if m.Event.State != stack.Waiting || m.Event.Text != "" {
				t.Event(*m.Event, names)
			}
		case m.Settled != nil:
			interrupted = m.Settled.Outcome == "stopped"
			if err := a.settled(ctx, w, mixed, m.Settled, opt, begin); err != nil {
				return err
			}
			if opt.Background {
				return nil
			}
		case m.Stopped:
			if !a.json {
				t.Line("Everything has been stopped.")
			}
		}
	}
	if ctx.Err() != nil && (interrupted || a.status != 0) {
		return &stack.Fault{Kind: stack.Interrupted, Code: "interrupted",
			Text:   "the launch was interrupted before everything answered",
			Remedy: "Launch again when you like; finished steps are not done twice."}
	}
	return nil
}

// settled tells how the launch has gone: what answers where, and all that failed.
func (a *app) settled(ctx context.Context, w *work, mixed *stack.Stack, s *launch.Settled, opt launch.Options,
	begin time.Time) error {
	r, err := launch.ReadRecord(w.root)
	if err != nil {
		return err
	}
	var part []stack.Service
	for _, svc := range mixed.Services {
		if slices.ContainsFunc(s.Services, func(x stack.ServiceResult) bool { return x.Name == svc.Name }) {
			part = append(part, svc)
		}
	}
	result := stack.LaunchResult{Schema: "nharbor.launch/1", Outcome: s.Outcome,
		Seconds: time.Since(begin).Round(time.Millisecond).Seconds(), Services: s.Services}
	if s.Outcome != "stopped" {
		result.Check = launch.CheckPorts(ctx, r.Merge(part), r)
	} else {
		result.Check.Schema = "nharbor.check/1"
	}
	if s.Outcome != "answering" {
		a.status = 1
	}
	if a.json {
		return view.JSONLine(a.out, result)
	}
	if s.Outcome == "stopped" {
		return nil
	}
	t := a.text()
	t.Blank()
	if s.Outcome == "answering" {
		t.Line("Everything is up after %.1f s.", result.Seconds)
	} else {
		t.Line("Not everything is up after %.1f s:", result.Seconds)
		for _, f := range s.Failures {
			t.Line("  %s", f)
		}
		t.Line("  See what they said: nharbor logs")
	}
	t.Blank()
	t.Check(result.Check)
	t.Blank()
	if opt.Background {
		t.Line("It runs in the background. Look again: nharbor check. Stop it: nharbor stop")
	} else {
		t.Line("Ctrl-C stops everything.")
	}
	return nil
}
