package needs

import (
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestServersAreDescribed tells with which database and user a server is wanted, and a command that
// starts it where somebody names an image.
func TestServersAreDescribed(t *testing.T) {
	t.Parallel()
	ci := stack.Place{File: ".ci.yml", Line: 4}
	for name, c := range map[string]struct {
		server                stack.Server
		found, remedy, absent string
	}{
		"with all": {stack.Server{Speaks: "postgres", Port: 5433, Key: "DATABASE_URL",
			Database: "fares", User: "clerk",
			Image: "postgres:16.4", ImageAt: ci}, "wanted with the database fares and the user " +
			"clerk",
			"docker run -d -p 127.0.0.1:5433:5432 -e POSTGRES_DB=fares -e POSTGRES_USER=clerk " +
				"-e POSTGRES_PASSWORD=… " +
				"postgres:16.4 (the image that .ci.yml:4 uses; … is the password in " +
				"DATABASE_URL). Or let DATABASE_URL", ""},
		"the server's own user": {stack.Server{Speaks: "mysql", Port: 3306, Key: "DB_HOST",
			Database: "fares", User: "root",
			Image: "mysql:8.4", ImageAt: ci}, "wanted with the database fares and the user root",
			"-e MYSQL_DATABASE=fares -e MYSQL_ROOT_PASSWORD=… mysql:8.4", "MYSQL_USER"},
		"another user": {stack.Server{Speaks: "mysql", Port: 3306, Key: "DB_HOST",
			Database: "fares", User: "clerk",
			Image: "mariadb:11", ImageAt: ci}, "", "-e MYSQL_USER=clerk -e MYSQL_PASSWORD=… -e " +
			"MYSQL_ROOT_PASSWORD=…", ""},
		"without a password": {stack.Server{Speaks: "redis", Port: 6379, Key: "REDIS_URL",
			Image: "redis:7", ImageAt: ci},
			"nothing answers there", "docker run -d -p 127.0.0.1:6379:6379 redis:7 (the image " +
				"that .ci.yml:4 uses)", "password"},
		"of no setting": {stack.Server{Speaks: "postgres", Port: 5432, Fixed: true,
			Image: "postgres:16", ImageAt: ci}, "", "… is the password).", "fill --set"},
		"only a database": {stack.Server{Speaks: "mongodb", Port: 27017, Key: "MONGO_URL",
			Database: "fares"},
			"wanted with the database fares", "--provide mongodb. Or: start one, or let " +
				"MONGO_URL point", "docker"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c.server.For = "api"
			s := &stack.Stack{Servers: []stack.Server{c.server},
				Services: []stack.Service{{Name: "api", Runs: stack.Native}}}
			var n *Need
			for i, need := range Ask(t.Context(), s, []string{"api"}, nil,
				machine{free: 1 << 40}).Needs {
				if need.Kind == Server {
					n = &Ask(t.Context(), s, []string{"api"}, nil, machine{free: 1 << 40}).Needs[i]
				}
			}
			if n == nil || n.Met || n.Level != Optional {
				t.Fatalf("the need is %+v", n)
			}
			if !strings.Contains(n.Found, c.found) || !strings.Contains(n.Remedy, c.remedy) ||
				c.absent != "" && strings.Contains(n.Remedy, c.absent) {
				t.Errorf("found: %s\nremedy: %s", n.Found, n.Remedy)
			}
		})
	}
}

// TestProgramsOfProcesses are needed by their names, whatever they are; what lies in the checkout
// is not.
func TestProgramsOfProcesses(t *testing.T) {
	t.Parallel()
	for command, want := range map[string]string{"mailpost --foreground": "mailpost",
		"python3 tide.py": "python3", "./bin/rota": "", "sh -c x": ""} {
		s := &stack.Stack{Services: []stack.Service{{Name: "a", Runs: stack.Native,
			Command: strings.Fields(command)}}}
		got := ""
		for _, n := range Ask(t.Context(), s, []string{"a"}, nil, machine{free: 1 << 40}).Needs {
			if n.Kind == Tool {
				got = n.Name
			}
		}
		if got != want {
			t.Errorf("%s needs %q, want %q", command, got, want)
		}
	}
}

// TestBroughtVersions are no need that stands in the way.
func TestBroughtVersions(t *testing.T) {
	t.Parallel()
	s := &stack.Stack{Projects: []stack.Project{{Path: ".", Manager: "uv",
		Runtimes: []stack.Runtime{
			{Tool: "python3", Constraint: "~3.13", Brought: true}}}},
		Services: []stack.Service{{Name: "a", Runs: stack.Native, Project: ".", Manager: "uv"}}}
	a := Ask(t.Context(), s, []string{"a"}, nil,
		machine{versions: map[string]string{"python3": "3.11.2"}, free: 1 << 40})
	if n := a.Needs[0]; !a.Met || n.Met || n.Level != Optional ||
		!strings.Contains(n.Remedy, "fetches one that fits") {
		t.Errorf("met is %v, the need %+v", a.Met, n)
	}
}
