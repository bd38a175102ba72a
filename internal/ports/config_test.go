package ports

import "testing"

// TestListensIn finds the port of a program's own settings, and none that it connects to.
func TestListensIn(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		text       string
		port, line int
	}{
		"YAML": {"# quay\nserver:\n  host: \"0.0.0.0\"\n  port: 4420 # the desk\n",
			4420, 4},
		"another section": {"store:\n  port: 4421\nhttp:\n  limits:\n    port: 4\n  port: 4422\n",
			4422, 6},
		"of a store": {"redis:\n  server: tide\n  port: 6379\n", 0, 0},
		"at the top": {"name: quay\nlisten: 127.0.0.1:4423\n", 4423, 2},
		"JSON": {"{\n  \"db\": {\n    \"port\": 4424\n  },\n  \"server\": {\n    " +
			"\"port\": 4425\n  }\n}", 4425, 6},
		"TOML":      {"[store]\nport = 4426\n\n[server]\naddress = \"[::]:4427\"\n", 4427, 5},
		"no number": {"server:\n  port: $PORT\n", 0, 0},
	} {
		if port, line := listensIn(c.text); port != c.port || line != c.line {
			t.Errorf("%s: got %d on line %d, want %d on %d", name, port, line, c.port, c.line)
		}
	}
}
