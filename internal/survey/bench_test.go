package survey

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/reading"
)

// forest makes a tree of files: projects with sources, and below each the packages that its manager
// has installed.
func forest(b *testing.B, projects, sources, installed int) *os.Root {
	b.Helper()
	dir := b.TempDir()
	write := func(name, text string) {
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	code := strings.Repeat("export function fare(from, to) { return table[from] + table[to] * 2 "+
		"}\n", 50) // 3.5 kB
	write(".gitignore", "node_modules/\n*.log\n/build/\n!keep.log\n")
	for p := range projects {
		at := fmt.Sprintf("area%d/part%d", p%20, p)
		write(at+"/package.json", fmt.Sprintf(
			`{"name": "part%d", "scripts": {"start": "node index.js --port %d", "test": "t"}, "dependencies": `+
				`{"fastify": "5"}}`, p, 10000+p))
		write(at+"/package-lock.json", `{}`)
		write(at+"/.env.example", fmt.Sprintf("PORT=%d\nNEXT_URL=http://localhost:%d\n", 10000+p,
			10000+(p+1)%projects))
		for f := range sources/projects - 3 {
			write(fmt.Sprintf("%s/src/unit%d/file%d.js", at, f%12, f),
				code+fmt.Sprintf("use(process.env.KEY_%d)\n", f%20))
		}
		for f := range installed / projects {
			write(fmt.Sprintf("%s/node_modules/package%d/file%d.js", at, f%30, f), "x")
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { root.Close() })
	return root
}

// BenchmarkSurvey reads 100,000 files with 200 projects, 60,000 of them installed packages, without
// and with what the code says. It reports how often the time of find over the files that are not
// installed it takes.
func BenchmarkSurvey(b *testing.B) {
	root := forest(b, 200, 40_000, 60_000)
	bare := func() {
		find := exec.Command("find", ".", "-name", "node_modules", "-prune", "-o", "-type", "f",
			"-print")
		find.Dir = root.Name()
		if err := find.Run(); err != nil {
			b.Fatal(err)
		}
	}
	bare()
	for _, code := range []bool{false, true} {
		b.Run(fmt.Sprintf("code=%t", code), func(b *testing.B) {
			var found time.Duration
			b.ReportAllocs()
			for b.Loop() {
				b.StopTimer()
				begin := time.Now()
				bare()
				found += time.Since(begin)
				b.StartTimer()
				s, err := Survey(reading.Under(root), Options{Root: root.Name(), ReadCode: code})
				if err != nil || len(s.Projects) != 200 || code != (len(s.Reads) > 0) {
					b.Fatalf("%d projects, %d reads, %v", len(s.Projects), len(s.Reads), err)
				}
			}
			b.ReportMetric(b.Elapsed().Seconds()/found.Seconds(), "x-find")
			b.ReportMetric(1000*found.Seconds()/float64(b.N), "find-ms/op")
		})
	}
}
