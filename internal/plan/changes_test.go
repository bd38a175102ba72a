package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

func TestChangesAreNamed(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	write := func(name, text string) {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("lock", "1")
	write(".env", "A=1")
	made := func(level, commit string) *Plan {
		p := &Plan{Root: root, ID: "x", Inputs: []string{"lock", ".env", "nharbor.toml"},
			Commits: map[string]string{".": commit}, Services: map[stack.NodeID]Service{},
			Steps: map[stack.NodeID]Step{}}
		p.Services["service:api"] = Service{Name: "api", Command: []string{"serve"},
			own: []string{"LEVEL=" + level}}
		p.Services["service:web"] = Service{Name: "web", Environment: []string{"SHELL=" + level}}
		p.Steps["step:install:web"] = Step{Work: memory.Work{ID: "install:web", Role: stack.Install,
			Inputs: []string{"lock"}}}
		p.Order.Nodes = []order.Node{{ID: "step:install:web", Kind: "step"},
			{ID: "service:api", Kind: "service"},
			{ID: "service:web", Kind: "service", After: []order.Edge{{ID: "step:install:web"}}}}
		p.Prints = p.prints()
		return p
	}
	then := made("low", "c1").Prints
	if c := Changes(then, made("low", "c1")); c.Any() {
		t.Errorf("nothing has changed, and said is %+v", c)
	}
	if c := Changes(then, made("high", "c1")); strings.Join(c.Services, " ") != "api" ||
		c.Remedy != "nharbor restart api" || len(c.Steps)+len(c.Files)+len(c.Commits) > 0 {
		t.Errorf("of a setting is said %+v", c)
	}
	write("lock", "2")
	write("nharbor.toml", "")
	if c := Changes(then, made("low", "c2")); strings.Join(c.Files, " ") != "lock nharbor.toml" ||
		strings.Join(c.Steps, " ") != "install web" || strings.Join(c.Commits, " ") != "." ||
		c.Remedy != "nharbor restart web" {
		t.Errorf("of a lock file and a commit is said %+v", c)
	}
	if c := Changes(nil, made("low", "c1")); c.Any() {
		t.Errorf("of a launch of which nothing is known is said %+v", c)
	}
	// The install has written its lock file since: what it left is its result, and no change.
	install := made("low", "c2").Steps["step:install:web"].Work
	memory.Recall(root).Remember(&install, memory.Digest(root, &install, ""), nil)
	if c := Changes(then, made("low", "c1")); len(c.Steps) > 0 ||
		strings.Join(c.Files, " ") != "nharbor.toml" {
		t.Errorf("after the install is said %+v", c)
	}
	write("lock", "3")
	if c := Changes(then, made("low", "c1")); strings.Join(c.Steps, " ") != "install web" {
		t.Errorf("of another lock file is said %+v", c)
	}
	if strings.Contains(fmt.Sprintf("%+v", then), "LEVEL") {
		t.Error("the record holds a setting")
	}
}
