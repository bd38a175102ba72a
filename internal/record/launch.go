package record

import (
	"encoding/json"

	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/workspace"
)

// LaunchName is the file of the workspace's state that keeps how the launch went: what its timeline
// is drawn from.
const LaunchName = "timeline.json"

// Launch is how the last launch of a workspace went, or goes; nil where none is known. The steward
// is asked, if it is there.
func (r *Record) Launch() *timeline.Launch {
	if r == nil {
		return nil
	}
	if m := r.Ask(Request{Do: "launch"}); m != nil && m.Launch != nil {
		return m.Launch
	}
	data, err := workspace.ReadState(r.Root, LaunchName)
	if err != nil {
		return nil
	}
	var l timeline.Launch
	if json.Unmarshal(data, &l) != nil {
		return nil
	}
	return &l
}
