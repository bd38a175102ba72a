package survey

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"nimbleharbor/internal/workspace"
)

// forest makes a tree of files: projects with sources, and below each the packages that its manager has installed.
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
	write(".gitignore", "node_modules/\n*.log\n/build/\n!keep.log\n")
	for p := range projects {
		at := fmt.Sprintf("area%d/part%d", p%20, p)
		write(at+"/package.json",
			fmt.Sprintf(
				`{"name": "part%d", "scripts": {"start": "node index.js --port %d", "test": "t"}, "dependencies": `+
					`{"fastify": "5"}}`, p, 10000+p))
		write(at+"/package-lock.json", `{}`)
		write(at+"/.env.example", fmt.Sprintf("PORT=%d\nNEXT_URL=http://localhost:%d\n", 10000+p, 10000+(p+1)%projects))
		for f := range sources/projects - 3 {
			write(fmt.Sprintf("%s/src/unit%d/file%d.js", at, f%12, f), "x")
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

// BenchmarkSurvey reads 100,000 files with 200 projects, 60,000 of them installed packages. It reports how often the
// time of a bare walk over the files that are not ignored it takes.
func BenchmarkSurvey(b *testing.B) {
	for _, size := range []int{1, 10} {
		b.Run(fmt.Sprintf("files=%d", 100_000*size), func(b *testing.B) {
			if size > 1 && testing.Short() {
				b.Skip("a million files")
			}
			root := forest(b, 200, 40_000*size, 60_000*size)
			bare := func() {
				err := filepath.WalkDir(root.Name(), func(_ string, d fs.DirEntry, err error) error {
					if err == nil && d.IsDir() && d.Name() == "node_modules" {
						return fs.SkipDir
					}
					return err
				})
				if err != nil {
					b.Fatal(err)
				}
			}
			bare()
			var walking float64
			b.ReportAllocs()
			for b.Loop() {
				b.StopTimer()
				begin := b.Elapsed()
				b.StartTimer()
				bare()
				walking += (b.Elapsed() - begin).Seconds()
				s, err := Survey(workspace.Files(root), Options{Root: root.Name()})
				if err != nil || len(s.Projects) != 200 {
					b.Fatalf("%d projects, %v", len(s.Projects), err)
				}
			}
			b.ReportMetric((b.Elapsed().Seconds()-walking)/walking, "x-bare-walk")
			b.ReportMetric(1000*walking/float64(b.N), "bare-ms/op")
		})
	}
}
