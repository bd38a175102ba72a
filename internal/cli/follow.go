package cli

import (
	"sync"
	"time"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/board"
	"nimbleharbor/internal/view/picture"
)

// launchView shows how a launch goes.
type launchView interface {
	event(e stack.Event)
	settled(s *record.Settled)
	say(line string) // by any goroutine
}

// lines shows a launch in lines, or in JSON: one for each event. What is at work for long tells so
// by an event now and then; to that is added how long it took last time, and how far it is.
type lines struct {
	a     *app
	names int
	last  map[stack.NodeID]float64 // seconds that nodes took last time
	said  *logs.LastWords
	since map[stack.NodeID]float64 // the seconds at which a step began, of those at work
}

func (l *lines) event(e stack.Event) {
	if l.a.json {
		view.JSONLine(l.a.out, e)
		return
	}
	if begun, again := l.since[e.ID]; again && e.State == stack.Running {
		e.Text = picture.StillAt(e.T-begun, l.last[e.ID], l.said.Of(e.ID))
	} else if e.ID.IsStep() && e.State == stack.Running {
		l.since[e.ID] = e.T
	}
	if e.State != stack.Waiting || e.Text != "" {
		l.a.text().Event(e, l.names)
	}
}

func (l *lines) settled(*record.Settled) {}

func (l *lines) say(line string) {
	if !l.a.json {
		l.a.text().Line("%s", line)
	}
}

// live shows a launch as a timeline at the end of a terminal. It has a goroutine that draws until
// it is left.
type live struct {
	screen *board.Live
	said   *logs.LastWords
	begun  time.Time
	left   chan struct{} // closed once

	mu   sync.Mutex
	t    *timeline.Timeline
	over bool
}

// live is the view of a terminal; nil elsewhere, and where a person wants lines.
func (a *app) live(m *session.Mixed) *live {
	if a.json || a.plain {
		return nil
	}
	screen := board.NewLive(a.out)
	if screen == nil {
		return nil
	}
	l := &live{screen: screen, said: logs.NewLastWords(m.Root, m.Order), begun: time.Now(), left: make(chan struct{}),
		t: timeline.New(m.Order, memory.Recall(m.Root).Seconds())}
	go l.lives()
	return l
}

func (l *live) event(e stack.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		if e.State != stack.Waiting {
			l.screen.Above(func(t *view.Text) { t.Event(e, l.names()) })
		}
		return
	}
	if e.T > time.Since(l.begun).Seconds() { // the launch began before it was followed
		l.begun = time.Now().Add(-time.Duration(e.T * float64(time.Second)))
	}
	l.t.Add(e)
}

// names is the length of the longest name.
func (l *live) names() (n int) {
	for _, r := range l.t.Rows {
		n = max(n, len(r.ID.Title()))
	}
	return n
}

// draw draws it. It is locked.
func (l *live) draw() {
	if !l.over {
		l.screen.Draw(l.t, time.Since(l.begun).Seconds(), l.said.All())
	}
}

func (l *live) settled(s *record.Settled) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		return
	}
	l.over = true
	l.t.Settle(s.Seconds)
	l.screen.Above(func(t *view.Text) { picture.Show(t, l.t) })
}

func (l *live) say(line string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.screen.Above(func(t *view.Text) { t.Line("%s", line) })
	l.draw()
}

// frame is how long a picture stands where nothing happens: a bar grows no faster than one sees.
const frame = 200 * time.Millisecond

// lives draws it again and again, until it is left.
func (l *live) lives() {
	tick := time.NewTicker(frame)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			l.mu.Lock()
			l.draw()
			l.mu.Unlock()
		case <-l.left:
			return
		}
	}
}

// leave ends the drawing; what stands there stays.
func (l *live) leave() { close(l.left) }
