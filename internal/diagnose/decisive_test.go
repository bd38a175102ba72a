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

// TestMigration finds the migration at which a log ends.
func TestMigration(t *testing.T) {
	t.Parallel()
	for log, want := range map[string]string{
		"  Applying ledger.0003_piers... OK\n  Applying " +
			"ledger.0004_tides...\nTraceback": "ledger.0004_tides",
		"INFO [alembic] Running upgrade a1 -> b2, piers\nRunning upgrade b2 -> c3, tides\nx": "c3",
		"== 20260101 AddPiers: migrating ===\n== 20260101 AddPiers: migrated (0.1s) ===\n":   "",
		"== 20260102 AddTides: migrating ===\nStandardError: An error has " +
			"occurred": "AddTides",
		"migration file \"20260102_tides.js\" " +
			"failed\n": "20260102_tides.js",
		"Error: P3018\n\nMigration name: " +
			"20260102_tides\n": "20260102_tides",
		"  2026_01_02_000000_tides .......... 12ms " +
			"FAIL\n": "2026_01_02_000000_tides",
		"  Applying ledger.0003_piers... OK\nno migration failed\n": "",
	} {
		if got := Migration(strings.NewReader(log)); got != want {
			t.Errorf("%q: got %q, want %q", log, got, want)
		}
	}
}
