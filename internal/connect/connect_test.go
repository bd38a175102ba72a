package connect

import (
	"strings"
	"testing"

	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// TestConnection makes a host and a port of what connection strings say.
func TestConnection(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{"Host=db;Port=5433;Database=x": "db:5433",
		"Server=localhost,1433;User Id=sa": "localhost:1433", "Data Source=tcp:quay,99": "quay:99",
		"Data Source=board.db": "Data Source=board.db", "http://x:1": "http://x:1"} {
		if got := connection(text); got != want {
			t.Errorf("%s is %q, want %q", text, got, want)
		}
	}
}

// TestFlags reads the addresses in the options of a command; its own are none.
func TestFlags(t *testing.T) {
	t.Parallel()
	svc := &stack.Service{
		Command: shell.Parse("./tides --listen=:4911 --store db:5432 --peer=http://north:1 -v " +
			"--name=x")[0].
			Words,
		Ports: []stack.Port{{Host: 4911, Target: 4911}},
	}
	var got []string
	for _, v := range flags(svc) {
		got = append(got, v.Key+" "+v.Text)
		if !v.Fixed {
			t.Errorf("fill would set %s", v.Key)
		}
	}
	if strings.Join(got, ", ") != "store db:5432, peer http://north:1" {
		t.Errorf("%q", got)
	}
}
