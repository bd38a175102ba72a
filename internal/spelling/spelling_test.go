package spelling

import (
	"strings"
	"testing"
)

func TestNearest(t *testing.T) {
	t.Parallel()
	known := []string{"ports", "image", "imagf", "build"}
	for word, want := range map[string]string{"prots": "ports", "ports": "ports", "imag": "image",
		"x": "", "biuld": "build"} {
		if got := Nearest(word, known, 3); got != want {
			t.Errorf("%s: %q, want %q", word, got, want)
		}
	}
}

func TestNear(t *testing.T) {
	t.Parallel()
	known := []string{"v2.1.0", "v2.0.0", "v1.9.3", "main", "release/tide", "b"}
	for word, want := range map[string]string{"2.1.0": "v2.1.0 v2.0.0",
		"v2.0.1": "v2.0.0 v2.1.0 v1.9.3", "Main": "main",
		"tide": "release/tide", "quay": "", "": "b"} {
		if got := strings.Join(Near(word, known, 3), " "); got != want {
			t.Errorf("%s: %q, want %q", word, got, want)
		}
	}
}

// TestKeys suggests a key for one that is misspelt, and none for one that is quite another.
func TestKeys(t *testing.T) {
	t.Parallel()
	known := []string{"port", "runs", "command", "leave-out"}
	for word, want := range map[string]string{"prot": "port", "run": "runs", "comand": "command",
		"leave_out": "leave-out", "Port": "port", "colour": "", "": ""} {
		if got := Nearest(word, known, 3); got != want {
			t.Errorf("for %q one is pointed to %q, want %q", word, got, want)
		}
	}
	for pair, want := range map[[2]string]int{{"", ""}: 0, {"a", ""}: 1, {"abc", "abd"}: 1,
		{"abc", "bc"}: 1, {"kitten", "sitting"}: 3} {
		if got := Edits(pair[0], pair[1]); got != want {
			t.Errorf("%v: %d edits, want %d", pair, got, want)
		}
	}
}
