package hide

import (
	"fmt"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestOrdinary tells passwords that stand openly everywhere from those that are hidden wherever
// they occur.
func TestOrdinary(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Services: []stack.Service{{Name: "office",
		Image: "registry.example/ferry/counter:1",
		Env: map[string]string{"POSTGRES_USER": "clerk", "POSTGRES_PASSWORD": "limpet",
			"LABEL": "oyster-9"}}}}
	for secret, want := range map[string]bool{"postgres": true, "redis": true, "office": true,
		"counter": true, "clerk": true, "limpet": false, "oyster-9": false, "": false} {
		if Ordinary(s, secret) != want {
			t.Errorf("%q: %v", secret, !want)
		}
	}
	for value, want := range map[string]string{"yes": "yes", "FALSE": "FALSE", "on": "on",
		"yes-1": hidden, "": ""} {
		s.Services[0].Env["ALLOW_EMPTY_PASSWORD"] = value
		if got := Stack(s).Services[0].Env["ALLOW_EMPTY_PASSWORD"]; got != want {
			t.Errorf("%q is shown as %q", value, got)
		}
	}
}

func TestHide(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Secrets: []string{"canary-in"}, Services: []stack.Service{{
		Name: "db", Command: []string{"serve",
			"--key=canary-in"}, Env: map[string]string{"DB_PASSWORD": "canary-env",
			"URL": "http://u:canary-url@h", "NAME": "harbour", "API_TOKEN": ""},
		ContainerWay: stack.ContainerWay{Container: &stack.ContainerSpec{Entrypoint: []string{"x",
			"canary-env"}, Building: stack.Building{BuildArgs: map[string]string{"A": "canary-in"}},
			Labels: map[string]string{"l": "canary-env!"}, Handed: []stack.Handed{{Name: "pin",
				Content: "canary"}},
			Health: &stack.Health{Test: []string{"CMD", "ask", "canary-env"}}}},
	}, {Name: "native", NativeWay: stack.NativeWay{NativeCommand: []string{"run", "canary-in"}}}}}
	shown := fmt.Sprintf("%+v %+v %+v", Stack(s).Services, *Stack(s).Services[0].Container,
		*Stack(s).Services[0].Container.Health)
	if strings.Contains(shown, "canary") || !strings.Contains(shown, "harbour") ||
		!strings.Contains(shown, "--key=***") || !strings.Contains(shown, "API_TOKEN: ") {
		t.Errorf("shown is %s", shown)
	}
	if s.Services[0].Command[1] != "--key=canary-in" ||
		s.Services[0].Env["DB_PASSWORD"] != "canary-env" ||
		s.Services[0].Container.Health.Test[2] != "canary-env" {
		t.Errorf("the stack itself was changed: %+v", s.Services[0])
	}
}
