package gitrepo

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// large makes a repository of so many small files, with git's own quick way.
func large(b *testing.B, files int) string {
	b.Helper()
	dir := filepath.Join(b.TempDir(), fmt.Sprint("quay", files))
	script := &strings.Builder{}
	script.WriteString("commit refs/heads/main\ncommitter Ida <ida@quay.example> 1700000000 " +
		"+0000\ndata 4\ntide\n")
	for i := range files {
		text := fmt.Sprintf("berth %d\n%s", i, strings.Repeat(fmt.Sprintf("tide %d\n", i*i), 20))
		fmt.Fprintf(script, "M 644 inline pier%d/berth%d/f%d.txt\ndata %d\n%s\n", i%50, i%500, i,
			len(text), text)
	}
	for _, step := range []struct{ in, words string }{{"", "init -q -b main " + dir},
		{script.String(), "-C " + dir + " fast-import --quiet"}, {"", "-C " + dir +
			" repack -adq"}} {
		cmd := exec.Command("git", strings.Fields(step.words)...)
		cmd.Stdin = strings.NewReader(step.in)
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("git %s: %v\n%s", step.words, err, out)
		}
	}
	return dir
}

// BenchmarkClone clones a repository of 50,000 files: x-git is how often the time goes by that git
// itself needs for it (asked: at most 1.05).
func BenchmarkClone(b *testing.B) {
	repo := large(b, 50_000)
	var own, bare time.Duration
	for i := 0; b.Loop(); i++ {
		at := filepath.Join(b.TempDir(), fmt.Sprint(i))
		for k := range 2 { // each first in every other round
			start := time.Now()
			if (i+k)%2 == 0 {
				cmd := exec.Command("git", "clone", "--quiet", repo, at+"bare")
				cmd.Stdout = os.Stdout
				if err := cmd.Run(); err != nil {
					b.Fatal(err)
				}
				bare += time.Since(start)
				continue
			}
			if _, err := Clone(b.Context(), repo, at, Options{}); err != nil {
				b.Fatal(err)
			}
			own += time.Since(start)
		}
		b.StopTimer()
		os.RemoveAll(at)
		os.RemoveAll(at + "bare")
		b.StartTimer()
	}
	b.ReportMetric(float64(own)/float64(bare), "x-git")
}

// BenchmarkTwo clones two repositories at the same time: x-slower is how often the time goes by
// that the slower one takes alone (asked: at most 1.1).
func BenchmarkTwo(b *testing.B) {
	repos := []string{large(b, 20_000), large(b, 5_000)}
	var together, alone time.Duration
	for i := 0; b.Loop(); i++ {
		at := filepath.Join(b.TempDir(), fmt.Sprint(i))
		start := time.Now()
		if _, err := Clone(b.Context(), repos[0], at+"alone", Options{}); err != nil {
			b.Fatal(err)
		}
		alone += time.Since(start)
		start = time.Now()
		var wait sync.WaitGroup
		for k, repo := range repos {
			wait.Go(func() {
				if _, err := Clone(b.Context(), repo, at+fmt.Sprint("-", k),
					Options{}); err != nil {
					b.Error(err)
				}
			})
		}
		wait.Wait()
		together += time.Since(start)
	}
	b.ReportMetric(float64(together)/float64(alone), "x-slower")
}
