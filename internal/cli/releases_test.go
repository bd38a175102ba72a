package cli_test

import (
	"os"
	"os/exec"
	"strings"
	"testing"
)

// TestReleaseThatFits names the newest release whose manifest does with what is here, without
// checking it out, and takes the lock file that was committed last.
func TestReleaseThatFits(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	git := func(when string, args ...string) {
		cmd := exec.Command("git",
			append([]string{"-c", "user.name=ida", "-c", "user.email=ida@quay.example"},
				args...)...)
		cmd.Dir, cmd.Env = b.dir, append(os.Environ(), "GIT_COMMITTER_DATE="+when+"T00:00:00Z")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	commit := func(when, wants, file string) {
		b.write(map[string]string{"go.mod": "module quay.example/x\n\ngo " + wants + "\n",
			file: "{}", "main.go": "package main\n\nimport \"net/http\"\n\nfunc main() { " +
				"http.ListenAndServe(\":4541\", nil) }\n",
			"package.json": `{"scripts": {"start": "node x.js --port 4542"}}`})
		git(when, "add", "-A")
		git(when, "commit", "-q", "-m", wants)
		git(when, "tag", "v"+wants)
	}
	git("2026-01-01", "init", "-q")
	commit("2026-01-01", "1.20", "yarn.lock")
	commit("2026-01-02", "1.21", "package-lock.json")
	commit("2026-01-03", "1.999", "x.js")
	said := strings.Join(strings.Fields(b.must(1, "needs")), " ")
	if !strings.Contains(said, "Or take v1.21, the newest release here that does with") {
		t.Error(said)
	}
	said = strings.Join(strings.Fields(b.must(0, "survey")), " ")
	if !strings.Contains(said, "npm is used, since its lock file was committed last") {
		t.Error(said)
	}
	said = b.must(0, "-C", b.home, "clone", b.dir, "--into", "fits", "--at", "fitting")
	if !strings.Contains(said, "tag v1.21") ||
		!strings.Contains(said, "v1.999 asks for go >=1.999, and here is 1.") {
		t.Error(said)
	}
}
