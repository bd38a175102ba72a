package view

import (
	"fmt"
	"strings"
	"time"

	"nimbleharbor/internal/shell"
)

// StackLine is one stack of this machine.
type StackLine struct {
	Root     string
	Here     bool // it is that of this workspace
	Started  time.Time
	Shift    int
	Left     bool // nobody sees to what is left of it
	Services int
	Running  int
	Ports    []string // "8080 web"
}

// Stacks shows every stack on this machine.
func (t *Text) Stacks(list []StackLine, now time.Time) {
	if len(list) == 0 {
		t.Line("No stack of nharbor's runs on this machine.")
		return
	}
	for i, s := range list {
		if i > 0 {
			t.Blank()
		}
		title := s.Root
		if s.Here {
			title += "  (this workspace)"
		}
		t.Title(title)
		state := fmt.Sprintf("%d of %s running", s.Running,
			Count(s.Services, "service", "services"))
		switch {
		case s.Left:
			t.Line("  %s, and nobody sees to them: what launched them was ended the hard way",
				state)
			t.Line("  Clear it away: nharbor -C %s stop", shell.Word(s.Root))
		default:
			t.Line("  %s, since %s (%s)", state, s.Started.Local().Format("2006-01-02 15:04"),
				ago(now.Sub(s.Started)))
		}
		if s.Shift != 0 {
			t.Line("  its ports are moved by %d", s.Shift)
		}
		if len(s.Ports) > 0 {
			t.Line("  ports %s", strings.Join(s.Ports, ", "))
		}
	}
}

// ago says in words how long something has been.
func ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "less than a minute"
	case d < time.Hour:
		return Count(int(d.Minutes()), "minute", "minutes")
	case d < 48*time.Hour:
		return Count(int(d.Hours()), "hour", "hours")
	}
	return Count(int(d.Hours()/24), "day", "days")
}
