package logs

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
)

// TestTails gives the last words of everybody, whatever is written after them that says nothing.
func TestTails(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	folder, err := Begin(root, []string{"canary-secret"})
	if err != nil {
		t.Fatal(err)
	}
	tails := NewTails(root)
	said := func() string {
		last := tails.Look()
		var out []string
		for _, source := range slices.Sorted(maps.Keys(last)) {
			out = append(out, source+": "+last[source])
		}
		return strings.Join(out, "; ")
	}
	if got := said(); got != "" {
		t.Errorf("before anything there is %q", got)
	}
	web, err := folder.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	install, err := folder.Open("step:install:pier/web")
	if err != nil {
		t.Fatal(err)
	}
	defer web.Close()
	defer install.Close()
	for i := range 2000 {
		install.Line(fmt.Sprintf("\x1b[32madded %d of 2000\x1b[0m", i+1))
	}
	web.Line("the key is canary-secret")
	web.Line("")
	web.Line("   ")
	if got, want := said(), "step.install.pier-web: added 2000 of 2000; web: the key is "+
		"***"; got != want {
		t.Errorf("they say %q, not %q", got, want)
	}
	web.Line(strings.Repeat("x", 3*tail)) // whose beginning is not looked at
	if got := said(); !strings.Contains(got, "web: the key is") &&
		!strings.Contains(got, "web: x") {
		t.Errorf("after a long line they say %q", got)
	}
	web.Line("ready")
	if got := said(); !strings.HasSuffix(got, "web: ready") {
		t.Errorf("at last they say %q", got)
	}
}
