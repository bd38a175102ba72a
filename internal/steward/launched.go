package steward

import (
	"encoding/json"
	"slices"

	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/workspace"
)

// maxEvents is how many events are kept from after a launch has settled, the newest.
const maxEvents = 1000

// launchNow is how the launch has gone so far.
func (s *steward) launchNow() *timeline.Launch {
	l := &timeline.Launch{Started: s.record.Started, Order: s.exec.Plan().Order, Last: s.last,
		Events: s.exec.Past()}
	select {
	case <-s.settled:
		l.Took = s.done.Seconds
		after := slices.IndexFunc(l.Events, func(e stack.Event) bool { return e.T > l.Took })
		if more := len(l.Events) - after - maxEvents; after >= 0 && more > 0 {
			l.Events = slices.Delete(l.Events, after, after+more)
		}
	default:
	}
	return l
}

// saveLaunch keeps it; one that can't be written is no reason to end.
func (s *steward) saveLaunch() {
	if data, err := json.Marshal(s.launchNow()); err == nil {
		workspace.WriteState(s.plan.Root, record.LaunchName, data)
	}
}
