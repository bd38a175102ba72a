package judge

import (
	"context"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// lookInside sees who listens inside of a service's container, where that matters: the engine's
// forwarder accepts before anybody is there.
func (j *judgement) lookInside(ctx context.Context, known *diagnose.Port, c *engine.Listed) {
	accepted := known.Check.Verdict == stack.Answers &&
		(known.Check.Expected == protocol.Plain || known.Gentle)
	if known.Check.Verdict != stack.Refuses && !accepted {
		return
	}
	list, ok := engines.Listening(ctx, c.On, c.ID)
	if !ok {
		return
	}
	known.Known = true
	listens := false
	for _, l := range list {
		known.Inside = append(known.Inside, diagnose.Listening(l))
		listens = listens || l.Port == known.Target && !l.Loopback
	}
	if accepted && !listens {
		known.Check.Verdict, known.Check.Speaks, known.Check.Cause = stack.Refuses, "", ""
	}
}
