package cli

import (
	"context"
	"slices"
	"time"

	"nimbleharbor/internal/mend"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

// mendings are what a launch does about its failures, over all of its rounds. It belongs to the
// command's goroutine.
type mendings struct {
	a     launching
	unask bool // --mend: nobody is asked
	// running tells that the stack goes on running meanwhile: then no server is run beside it, and
	// no settings file is written.
	running bool
	options plan.Options    // that the stack was launched with, once something was agreed to
	done    map[string]bool // by the acts' keys

	unchanged map[stack.NodeID]bool // the steps that this round has left out

	next   []mend.Act // that were agreed to, for the next round
	open   []mend.Act // that were not
	set    []string   // FILE:KEY=VALUE, of settings that were made up; no argument of any process
	mended []stack.Mended
}

// untilMended launches, and does what was agreed to about what failed, until all is up or nothing
// more can be done.
func (a launching) untilMended(ctx context.Context, opt plan.Options, flags fillFlags,
	vouched pinned, unask bool) error {
	return a.mending(ctx, opt, flags, vouched,
		&mendings{a: a, unask: unask, done: map[string]bool{}})
}

// mending is untilMended with what was done before.
func (a launching) mending(ctx context.Context, opt plan.Options, flags fillFlags, vouched pinned,
	m *mendings) error {
	m.running = false
	for {
		m.next, m.unchanged = nil, nil
		err := a.runLaunch(ctx, opt, flags, vouched, m)
		if err != nil || len(m.next) == 0 {
			return err
		}
		flags.set = append(slices.Clone(flags.set), m.set...)
		for _, act := range m.next {
			if act.Provide != "" && !slices.Contains(opt.Provide, act.Provide) {
				opt.Provide = append(slices.Clone(opt.Provide), act.Provide)
			}
		}
		w, err := a.opened(ctx)
		if err != nil {
			return err
		}
		w.Mend(m.next, time.Now())
	}
}

// saw takes an event of the round.
func (m *mendings) saw(e stack.Event) {
	if m.unchanged == nil {
		m.unchanged = map[stack.NodeID]bool{}
	}
	m.unchanged[e.ID] = e.State == stack.Unchanged
}

// agreed reports whether something is done about what has failed: all that can be with --mend, what
// a person agrees to on a terminal. What nobody can be asked about stays open.
func (m *mendings) agreed(ctx context.Context, mixed *session.Mixed, s *record.Settled) bool {
	m.next, m.open, m.set = nil, nil, nil
	if s.Outcome == stack.AllAnswer || len(m.done) >= mend.Most {
		return false
	}
	for _, act := range mend.Acts(mixed.Mix.Stack, s.Failures, mixed.Sight(ctx, m.unchanged),
		m.done) {
		switch {
		case len(m.done) >= mend.Most:
		case m.running && (act.Provide != "" || act.Setting != ""):
			m.open = append(m.open, act)
		case !m.unask && !m.a.asks():
			m.open = append(m.open, act)
		case m.unask || m.a.yes("This may mend it: "+act.Says+". Do that, and launch again?"):
			m.done[act.Key()] = true
			if act.Setting != "" {
				m.set = append(m.set, act.File+":"+act.Setting+"="+mixed.MadeUp(&act))
			}
			m.next = append(m.next, act)
			m.mended = append(m.mended, stack.Mended{ID: act.ID, Cause: act.Cause, Act: act.Says,
				Lesson: act.Lesson()})
		default:
			m.done[act.Key()] = true // it was refused, and is not asked again
		}
	}
	return len(m.next) > 0
}

// tell says what is done, before the stack is stopped for it.
func (m *mendings) tell(say func(string)) {
	for _, act := range m.next {
		say("Mending: " + act.ID.Title() + " failed (" + act.Cause + "); " + act.Says +
			", and " + m.what() + ".")
	}
}

// what is started again after an act.
func (m *mendings) what() string {
	if m.running {
		return "it is restarted"
	}
	return "everything is launched again"
}

// byHand tells what would mend the rest where nobody was asked.
func (m *mendings) byHand(t *view.Text) {
	for _, act := range m.open {
		command := "launch"
		if m.running && act.Provide == "" && act.Setting == "" {
			command = "restart"
		}
		t.Line("What may mend it: %s. To have that done: nharbor %s --mend", act.Says, command)
	}
}
