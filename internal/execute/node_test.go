package execute

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// deaf is a process that is only told apart from others.
type deaf struct {
	run.Process
	name string
}

// TestLives leads a node through changes, and says after each where it stands. A change that comes
// too late is refused.
func TestLives(t *testing.T) {
	t.Parallel()
	old, next := &deaf{name: "old"}, &deaf{name: "next"}
	wait := change{kind: waits, state: stack.Waiting}
	start := change{kind: starts}
	begin := change{kind: begins, process: old}
	answers := change{kind: settles, state: stack.IsUp, process: old}
	pause := change{kind: pauses}
	again := change{kind: begins, process: next}
	halt, stop := change{kind: wishes, wish: toHalt}, change{kind: wishes, wish: toStop}
	ended := func(s stack.State) change { return change{kind: ends, state: s} }
	for name, test := range map[string]struct {
		changes []change
		want    string // of each: the state and how far it has come; - is refused
	}{
		"a step that finishes": {[]change{wait, {kind: runs}, ended(stack.Done)},
			"waiting/, running/begun, done/finished"},
		"a step that fails": {[]change{{kind: runs}, ended(stack.Failed)},
			"running/begun, failed/begun bad"},
		"nothing changes what is over": {[]change{ended(stack.Skipped), start, begin, stop},
			"skipped/ bad, -, -, -"},
		"a service that answers": {[]change{start, begin, answers},
			"starting/, starting/begun, answering/answering"},
		"a quiet one is bad, though it runs": {[]change{start, begin,
			{kind: settles, state: stack.Quiet, process: old}},
			"starting/, starting/begun, quiet/begun bad"},
		"a port that is learned makes a running one answer": {[]change{start, begin,
			{kind: settles, state: stack.Running, process: old}, {kind: learns, process: old}},
			"starting/, starting/begun, running/answering, answering/answering"},
		"a port is learned of what runs alone": {[]change{start, begin,
			{kind: learns, process: old}}, "starting/, starting/begun, -"},
		"only one that waits is prepared": {[]change{wait, {kind: prepares}, {kind: prepared},
			wait, start,
			{kind: prepares}}, "waiting/, waiting/ preparing, waiting/ prepared, waiting/, " +
			"starting/, -"},
		"a look at the process before": {[]change{start, begin, pause, start, again, answers},
			"starting/, starting/begun, starting/begun starts-again, starting/begun, " +
				"starting/begun, -"},
		"having answered once is not lost": {[]change{start, begin, answers, pause, start, again},
			"starting/, starting/begun, answering/answering, starting/answering starts-again, " +
				"starting/answering, starting/answering"},
		"a look is of no use to one that stops": {[]change{start, begin, stop, answers,
			ended(stack.Stopped)},
			"starting/, starting/begun, starting/begun, -, stopped/begun bad"},
		"a wish is not taken back": {[]change{wait, stop, halt}, "waiting/, waiting/, -"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var l life
			var got []string
			for i, c := range test.changes {
				after, _, ok := l.after(c, time.Duration(i)*time.Second)
				if !ok {
					if after != l {
						t.Errorf("change %d is refused, and yet %+v became %+v", i, l, after)
					}
					got = append(got, "-")
					continue
				}
				l = after
				is := fmt.Sprintf("%s/%s%s %s", l.State, l.Reached,
					map[bool]string{true: " bad"}[l.Bad], l.Kind)
				got = append(got, strings.TrimSuffix(is, " "))
			}
			if all := strings.Join(got, ", "); all != test.want {
				t.Errorf("got  %s\nwant %s", all, test.want)
			}
		})
	}
}

// TestTries counts the starts of a service that doesn't stay up.
func TestTries(t *testing.T) {
	t.Parallel()
	l := life{Again: 3, WasUp: true, Begin: time.Now()}
	if got := l.tries(); got != 3 {
		t.Errorf("one that has been up for a moment was started again %d times, want 3", got)
	}
	l.Begin = time.Now().Add(-2 * stayedUp)
	if got := l.tries(); got != 0 {
		t.Errorf("one that has stayed up was started again %d times, want 0", got)
	}
	if after, _, _ := l.after(change{kind: pauses}, 0); after.Again != 1 {
		t.Errorf("its next pause counts %d, want 1", after.Again)
	}
}
