package survey

import (
	"testing"
	"testing/fstest"
)

// TestSeenPorts surveys a service that was seen on a port: that counts before what is written, as
// long as what is written has not changed since.
func TestSeenPorts(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		script string
		seen   Sight
		want   int
		said   int
	}{
		"another than said": {"node desk.js --port 4001", Sight{Port: 4002, Said: 4001, Speaks: "http"}, 4002, 4001},
		"none is said":      {"node desk.js", Sight{Port: 4002, Said: 0, Speaks: "http"}, 4002, -1},
		"what is said has changed": {"node desk.js --port 4003", Sight{Port: 4002, Said: 4001, Speaks: "http"}, 4003,
			0},
		"the one that is said": {"node desk.js --port 4001", Sight{Port: 4001, Said: 4001, Speaks: "http"}, 4001, 0},
	} {
		s, err := Survey(fstest.MapFS{"package.json": {Data: []byte(`{"scripts": {"dev": "` +
			c.script + `"}}`)}}, Options{Root: "/ws/desk", Seen: map[string]Sight{"desk": c.seen}})
		if err != nil || len(s.Services) != 1 || len(s.Services[0].Ports) != 1 {
			t.Fatalf("%s: %v, %+v", name, err, s.Services)
		}
		if p := s.Services[0].Ports[0]; p.Host != c.want || p.Said != c.said {
			t.Errorf("%s: port %d, said %d; want %d, %d", name, p.Host, p.Said, c.want, c.said)
		}
		for _, r := range s.Remarks {
			if r.Code == "port-unknown" {
				t.Errorf("%s: %s", name, r.Text)
			}
		}
	}
}
