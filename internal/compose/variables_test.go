package compose

import (
	"slices"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestVariables gives the project although variables are missing that it can't be read without, and
// says which settings are a variable and nothing else.
func TestVariables(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{"compose.yaml": {Data: []byte(
		"services:\n  db:\n    image: postgres:${VERSION}\n    environment:\n      A: " +
			"${A_PASSWORD}\n      B: " +
			"${B_PASSWORD:?give one}\n      C: x${C}\n      D: ${D:-default}\n      E: $E\n     " +
			" F: plain\n      G: ${A}${B}\n")}}
	p, err := Load(fsys, ".",
		Options{Env: func(name string) (string, bool) { return "set", name == "E" || name == "C" }})
	faults := stack.AllFaults(err)
	if len(faults) != 1 || faults[0].Code != "compose-variable-required" ||
		faults[0].At.Line != 6 || p == nil {
		t.Fatalf("the faults are %v, the project %v", err, p)
	}
	var unset []string
	for _, v := range p.Unset {
		unset = append(unset, v.Name+":"+v.Says)
		if v.Required != (v.Name == "B_PASSWORD") {
			t.Errorf("%+v", v)
		}
	}
	if slices.Sort(unset); !slices.Equal(unset,
		[]string{"A:", "A_PASSWORD:", "B:", "B_PASSWORD:give one", "VERSION:"}) {
		t.Errorf("without a value are %v", unset)
	}
	db := p.Service("db")
	want := map[string]string{"A": "A_PASSWORD", "B": "B_PASSWORD", "D": "D", "E": "E"}
	for key := range db.Env {
		if db.EnvFrom[key] != want[key] {
			t.Errorf("%s is from %q, want %q", key, db.EnvFrom[key], want[key])
		}
	}
	if db.Env["B"] != "" || db.Env["D"] != "default" || db.Env["C"] != "xset" {
		t.Errorf("the values are %v", db.Env)
	}
	// Something else that is wrong leaves no project.
	fsys["compose.yaml"].Data = append(fsys["compose.yaml"].Data, "    frob: 1\n"...)
	if p, err := Load(fsys, ".", Options{}); p != nil || len(stack.AllFaults(err)) < 2 {
		t.Errorf("with another fault there is %v, %v", p, err)
	}
}
