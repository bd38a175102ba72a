package engine

import (
	"fmt"
	"strings"
	"time"
)

// layers follows how far the layers of an image have come while it is fetched.
type layers struct {
	by   map[string]*layer
	last time.Time // when something was told last
}

type layer struct {
	got, of int64 // bytes; 0 of while that isn't known
	there   bool
}

// tellEvery is the pause between two tellings.
const tellEvery = 2 * time.Second

// heard takes in what the engine says of one layer.
func (l *layers) heard(id, status string, current, total int64) {
	if id == "" {
		return
	}
	known := l.by[id]
	if known == nil {
		if !strings.HasPrefix(status, "Pulling fs layer") &&
			!strings.HasPrefix(status, "Already exists") {
			return // no layer: the tag that is fetched
		}
		if l.by == nil {
			l.by = map[string]*layer{}
		}
		known = &layer{}
		l.by[id] = known
	}
	switch {
	case strings.HasPrefix(status, "Downloading"):
		known.got, known.of = current, max(total, known.of)
	case strings.HasPrefix(status, "Download complete"), strings.HasPrefix(status, "Verifying"):
		known.got = known.of
	case strings.HasPrefix(status, "Pull complete"), strings.HasPrefix(status, "Already exists"):
		known.got, known.there = known.of, true
	}
}

// tell says how far they are, now and then; empty where it is not yet time, or nothing is known.
func (l *layers) tell(now time.Time) string {
	if len(l.by) == 0 || now.Sub(l.last) < tellEvery {
		return ""
	}
	l.last = now
	there := 0
	var got, of int64
	for _, one := range l.by {
		if one.there {
			there++
		}
		got, of = got+one.got, of+one.of
	}
	text := fmt.Sprintf("%d of %d layers", there, len(l.by))
	if of > 0 {
		text += fmt.Sprintf(", %.1f of %.1f MB so far", float64(got)/1e6, float64(of)/1e6)
	}
	return text
}
