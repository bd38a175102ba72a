package engine_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
)

// BenchmarkSeen looks at a build's context of 50,000 files with an ignore file as a launch does,
// and walks the same files without any question; x-of-a-walk is how many times as long the look
// takes.
func BenchmarkSeen(b *testing.B) {
	dir := b.TempDir()
	for i := range 500 {
		folder := filepath.Join(dir, fmt.Sprintf("part-%d", i/50), fmt.Sprintf("of-%d", i))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			b.Fatal(err)
		}
		for k := range 100 {
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("file-%d.js", k)), []byte("x"),
				0o644); err != nil {
				b.Fatal(err)
			}
		}
	}
	ignore := "node_modules\n*.log\n.git\ndist/**\n!dist/keep\npart-3/of-1??\n"
	if err := os.WriteFile(filepath.Join(dir, ".dockerignore"), []byte(ignore), 0o644); err != nil {
		b.Fatal(err)
	}
	folder := &engine.Folder{FS: os.DirFS(dir), Dockerfile: "Dockerfile"}
	var looked, walked, read time.Duration
	for b.Loop() {
		begin := time.Now()
		if _, err := folder.Stamp(); err != nil {
			b.Fatal(err)
		}
		looked += time.Since(begin)
		begin = time.Now()
		err := fs.WalkDir(os.DirFS(dir), ".", func(_ string, d fs.DirEntry, err error) error {
			if err == nil {
				_, err = d.Info()
			}
			return err
		})
		if err != nil {
			b.Fatal(err)
		}
		walked += time.Since(begin)
		begin = time.Now()
		if _, err := folder.Sum(); err != nil {
			b.Fatal(err)
		}
		read += time.Since(begin)
	}
	b.ReportMetric(looked.Seconds()/walked.Seconds(), "x-of-a-walk")
	b.ReportMetric(read.Seconds()/walked.Seconds(), "x-with-contents")
}
