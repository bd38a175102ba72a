package ports

import (
	"slices"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestTellPort puts a concluded port into the command that would take the usual one.
func TestTellPort(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		command, words, want []string
	}{
		"a word of its own": {[]string{"flask", "--port", "5000"}, nil,
			[]string{"flask", "--port", "4001"}},
		"behind a host": {[]string{"php", "-S", "127.0.0.1:5000"}, nil,
			[]string{"php", "-S", "127.0.0.1:4001"}},
		"behind an option": {[]string{"x", "--port=5000"}, nil, []string{"x", "--port=4001"}},
		"by the server's word": {[]string{"npm", "run", "dev"}, []string{"--", "--port", "{port}"},
			[]string{"npm", "run", "dev", "--", "--port", "4001"}},
		"no way to tell it": {[]string{"node", "x.js"}, nil, []string{"node", "x.js"}},
		"another number": {[]string{"x", "--workers", "50001"}, nil,
			[]string{"x", "--workers", "50001"}},
	} {
		v := &stack.Service{Command: c.command,
			NativeWay: stack.NativeWay{PortBy: stack.PortBy{Words: c.words}}}
		if tellPort(v, 5000, 4001); !slices.Equal(v.Command, c.want) ||
			!slices.Equal(v.NativeCommand, c.want) {
			t.Errorf("%s: %v, want %v", name, v.Command, c.want)
		}
	}
}
