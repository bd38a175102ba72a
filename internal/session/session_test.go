package session

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/testport"
)

// tree makes a workspace of files.
func tree(t *testing.T, files map[string]string) *Workspace {
	t.Helper()
	root := t.TempDir()
	for name, text := range files {
		name = filepath.Join(root, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	w, err := Open(context.Background(), root, false)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// counting counts how often each file is opened; asking for its size is not opening it.
type counting struct {
	fs.StatFS
	mu     sync.Mutex
	opened map[string]int
}

func (c *counting) Open(name string) (fs.File, error) {
	if info, err := c.Stat(name); err == nil && !info.IsDir() {
		c.mu.Lock()
		c.opened[name]++
		c.mu.Unlock()
	}
	return c.StatFS.Open(name)
}

// TestEachFileIsOpenedOnce goes the row from a survey to a plan over an application of several
// parts.
func TestEachFileIsOpenedOnce(t *testing.T) {
	t.Parallel()
	w := tree(t, map[string]string{
		"compose.yaml": "services:\n  db: {image: 'postgres:16', env_file: .env, ports: " +
			"['5432:5432']}\n  api: {build: api, env_file: [.env, api/.env], depends_on: [db]}\n",
		".env.example":     "POSTGRES_PASSWORD=change-me\nPOSTGRES_DB=ferry\n",
		".env":             "POSTGRES_PASSWORD=quay-secret\n",
		"api/Dockerfile":   "FROM scratch\n",
		"api/package.json": `{"scripts": {"start": "node server.js"}, "dependencies": {"express": "5"}}`,
		"api/.env.example": "DATABASE_URL=postgres://postgres:change-me@db:5432/ferry\nPORT=3000\n",
		"api/.env":         "DATABASE_URL=postgres://postgres:quay-secret@db:5432/ferry\nPORT=3000\n",
		"api/server.js":    "require('express')().listen(process.env.PORT)\n",
		"README.md":        "# Ferry\n\n```sh\ncp api/.env.example api/.env\nnpm start\n```\n",
	})
	under := &counting{StatFS: os.DirFS(w.Root).(fs.StatFS), opened: map[string]int{}}
	w.Files = reading.Of(under)
	s, err := w.Survey(WithCode)
	if err != nil {
		t.Fatal(err)
	}
	f, err := s.Fill(context.Background(), Filling{})
	if err != nil {
		t.Fatal(err)
	}
	if len(f.Plan.Files) != 2 {
		t.Errorf("%d settings files, want 2", len(f.Plan.Files))
	}
	m, err := s.Mix(plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.Plan(); err != nil {
		t.Fatal(err)
	}
	if len(under.opened) < 8 {
		t.Errorf("only %v was opened", under.opened)
	}
	for name, times := range under.opened {
		if times > 1 {
			t.Errorf("%s was opened %d times", name, times)
		}
	}
}

// TestNeedsAreOfWhatWasFilled gives a port while the one in the files is taken, and the other way
// round.
func TestNeedsAreOfWhatWasFilled(t *testing.T) {
	t.Parallel()
	taken := testport.Take(t)
	free := taken + 1
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", taken))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	for name, test := range map[string]struct {
		template, given int
		refused         bool
	}{
		"the template's is taken, the given one free": {taken, free, false},
		"the template's is free, the given one taken": {free, taken, true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := tree(t, map[string]string{
				".env.example": fmt.Sprintf("WEB_PORT=%d\n", test.template),
				"compose.yaml": "services: {web: {image: 'quay/web:1', ports: " +
					"['127.0.0.1:${WEB_PORT}:80']}}\n",
				".git/HEAD": "ref: refs/heads/main\n",
			})
			s, err := w.Survey(WithoutCode)
			if s == nil {
				t.Fatal(err)
			}
			f, err := s.Fill(context.Background(),
				Filling{Set: map[string]string{"WEB_PORT": fmt.Sprint(test.given)}})
			if err != nil {
				t.Fatal(err)
			}
			now, err := f.Write(context.Background())
			if err != nil {
				t.Fatal(err)
			}
			m, err := now.Mix(plan.Options{})
			if err != nil {
				t.Fatal(err)
			}
			var unmet []string
			for _, n := range m.Needs(context.Background(), nil).Needs {
				if !n.Met && strings.Contains(n.Name, "port") {
					unmet = append(unmet, n.Name)
				}
			}
			if refused := slices.ContainsFunc(unmet, func(n string) bool {
				return strings.Contains(n, fmt.Sprint(taken))
			}); refused != test.refused || len(unmet) > 1 {
				t.Errorf("needs that are not met: %q", unmet)
			}
			if len(s.Stack.Services) != 1 || s == now {
				t.Error("the survey from before has been changed")
			}
		})
	}
}
