package view

import (
	"bytes"
	"testing"
	"time"
)

func TestStacks(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 5, 4, 12, 0, 0, 0, time.Local)
	var out bytes.Buffer
	text := &Text{Out: &out, Width: 80}
	text.Stacks([]StackLine{
		{Root: "/w/ferry", Here: true, Started: now.Add(-90 * time.Minute), Services: 3, Running: 2,
			Ports: []string{"8080 web", "5432 db"}},
		{Root: "/w/copy", Started: now.Add(-50 * time.Hour), Shift: 100, Services: 1, Running: 1},
		{Root: "/w/old", Left: true, Services: 2, Running: 1},
	}, now)
	want := `/w/ferry  (this workspace)
  2 of 3 services running, since 2026-05-04 10:30 (1 hour)
  ports 8080 web, 5432 db

/w/copy
  1 of 1 service running, since 2026-05-02 10:00 (2 days)
  its ports are moved by 100

/w/old
  1 of 2 services running, and nobody sees to them: what launched them was
    ended the hard way
  Clear it away: nharbor -C /w/old stop
`
	if out.String() != want {
		t.Errorf("shown is\n%s\nwant\n%s", out.String(), want)
	}
	out.Reset()
	if text.Stacks(nil, now); out.String() != "No stack of nharbor's runs on this machine.\n" {
		t.Errorf("without any: %s", out.String())
	}
}
