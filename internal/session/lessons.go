package session

import (
	"cmp"
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"time"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/mend"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// taught puts what earlier launches have learned into a stack: one service waits for another. Where
// all of the workspace could be read, a lesson about a service that is not there any more is
// dropped, and that is told.
func taught(m *memory.Memory, s *stack.Stack, whole bool) {
	for _, l := range m.Lessons() {
		if l.After == "" {
			continue
		}
		v, other := s.Service(l.Service), s.Service(l.After)
		if v == nil || other == nil {
			if whole {
				m.Unlearn(l)
				gone := l.Service
				if v != nil {
					gone = l.After
				}
				s.Remarks = append(s.Remarks, stack.Remark{Level: stack.Note,
					Code: stack.CodeLessonDropped,
					Text: fmt.Sprintf("an earlier launch had learned that %s waits for %s; %s "+
						"is not "+
						"here any more, so that it is forgotten", l.Service, l.After, gone)})
			}
			continue
		}
		if slices.ContainsFunc(v.After, func(a stack.After) bool { return a.Service == l.After }) {
			continue
		}
		v.After = append(v.After, stack.After{Service: l.After, Until: stack.Answering,
			Because: stack.Inferred, Sure: stack.Seen,
			Reason: "a launch on " + l.At.Format("2 January 2006") + " was refused without it"})
	}
}

// taughtServers are the kinds of servers that earlier launches had to run beside the stack.
func (w *Workspace) taughtServers() (kinds []string) {
	for _, l := range memory.Recall(w.Root).Lessons() {
		if l.Provide != "" {
			kinds = append(kinds, l.Provide)
		}
	}
	return kinds
}

// soonListens is how long somebody is waited for who may listen on a port that has refused: whoever
// was refused came too early, and nobody knows by how much.
const soonListens = 5 * time.Second

// Serves is the native service of the workspace's own stack that listens on a port of this machine,
// now or soon, but not beyond the context; empty for none.
func (w *Workspace) Serves(ctx context.Context, port int) string {
	ctx, cancel := context.WithTimeout(ctx, soonListens)
	defer cancel()
	o := sockets.Owner(port)
	for ; o == nil; o = sockets.Owner(port) {
		select {
		case <-ctx.Done():
			return ""
		case <-time.After(50 * time.Millisecond):
		}
	}
	of, id := process.MarksOf(o.PID)
	name, _ := stack.NodeID(id).Service()
	if of != workspace.ID(w.Root) {
		return ""
	}
	return cmp.Or(name, id)
}

// Sight is what mending asks about this machine and the workspace. Unchanged are the steps that
// this launch has left out.
func (s *Surveyed) Sight(ctx context.Context, unchanged map[stack.NodeID]bool) mend.Sight {
	return mend.Sight{
		Unchanged: func(id stack.NodeID) bool { return unchanged[id] },
		Serves:    func(port int) string { return s.Serves(ctx, port) },
		Committed: func(file string) bool { return s.gitKnows(ctx)(file) == fill.Tracked },
		MadeUp: func(key, framework string) bool {
			return fill.MadeUp(rand.Reader, key, framework) != ""
		}}
}

// MadeUp is the value of a setting that an act makes up.
func (s *Surveyed) MadeUp(a *mend.Act) string {
	framework := ""
	if name, ok := a.ID.Service(); ok {
		if v := s.Stack.Service(name); v != nil {
			if p := s.Stack.Project(v.Project, v.Manager); p != nil {
				framework = p.Framework
			}
		}
	}
	return fill.MadeUp(rand.Reader, a.Setting, framework)
}

// Mend does what was agreed to, as far as it is done before the next launch, and remembers what
// that has to begin with. now is the time.
func (w *Workspace) Mend(acts []mend.Act, now time.Time) {
	m := memory.Recall(w.Root)
	for _, a := range acts {
		if step, ok := a.Again.Step(); ok {
			m.Again(step)
		}
		if !a.Lesson() {
			continue
		}
		if a.Port > 0 { // else it is up as soon as it runs
			m.Saw(a.After, memory.Seen{Port: a.Port,
				Speaks: cmp.Or(protocol.OfPort("", a.Port), protocol.Plain)})
		}
		name, _ := a.ID.Service()
		m.Learn(memory.Lesson{Service: name, After: a.After, Provide: a.Provide, Because: a.Cause,
			At: now.UTC().Truncate(time.Second)})
	}
}
