package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/enter"
	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/view"
)

func launchCommand(a *app) *cobra.Command {
	var flags fillFlags
	var opt plan.Options
	var on []string
	var vouched pinned
	var mends bool
	c := &cobra.Command{
		Use:   "launch [SERVICE...]",
		Short: "Does the whole job: needs, settings, steps, start, check",
		Long: `Launches the stack, or the services named and what they need. It stays in the
foreground, and Ctrl-C stops everything; with --background it returns when all
answer, and nharbor stop stops it.

With --mend it does what a cause asks for where something fails, loses nothing
by it, and launches again; the next launch begins with what was learned.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			for _, words := range on {
				name, service, ok := strings.Cut(words, "=")
				if !ok || name == "" || service == "" {
					return wrongCall(fmt.Sprintf("--on takes CONTEXT=SERVICE, and not %q", words),
						"The contexts of container engines: docker context ls")
				}
				if opt.On == nil {
					opt.On = map[string]string{}
				}
				opt.On[service] = name
			}
			opt.Services, opt.Fixed = args, cmd.Flags().Changed("shift")
			return a.launching().untilMended(cmd.Context(), opt, flags, vouched, mends)
		},
	}
	flags.add(c)
	f := c.Flags()
	f.BoolVar(&a.plain, "plain", false,
		"show what happens in lines, one after the other, on a terminal too")
	f.BoolVar(&opt.Background, "background", false,
		"return when everything answers, and let it run")
	f.StringArrayVar(&opt.Except, "except", nil, "leave this service out; may be repeated")
	f.StringArrayVar(&opt.Native, "native", nil, "run this service natively; may be repeated")
	f.StringArrayVar(&opt.Container, "container", nil,
		"run this service in a container; may be repeated")
	f.StringArrayVar(&on, "on", nil,
		"run a service on another engine, CONTEXT=SERVICE; may be repeated")
	f.StringArrayVar(&opt.Provide, "provide", nil,
		"run a server that settings point at and nothing offers, such as "+
			"postgres, in a container beside the stack; may be repeated")
	f.IntVar(&opt.Shift, "shift", 0,
		"move every published port by this number, for a second copy; by itself "+
			"where another stack has the ports, and never with 0")
	f.BoolVar(&opt.Literal, "literal", false,
		"keep to the letter: a plain depends_on waits until begun, "+
			"a port without an address is published on all")
	f.BoolVar(&opt.Halt, "halt", false, "start nothing more once something has failed")
	f.BoolVar(&mends, "mend", false,
		"do what a cause asks for where something fails, as far as it was consented to, and go on")
	vouchFlag(c, &vouched)
	return c
}

func (a launching) runLaunch(ctx context.Context, opt plan.Options, flags fillFlags,
	vouched pinned, mends *mendings) error {
	begin := time.Now()
	s, err := a.surveyed(ctx, session.WithCode)
	if s == nil || err != nil && !session.OnlyVariables(err) {
		return err
	}
	if err := s.Idle(ctx); err != nil {
		return err
	}
	filling, err := a.filling(ctx, flags, true)
	if err != nil {
		return err
	}
	m, err := s.Ready(ctx, opt, filling, session.Asking{Waiting: a.waiting, Filled: a.filled,
		Provide: a.provide()})
	if err != nil {
		return left(err)
	}
	if m.Moved != nil && !a.json {
		a.text().Line("Ports are moved by %d, since these are taken: %s.", m.Moved.By,
			strings.Join(m.Moved.Held, ", "))
	}
	if err := a.consent(ctx, m, vouched); err != nil {
		return err
	}
	plan, err := m.Plan()
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	for _, name := range execute.OtherPasswords(ctx, plan) {
		a.complain(&stack.Fault{Code: stack.CodePasswordOfBefore, Text: fmt.Sprintf(
			"the data of %s was made with another password than its settings have now, and will "+
				"hardly let anybody in", name),
			Remedy: "Put the earlier password back (.nharbor/before has what files held " +
				"before), or throw the data away: nharbor reset --data"})
	}
	if !a.json {
		line := "Launching " + view.Count(len(m.Services()), "service", "services")
		if m.Order.Estimate > 0 {
			line += fmt.Sprintf("; last time it took %.1f s", m.Order.Estimate)
		}
		a.text().Line("%s. What they say: nharbor logs --follow", line)
	}
	a.rewritten(plan)
	a.exposed(plan)
	l, err := steward.Start(plan, self, []string{"steward"})
	if err != nil {
		return err
	}
	defer l.Close()
	return a.follow(ctx, m, plan, l, begin, mends)
}

// rewritten says which settings say another address in this mix than in the files.
func (a launching) rewritten(plan *plan.Plan) {
	if a.json {
		return
	}
	for i, r := range plan.Rewritten {
		if i == 0 {
			a.text().Line("In this mix some settings say another address than the files, which " +
				"stay as they are:")
		}
		a.text().Line("  %s %s: %s instead of %s", r.Service, r.Key, r.To, r.From)
	}
}

// exposed says which ports others on the network can reach, since containers on other engines need
// them.
func (a launching) exposed(plan *plan.Plan) {
	var list []string
	for _, id := range slices.Sorted(maps.Keys(plan.Services)) {
		for _, p := range plan.Services[id].Exposed {
			list = append(list, fmt.Sprintf("%s at %s:%d", id.Title(), p.HostIP, p.Host))
		}
	}
	if len(list) > 0 && !a.json {
		a.text().Line("Published on the network too, for containers on other engines: %s.",
			strings.Join(list, ", "))
	}
}

// provide asks a person which servers are to be run that nothing here offers; nil where nobody can
// be asked.
func (a launching) provide() func([]stack.Server) []string {
	if !a.asks() {
		return nil
	}
	return func(list []stack.Server) (kinds []string) {
		for _, w := range list {
			a.text().Line("%s wants a %s on port %d (%s), and nothing answers there.", w.For,
				w.Speaks, w.Port, view.Where(w.At))
			if a.yes("Run one in a container, kept with this stack?") {
				kinds = append(kinds, w.Speaks)
			}
		}
		return kinds
	}
}

// filled says which settings files were written, and what of them should not be passed over.
func (a launching) filled(f *session.Filled) {
	if a.json {
		return
	}
	t := a.text()
	for _, file := range f.Plan.Files {
		if file.Written {
			t.Line("Settings: wrote %s", file.Path)
		}
	}
	t.Loud(f.Plan)
	for _, m := range f.Plan.Missing {
		if m.Skipped {
			t.Line("Left open: %s in %s. What needs it may not work.", m.Key, m.File)
		}
	}
}

// follow shows the launch until it has settled and, in the foreground, until it is stopped: on a
// terminal as a timeline that lives, elsewhere in lines.
func (a launching) follow(ctx context.Context, m *session.Mixed, plan *plan.Plan,
	l *steward.Launched, begin time.Time, mends *mendings) error {
	var t launchView = &lines{a: a.app, names: widest(m.Order),
		last: memory.Recall(m.Root).Seconds(),
		said: logs.NewLastWords(m.Root, m.Order), since: map[stack.NodeID]float64{}}
	if live := a.live(m); live != nil {
		t = live
		defer live.leave()
	}
	a.ending.still("Everything is being stopped.", -1)
	defer context.AfterFunc(ctx, func() { a.stopAll(m, plan, t, l) })()
	interrupted := false
	for {
		said, err := l.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		switch {
		case said.Event != nil:
			t.event(*said.Event)
			mends.saw(*said.Event)
		case said.Settled != nil:
			t.settled(said.Settled)
			interrupted = said.Settled.Outcome == stack.WasStopped
			if !interrupted && mends.agreed(ctx, m, said.Settled) {
				mends.tell(t.say)
				l.Stop()
				continue
			}
			if err := a.settled(ctx, m, said.Settled, begin, mends); err != nil {
				return err
			}
			if a.status == 0 && said.Settled.Outcome == stack.AllAnswer && !a.json {
				a.offer(ctx, plan)
			}
			if m.Options.Background {
				return nil
			}
		case said.Stopped && len(mends.next) == 0:
			t.say("Everything has been stopped.")
		}
	}
	return a.left(ctx, m, interrupted)
}

// left is the fault of a launch that was interrupted, where it has left something undone or
// running; nil for none.
func (a launching) left(ctx context.Context, m *session.Mixed, interrupted bool) error {
	if ctx.Err() == nil {
		return nil
	}
	if r, err := record.Read(m.Root); err == nil && r.Alive() && !m.Options.Background {
		return &stack.Fault{Kind: stack.Interrupted, Code: stack.CodeStillRunning,
			Text: "what was launched does not end", Remedy: "End what is left: nharbor stop"}
	}
	if interrupted || a.status != 0 {
		return &stack.Fault{Kind: stack.Interrupted, Code: stack.CodeInterrupted,
			Text:   "the launch was interrupted before everything answered",
			Remedy: "Launch again when you like; finished steps are not done twice."}
	}
	return nil
}

// stopAll stops what a command has launched that was interrupted. It waits no longer than the
// services themselves are given to end; a second interruption kills them.
func (a launching) stopAll(m *session.Mixed, plan *plan.Plan, t launchView, l *steward.Launched) {
	again := make(chan os.Signal, 1)
	signal.Notify(again, os.Interrupt, syscall.SIGTERM)
	names := m.Services()
	shown := strings.Join(names[:min(len(names), 6)], ", ")
	if more := len(names) - 6; more > 0 {
		shown += fmt.Sprintf(" and %d more", more)
	}
	t.say("Stopping " + shown + "; press Ctrl-C again to end at once.")
	l.Stop()
	select {
	case <-again:
	case <-time.After(execute.StopTimes(plan) + 5*time.Second):
	}
	l.Kill()
	select {
	case <-again:
	case <-time.After(10 * time.Second):
	}
	l.Close() // its steward does not answer; the command ends and says so
}

// widest is the length of the longest name in an order.
func widest(o *order.Order) int {
	names := 0
	for _, n := range o.Nodes {
		names = max(names, len(n.ID.Title()))
	}
	return names
}

// settled tells how the launch has gone: what answers where, and all that failed.
func (a launching) settled(ctx context.Context, m *session.Mixed, s *record.Settled,
	begin time.Time, mends *mendings) error {
	r, err := record.Read(m.Root)
	if err != nil {
		return err
	}
	result := m.Result(ctx, r, s, time.Since(begin), func(*record.Service) bool { return true })
	if result.Outcome != stack.AllAnswer {
		a.status = 1
	}
	result.Mended = mends.mended
	if a.json {
		result.Check.Hide()
		return view.JSONLine(a.out, result)
	}
	if result.Outcome != stack.WasStopped {
		a.text().Launched(result, s.Running, m.Options.Background)
		mends.byHand(a.text())
	}
	return nil
}

// offer asks a person whether the commands that ask something are to be run now, each until it has
// been; where nobody can be asked, they are named.
func (a launching) offer(ctx context.Context, plan *plan.Plan) {
	t := a.text()
	for _, ask := range enter.OpenOf(plan) {
		shows := strings.Join(ask.Command, " ")
		if !a.asks() {
			t.Line("Left for you, since it asks something: %s, %s (%s)", shows, whereOf(ask.Ask),
				view.Where(ask.At))
			continue
		}
		t.Blank()
		t.Line("%s has, for when everything is up: %s, %s. It asks something that only you know.",
			view.Where(ask.At), shows, whereOf(ask.Ask))
		if !a.yes("Run it now?") {
			t.Line("Left out, and not offered again. To do it later, run it by hand.")
			ask.Leave()
			continue
		}
		switch code, err := ask.Answer(ctx, a.terminal()); {
		case err != nil:
			t.Line("It could not be run: %s", err)
		case code != 0:
			t.Line("It ended with %d; the next launch offers it again.", code)
		}
	}
}

// terminal is the one at which the person sits, where asks has said that there is one.
func (a *app) terminal() enter.Terminal {
	in, _ := a.in.(*os.File)
	out, _ := a.err.(*os.File)
	return enter.Terminal{In: in, Out: out, Raw: raw(in, out)}
}

// raw hands over every key of a terminal as it is pressed.
func raw(in, out *os.File) func() (rows, columns uint, restore func(), err error) {
	return func() (rows, columns uint, restore func(), err error) {
		before, err := term.MakeRaw(int(in.Fd()))
		if err != nil {
			return 0, 0, nil, err
		}
		width, height, err := term.GetSize(int(out.Fd()))
		if err != nil {
			width, height = 80, 24
		}
		return uint(height), uint(width), func() { term.Restore(int(in.Fd()), before) }, nil
	}
}

func whereOf(a *plan.Ask) string {
	switch {
	case a.Service != "":
		return "in the container of " + a.Service
	case a.Folder == ".":
		return "in this folder"
	}
	return "in " + a.Folder
}
