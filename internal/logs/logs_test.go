package logs

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// logs begins logs with a small limit in a folder of the test's own.
func begin(t testing.TB, limit int64, hidden ...string) (string, *Folder) {
	t.Helper()
	root := t.TempDir()
	l, err := Begin(root, hidden)
	if err != nil {
		t.Fatal(err)
	}
	l.limit = limit
	return root, l
}

func TestLogsRotate(t *testing.T) {
	t.Parallel()
	root, l := begin(t, 4000)
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	reader, late := Read(root, nil), Read(root, nil)
	var got []string
	for i := range 200 {
		log.Line(fmt.Sprintf("line %d of those that make it grow", i))
		if i%7 == 0 {
			lines, err := reader.Next()
			if err != nil {
				t.Fatal(err)
			}
			for _, line := range lines {
				got = append(got, line.Text)
			}
		}
	}
	lines, _ := reader.Next()
	for _, line := range lines {
		got = append(got, line.Text)
	}
	for i, text := range got {
		if want := fmt.Sprintf("line %d of those that make it grow", i); text != want {
			t.Fatalf("line %d is %q", i, text)
		}
	}
	if len(got) != 200 {
		t.Errorf("who follows gets %d lines of 200", len(got))
	}
	files, _ := filepath.Glob(filepath.Join(root, workspace.StateDir, "logs", "*"))
	var size int64
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			size += info.Size()
		}
	}
	if len(files) != 2 || size > 8000 {
		t.Errorf("%d files with %d bytes are kept", len(files), size)
	}
	if lines, err := late.Next(); err != nil || len(lines) < 50 ||
		lines[len(lines)-1].Text != got[199] {
		t.Errorf("who comes late gets %d lines, %v", len(lines), err)
	}
}

func TestLogLines(t *testing.T) {
	t.Parallel()
	root, l := begin(t, logLimit, "pier-secret", "pier-secret-long")
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	a, b := log.Stream(), log.Stream()
	fmt.Fprint(a, "half a ")
	fmt.Fprint(b, "another\r\n\n")
	fmt.Fprint(a, "line\nthe pier-secret-long and pier-")
	fmt.Fprint(a, "secret\nno end")
	fmt.Fprint(b, strings.Repeat("x", maxLine+10)+"\n")
	a.Close()
	b.Close()
	lines, err := Read(root, nil).Next()
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, line := range lines {
		got = append(got, line.Text[:min(len(line.Text), 40)])
	}
	want := []string{"another", "", "half a line", "the *** and ***", strings.Repeat("x", 40),
		strings.Repeat("x", 10), "no end"}
	if !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
	if tail := log.Tail(); len(tail) != tailLines || tail[len(tail)-1] != "no end" ||
		log.Last() != "no end" {
		t.Errorf("the last are %.60q", tail)
	}
	if log.Close(); log.Close() != nil {
		t.Error("closing twice fails")
	}
	log.Line("after the end") // is lost, and breaks nothing
}

// BenchmarkLogs writes the logs of 50 services at once, in pieces as they come out of a pipe. What
// is asked is 200 MB/s.
func BenchmarkLogs(b *testing.B) {
	_, l := begin(b, logLimit, "pier-secret-1", "pier-secret-2", "pier-secret-3")
	piece := []byte(strings.Repeat(
		"2026-11-23 12:00:00 INFO the ferry to the outer island leaves at half past nine from "+
			"pier two, all aboard\n", 300))
	const services = 50
	var all []*Log
	for i := range services {
		log, err := l.Open(stack.ServiceNode(fmt.Sprint("s", i)))
		if err != nil {
			b.Fatal(err)
		}
		defer log.Close()
		all = append(all, log)
	}
	b.SetBytes(int64(services * len(piece)))
	for b.Loop() {
		var wait sync.WaitGroup
		for _, log := range all {
			wait.Go(func() {
				s := log.Stream()
				s.Write(piece)
				s.Close()
			})
		}
		wait.Wait()
	}
}

func TestLogReader(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	logs, err := Begin(root, nil)
	if err != nil {
		t.Fatal(err)
	}
	web, err := logs.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	step, err := logs.Open("step:install:apps/web@npm")
	if err != nil {
		t.Fatal(err)
	}
	web.Line("one")
	step.Line("two words")
	all, some := Read(root, nil), Read(root, []string{"web"})
	texts := func(r *Reader) string {
		t.Helper()
		lines, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, l := range lines {
			if time.Since(l.Time) > time.Minute || time.Since(l.Time) < 0 {
				t.Errorf("a line's time is %v", l.Time)
			}
			out = append(out, l.Source+": "+l.Text)
		}
		return strings.Join(out, "|")
	}
	if got := texts(all); got != "step.install.apps-web@npm: two words|web: one" {
		t.Errorf("the logs hold %s", got)
	}
	if got := texts(some); got != "web: one" || strings.Join(some.Sources(), " ") != "web" {
		t.Errorf("the log of web holds %s", got)
	}
	web.Line("")
	web.Line("  three  ")
	if got := texts(some); got != "web: |web:   three  " {
		t.Errorf("then came %q", got)
	}
	if got := texts(some); got != "" {
		t.Errorf("then came %q, although nothing did", got)
	}
	if got := web.Last(); got != "three" {
		t.Errorf("the last line is %q", got)
	}
	web.Line(strings.Repeat("ö", 300))
	if got := web.Last(); len([]rune(got)) != 201 {
		t.Errorf("the last line, shortened, has %d characters", len([]rune(got)))
	}
	web.Close()
	step.Close()
	// The next launch begins the logs anew and keeps the old ones beside.
	if _, err := Begin(root, nil); err != nil {
		t.Fatal(err)
	}
	if got := texts(Read(root, nil)); got != "" {
		t.Errorf("a new launch begins with %q", got)
	}
	if _, err := os.Stat(filepath.Join(root, ".nharbor", "logs", "web.log.1")); err != nil {
		t.Errorf("the old log is gone: %v", err)
	}
}
