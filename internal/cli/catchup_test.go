package cli_test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// TestCatchUp brings a running stack to new commits and back: with a new setting, with one that
// doesn't come up, and with a service that is new. Nothing changes before consent.
func TestCatchUp(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ports := []int{testport.Take(t), testport.Take(t)}
	origin := filepath.Join(b.home, "quay")
	git := func(dir string, args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-c", "user.name=ida", "-c",
			"user.email=ida@quay.example"}, args...)...)
		cmd.Dir, cmd.Env = dir, b.env
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", args, err, out)
		}
	}
	commit := func(says string, files map[string]string) {
		t.Helper()
		for name, text := range files {
			put(origin, name, text, 0o644)
		}
		git(origin, "add", "-A")
		git(origin, "commit", "-q", "-m", says)
	}
	if err := os.Mkdir(origin, 0o755); err != nil {
		t.Fatal(err)
	}
	git(origin, "init", "-q", "-b", "main")
	files := quay(ports[0])
	files[".gitignore"] = ".env\n"
	commit("A quay", files)
	b.must(0, "-C", b.home, "clone", origin, "--into", b.dir)
	holds := func(said string, words ...string) {
		t.Helper()
		flat := strings.Join(strings.Fields(said), " ")
		for _, w := range words {
			if !strings.Contains(flat, w) {
				t.Errorf("%q is not said:\n%s", w, said)
			}
		}
	}
	page := func(port int) string {
		resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
		if err != nil {
			return err.Error()
		}
		defer resp.Body.Close()
		data, _ := io.ReadAll(resp.Body)
		return string(data)
	}
	holds(b.must(0, "catchup"), "work has all that origin/main has.")
	b.must(0, "launch", "--background", "--vouch")

	// A new setting, and code that reads it.
	main := strings.ReplaceAll(files["main.go"], "<title>Quay</title>",
		`<title>Quay of "+os.Getenv("TOWN")+"</title>`)
	commit("Name the town", map[string]string{"main.go": main,
		".env.example": files[".env.example"] + "TOWN=Saltmarsh\n"})
	holds(b.must(1, "catchup"), "work: 1 commit from origin/main, 2 files", "Name the town (ida)",
		"the setting TOWN comes into .env: as in its template",
		"to be restarted: work, since main.go changes, and its settings change", "Nothing was "+
			"changed")
	if got := page(ports[0]); got != "<title>Quay</title>" {
		t.Errorf("before consent there is %s", got)
	}
	holds(b.must(0, "catchup", "--agree"), "Settings: wrote .env", "answers")
	if got := page(ports[0]); got != "<title>Quay of Saltmarsh</title>" {
		t.Errorf("after it there is %s", got)
	}

	// A secret that only a person has, and work that is not committed, stand in the way.
	commit("Ask the pilot", map[string]string{"main.go": strings.Replace(main, "func main() {",
		"func main() {\n\tif os.Getenv(\"PILOT\") != \"\" "+
			"{\n\t\tos.Exit(3)\n\t}", 1), ".env.example": files[".env."+
		"example"] + "TOWN=Saltmarsh\n# from " +
		"https://pilots.example/account\nPILOT_TOKEN=\nPILOT=yes\n"})
	holds(b.must(4, "catchup", "--agree"), "the new setting PILOT_TOKEN has no value",
		"Nothing was changed here")
	put(b.dir, "go.mod", files["go.mod"]+"\n// mine\n", 0o644)
	holds(b.must(1, "catchup", "--agree"), "work in it that is not committed: go.mod")
	put(b.dir, "go.mod", files["go.mod"], 0o644)

	// What comes doesn't come up, and goes back.
	holds(b.must(1, "catchup", "--agree", "--set", "PILOT_TOKEN=canary-of-the-pilot"),
		"ended with code 1", "nharbor catchup --back")
	said := b.must(0, "catchup", "--back")
	holds(said, "again.", "answers")
	if got := page(ports[0]); got != "<title>Quay of Saltmarsh</title>" {
		t.Errorf("back again there is %s", got)
	}
	b.must(1, "catchup", "--back")

	// A service comes.
	second := quay(ports[1])
	git(origin, "revert", "--no-edit", "HEAD")
	commit("A buoy", map[string]string{"buoy/go.mod": strings.Replace(second["go.mod"], "quay",
		"buoy", 1), "buoy/main.go": second["main.go"], "buoy/.env.example": second[".env.example"]})
	holds(b.must(0, "catchup", "--agree"), "to be started: buoy, since it is new",
		"launched anew in the background")
	if got := page(ports[1]); got != "<title>Quay</title>" {
		t.Errorf("of the new service there is %s", got)
	}
	b.must(0, "stop")
	b.leavesNothing()
}
