package cli_test

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// npm stands in for the manager: packages come out of a folder, scripts are run as they stand.
const npm = `#!/bin/sh
case "$1" in
--version) echo 10.0.0 ;;
ci | install)
	mkdir -p node_modules && cp -r packages/. node_modules/ 2>/dev/null
	echo "added them" ;;
run) exec sh -c "$(node -p "require('./package.json').scripts['$2']")" ;;
start) exec sh -c "$(node -p "require('./package.json').scripts.start")" ;;
esac
`

// TestFaults launches small applications with one hidden fault each, mending. What can be brought
// up is, and comes up by itself from then on; all else is left as it was, with its cause.
//
// A case has the files of an application, what to do about it before it has its fault ("== break",
// of the shell, behind a first launch that goes well), and what is wanted: a line for each act, and
// one for each cause that is left. PORT1 and PORT2 are ports that are free.
func TestFaults(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("node is not installed")
	}
	casefile.Run(t, "testdata/faults/*.case", func(t *testing.T, c *casefile.Case) {
		b := application(t, c)
		if breaks := c.Files["break"]; breaks != "" {
			b.must(0, "launch", "--vouch", "--background")
			b.must(0, "stop")
			b.shell(breaks)
		}
		before := b.everything(t)
		code, out, errOut := b.run("launch", "--vouch", "--background", "--mend", "--json")
		lines := strings.Split(strings.TrimSpace(out), "\n")
		var r stack.LaunchResult
		if err := json.Unmarshal([]byte(lines[len(lines)-1]), &r); err != nil {
			t.Fatalf("%v: %s %s", err, out, errOut)
		}
		var got strings.Builder
		for _, m := range r.Mended {
			fmt.Fprintf(&got, "%s, %s: %s\n", m.ID, m.Cause, m.Act)
		}
		for _, f := range r.Failures {
			if f.State != stack.Skipped {
				fmt.Fprintf(&got, "left %s, %s\n", f.ID, f.Code)
			}
		}
		if want := c.Files["want"]; got.String() != want || (code == 0) != (len(r.Failures) == 0) {
			t.Errorf("it ended with %d, and was told as\n%swant\n%s%s", code, got.String(), want,
				out)
		}
		b.run("stop")
		if code == 0 {
			if said := b.must(0, "launch", "--background"); strings.Contains(said, "Mending") {
				t.Errorf("the next launch had to learn again: %s", said)
			}
			b.must(0, "stop")
		} else if len(r.Mended) == 0 && b.everything(t) != before {
			t.Errorf("it was not left as it was:\n%s\nbefore:\n%s", b.everything(t), before)
		}
	})
}

// application makes the files of a case, in a repository of its own, with the stand-in first among
// the programs.
func application(t *testing.T, c *casefile.Case) *bench {
	t.Helper()
	b := newBench(t)
	ports := strings.NewReplacer("PORT1", strconv.Itoa(testport.Take(t)),
		"PORT2", strconv.Itoa(testport.Take(t)))
	files := map[string]string{"bin/npm": npm, ".gitignore": "node_modules\n.env\n.nharbor\nbin\n"}
	for name, text := range c.Files {
		if name != "want" && name != "break" {
			files[name] = ports.Replace(text)
		}
	}
	b.write(files)
	if err := os.Chmod(filepath.Join(b.dir, "bin/npm"), 0o755); err != nil {
		t.Fatal(err)
	}
	b.env = append(b.env, "PATH="+filepath.Join(b.dir, "bin")+":"+os.Getenv("PATH"))
	b.shell("git init -q . && git add -A && git -c user.name=ida -c user.email=ida@quay.example " +
		"commit -qm all")
	return b
}

// shell runs a script in the bench's folder.
func (b *bench) shell(script string) {
	b.t.Helper()
	cmd := exec.Command("sh", "-ec", script)
	cmd.Dir, cmd.Env = b.dir, b.env
	if out, err := cmd.CombinedOutput(); err != nil {
		b.t.Fatalf("%s: %v\n%s", script, err, out)
	}
}

// TestRestartMends has a service that fails when it is restarted brought up by what its cause asks
// for, though nothing runs any more by then.
func TestRestartMends(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("node"); err != nil {
		t.Skip("node is not installed")
	}
	i := slices.IndexFunc(casefile.All(t, "testdata/faults/*.case"), func(c *casefile.Case) bool {
		return filepath.Base(c.File) == "package-lost.case"
	})
	c := casefile.All(t, "testdata/faults/*.case")[i]
	b := application(t, c)
	b.must(0, "launch", "--vouch", "--background")
	b.shell(c.Files["break"])
	if said := oneLine(b.must(0, "restart", "--mend")); !strings.Contains(said,
		"install is done once more, and it is restarted.") {
		t.Errorf("it was mended in silence: %s", said)
	}
	b.must(0, "check")
	b.shell(c.Files["break"])
	if said := oneLine(b.must(1, "restart")); !strings.Contains(said,
		"install is done once more. To have that done: nharbor launch --mend") {
		t.Errorf("what would mend it, now that nothing runs, is not told: %s", said)
	}
}

// everything is what the files of the bench hold, but for what a launch keeps and what an install
// brings.
func (b *bench) everything(t *testing.T) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(b.dir, func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == ".git" || d.Name() == ".nharbor" ||
			d.Name() == "node_modules"):
			return filepath.SkipDir
		case d.Type().IsRegular():
			data, err := os.ReadFile(name)
			fmt.Fprintf(&out, "%s: %q\n", strings.TrimPrefix(name, b.dir), data)
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}
