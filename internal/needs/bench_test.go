package needs

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
)

// BenchmarkTools asks ten tools at once, each of which takes 0.3 s to tell its version: x-slowest
// is how often the time of one of them goes by (asked: at most 1.3).
func BenchmarkTools(b *testing.B) {
	bin := b.TempDir()
	s := &stack.Stack{Projects: []stack.Project{{Path: "quay", Manager: "npm"}},
		Services: []stack.Service{{Name: "quay", Runs: stack.Native, Project: "quay",
			Manager: "npm"}}}
	for _, tool := range []string{"node", "npm", "ruby", "go", "java", "mvn", "php", "composer",
		"cargo", "dotnet"} {
		if err := os.WriteFile(filepath.Join(bin, tool),
			[]byte("#!/bin/sh\nsleep 0.3\necho 1.2.3\n"), 0o755); err != nil {
			b.Fatal(err)
		}
		p := &s.Projects[0]
		p.Runtimes = append(p.Runtimes, stack.Runtime{Tool: tool, Constraint: "*"})
	}
	b.Setenv("PATH", bin+":"+os.Getenv("PATH"))
	l := &Local{Dir: b.TempDir()}
	var alone, all time.Duration
	for b.Loop() {
		start := time.Now()
		if _, err := ask(b.Context(), filepath.Join(bin, "node"),
			[]string{"--version"}); err != nil {
			b.Fatal(err)
		}
		alone += time.Since(start)
		start = time.Now()
		if a := Ask(b.Context(), s, nil, nil, l); !a.Met {
			b.Fatal(a.Unmet())
		}
		all += time.Since(start)
	}
	b.ReportMetric(float64(all)/float64(alone), "x-slowest")
}
