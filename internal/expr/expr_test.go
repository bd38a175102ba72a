package expr

import (
	"slices"
	"sync"
	"testing"
)

func TestExprIsMadeOnce(t *testing.T) {
	t.Parallel()
	e := &Expr{text: `(\w+)=(\d+)`}
	made := make([]any, 8)
	var wait sync.WaitGroup
	for i := range made {
		wait.Go(func() { made[i] = e.Ready() })
	}
	wait.Wait()
	if slices.ContainsFunc(made, func(m any) bool { return m != made[0] }) {
		t.Error("it was made several times")
	}
	if m := e.FindStringSubmatch("a port=80"); len(m) != 3 || m[1] != "port" || m[2] != "80" ||
		e.String() != `(\w+)=(\d+)` {
		t.Errorf("%s finds %q", e, m)
	}
}

func TestCheckFindsWrongOnes(t *testing.T) {
	t.Parallel()
	defer func() {
		if recover() == nil {
			t.Error("a wrong expression passes")
		}
	}()
	(&Expr{text: "("}).Ready()
}
