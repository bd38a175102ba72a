package connect

import (
	"testing"

	"nimbleharbor/internal/stack"
)

// TestBesideProgram leaves the code of other programs of a module to them.
func TestBesideProgram(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		command []string
		dir     string
		want    bool
	}{
		{[]string{"go", "run", "./cmd/fleet"}, "port/cmd/count", true},
		{[]string{"go", "run", "./cmd/fleet"}, "port/cmd/fleet/store", false},
		{[]string{"go", "run", "./cmd/fleet"}, "port/internal/store", false},
		{[]string{"go", "run", "./fleet"}, "port/count", false},
		{[]string{"go", "run", "."}, "port/cmd/count", false},
	} {
		v := &stack.Service{Project: "port", NativeWay: stack.NativeWay{NativeCommand: c.command}}
		if got := besideProgram(v, c.dir); got != c.want {
			t.Errorf("%v, %s: got %v", c.command, c.dir, got)
		}
	}
}
