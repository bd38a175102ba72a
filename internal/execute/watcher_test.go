package execute

import (
	"testing"

	"nimbleharbor/internal/logs"
)

// TestWaitsForChange goes by the last of a watcher's words: that its program has ended, as long as
// it has not started it again.
func TestWaitsForChange(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		lines []string
		want  bool
	}{
		"crashed": {[]string{"starting `node desk.js`",
			"[watch] app crashed - waiting for file changes before starting..."}, true},
		"by its code": {[]string{"Failed running 'desk.js'. Waiting for file changes before " +
			"restarting..."}, true},
		"compiled": {[]string{"tide.go:4:2: undefined: neap", "watching for changes before",
			"process exited with code 2"}, true},
		"with a sign":   {[]string{"✗ process exited with code: 1"}, true},
		"well":          {[]string{"process exited with code 0"}, false},
		"in a sentence": {[]string{"the crane's process exited with code 3"}, false},
		"started again": {[]string{"app crashed - waiting for file changes",
			"[watch] restarting due to changes..."}, false},
		"of a change": {[]string{"app crashed - waiting", "change detected: desk.js"}, false},
		"crashed again": {[]string{"app crashed", "restarting due to changes", "app crashed"},
			true},
		"nothing":     {nil, false},
		"other words": {[]string{"listening on 4430", "GET /cranes/crash 200"}, false},
	} {
		folder, err := logs.Begin(t.TempDir(), nil)
		if err != nil {
			t.Fatal(err)
		}
		log, err := folder.Open("service:desk")
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range c.lines {
			log.Line(l)
		}
		if got := waitsForChange(log); got != c.want {
			t.Errorf("%s: waits is %v", name, got)
		}
		log.Close()
	}
}

// TestWatchLine knows what starts others again by its command line, and takes no name or path that
// is alike for one.
func TestWatchLine(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]bool{
		"node /ws/node_modules/.bin/nodemon desk.js": true, "node --watch desk.js": true,
		"node --watch=src desk.js": true, "tsx watch desk.ts": true,
		"watchexec -r -- make": true, "air -c .air.toml": true,
		"python -m uvicorn desk:app --reload": true, "cargo watch -x run": true,
		"node desk.js": false, "node watchtower.js": false, "node --watchtower desk.js": false,
		"python stairs.py": false, "java -jar fair.jar": false, "": false,
	} {
		if got := watchLine.MatchString(line); got != want {
			t.Errorf("%q is a watcher: %v", line, got)
		}
	}
}
