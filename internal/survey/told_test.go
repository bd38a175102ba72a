package survey

import (
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// TestAround reads what stands around the commands of instructions.
func TestAround(t *testing.T) {
	t.Parallel()
	text := readme.Read("README.md",
		[]byte("http://localhost:4901\n\n```sh\nnpm start\n```\n\nIn another terminal:\n\n"+
			"    npm run lamp\n\nor http://localhost:4902\n"))
	for _, c := range []struct {
		line, before int
		want         bool
	}{{9, 4, true}, {9, 8, false}, {4, 0, false}} {
		if got := besides(text, c.line, c.before); got != c.want {
			t.Errorf("line %d behind %d goes to a second terminal: %v", c.line, c.before, got)
		}
	}
	if port, _ := text.OnlyPage(); port != 0 {
		t.Errorf("of two ports %d is the only one", port)
	}
	one := readme.Read("README.md", []byte("http://localhost:4903 and localhost:4903"))
	if port, line := one.OnlyPage(); port != 4903 || line != 1 {
		t.Errorf("the only page is on %d, line %d", port, line)
	}
	s := newSurveyor(fstest.MapFS{}, Options{Root: "/ws"})
	if empty := s.ReadmeOf("nobody.md"); empty.At(1).Head != "" || len(empty.Lines) != 0 {
		t.Errorf("of no file: %+v", empty)
	}
}

func TestToldRoles(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		command string
		least   stack.Role
		want    stack.Role
	}{
		{"npm run db:migrate", "", stack.Migrate}, {"flask db upgrade", "", stack.Migrate},
		{"python manage.py loaddata quays", "", stack.Seed}, {"bin/import_charts", "", stack.Seed},
		{"make setup", "", stack.Create}, {"rake assets:precompile", "", stack.Generate},
		{"./something", "", stack.Generate}, {"make setup", stack.Seed, stack.Seed},
		{"npm run gen:keys", stack.Migrate, stack.Migrate},
	} {
		if got := toldRole(shell.Parse(c.command)[0], c.least); got != c.want {
			t.Errorf("%s behind %q is for %s, want %s", c.command, c.least, got, c.want)
		}
	}
}

// TestOtherWork tells names of scripts that prepare nothing from those that may.
func TestOtherWork(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"lint", "lint:fix", "test", "test-all", "db:studio", "db:reset",
		"start:dev", "format",
		"type-check", "build", "build:prod", "deploy", "docs", "dev", "migration:new",
		"docker-up"} {
		if !otherWork.MatchString(name) {
			t.Errorf("%s is taken for a preparation", name)
		}
	}
	for _, name := range []string{"setup", "db:seed", "load_charts", "generate_secret_token",
		"copy-flags", "init_db", "import", "latest-tides", "contest"} {
		if otherWork.MatchString(name) {
			t.Errorf("%s is taken for other work", name)
		}
	}
}

func TestProcessName(t *testing.T) {
	t.Parallel()
	for command, want := range map[string]string{"npm run queue:work": "queue-work",
		"celery -A rota worker -l": "worker",
		"bin/load_charts.sh --all": "load_charts.sh", "php artisan queue:work": "queue-work",
		"go run ./cmd/clock": "clock"} {
		got := strings.ReplaceAll(processName(shell.Parse(command)[0].Words), ":", "-")
		if got != want {
			t.Errorf("%s is called %s, want %s", command, got, want)
		}
	}
}

// TestCommandsApart holds small judgements of commands.
func TestCommandsApart(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{"cd web && npm run x": "npm",
		"exec ./tides -p 1": "exec", "export A=1; python x.py": "export"} {
		if got := firstWords(line); len(got) == 0 || got[0] != want {
			t.Errorf("%s begins with %q, want %s", line, got, want)
		}
	}
	for line, want := range map[string]bool{"bin/rails css:watch": true, "tailwind --watch": true,
		"npm run watch": true, "node watchtower.js": false} {
		if got := watchesFiles.MatchString(line); got != want {
			t.Errorf("%s watches: %v", line, got)
		}
	}
}
