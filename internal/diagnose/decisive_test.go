package diagnose

import (
	"os"
	"strings"
	"testing"
)

// TestDecisive finds what programs of all kinds say of their own end, read in one go and in pieces.
func TestDecisive(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("testdata/decisive/forms.txt")
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range strings.Split(string(data), "\n== ")[1:] {
		want, log, _ := strings.Cut(part, "\n")
		for _, size := range []int{len(log), 7} {
			r := NewReader()
			for rest := log; rest != ""; {
				n := min(size, len(rest))
				r.Write([]byte(rest[:n]))
				rest = rest[n:]
			}
			got := "-"
			if d := r.Reading().Decisive; d != nil {
				if got = d.Text; d.At != "" {
					got += " @ " + d.At
				}
			}
			if got != want {
				t.Errorf("in pieces of %d: got %q, want %q", size, got, want)
			}
		}
	}
}
