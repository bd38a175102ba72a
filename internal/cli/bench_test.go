package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// series are the times of one command.
type series []time.Duration

// ms is the time, in milliseconds, that a share of them doesn't exceed: 0 is the quickest.
func (s series) ms(share float64) float64 {
	sorted := slices.Sorted(slices.Values(s))
	return sorted[int(share*float64(len(sorted)-1))].Seconds() * 1000
}

// ran is how long a command takes.
func ran(b *testing.B, dir string, words ...string) time.Duration {
	b.Helper()
	c := exec.Command(words[0], words[1:]...)
	c.Dir = dir
	begin := time.Now()
	// 3: something is missing here
	if err := c.Run(); err != nil && c.ProcessState.ExitCode() != 3 {
		b.Fatal(err)
	}
	return time.Since(begin)
}

// BenchmarkStart starts the program and, in turns with it, one that has nothing but the command
// line's library. It reports by how much the quickest starts and those in the middle differ.
func BenchmarkStart(b *testing.B) {
	bare := filepath.Join(b.TempDir(), "bare")
	build := exec.Command("go", "build", "-o", bare, "./testdata/bare")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	var ours, theirs series
	for b.Loop() {
		ours = append(ours, ran(b, ".", program, "--version"))
		theirs = append(theirs, ran(b, ".", bare, "--version"))
	}
	b.ReportMetric(ours.ms(0)-theirs.ms(0), "ms-more-at-best")
	b.ReportMetric(ours.ms(0.5)-theirs.ms(0.5), "ms-more-median")
	b.ReportMetric(theirs.ms(0.5), "bare-ms-median")
}

// BenchmarkNeeds asks a machine for the tools of a small application: node and npm, of which npm
// takes longest to say its version.
func BenchmarkNeeds(b *testing.B) {
	if _, err := exec.LookPath("npm"); err != nil {
		b.Skip("npm is not here")
	}
	w := newBench(b)
	w.write(map[string]string{
		"package.json": `{"name": "counter", "scripts": {"start": "node counter.js --port 4310"}, ` +
			`"engines": {"node": ">=10", "npm": ">=5"}}`,
		"package-lock.json": `{"lockfileVersion": 3, "packages": {}}`,
	})
	var ours, slowest series
	for b.Loop() {
		ours = append(ours, ran(b, w.dir, program, "needs", "--json"))
		slowest = append(slowest, ran(b, w.dir, "npm", "--version"))
	}
	b.ReportMetric(ours.ms(0)/slowest.ms(0), "x-slowest-tool-at-best")
	b.ReportMetric(ours.ms(0.5)/slowest.ms(0.5), "x-slowest-tool-median")
}
