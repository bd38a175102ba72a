package run

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/testbound"
)

// The test's own program plays the commands that are run: RUN_TEST_PART says which.
func TestMain(m *testing.M) {
	switch part := os.Getenv("RUN_TEST_PART"); part {
	case "":
		os.Exit(m.Run())
	case "say":
		fmt.Println("to the one", os.Args[1])
		fmt.Fprintln(os.Stderr, "and the other")
		fmt.Print("without an end")
		os.Exit(3)
	case "polite", "deaf", "parent":
		asked := make(chan os.Signal, 1)
		signal.Notify(asked, syscall.SIGTERM)
		if part == "parent" {
			// A child that is deaf and holds a port, as a server below npm does.
			child := exec.Command(os.Args[0], "x")
			child.Env = append(os.Environ(), "RUN_TEST_PART=deaf")
			child.Stdout = os.Stdout
			if err := child.Start(); err != nil {
				os.Exit(9)
			}
			fmt.Println("child", child.Process.Pid)
		}
		fmt.Println("ready")
		<-asked
		if part == "deaf" {
			select {}
		}
		fmt.Println("bye")
	case "leave-child":
		child := exec.Command(os.Args[0], "x")
		child.Env = append(os.Environ(), "RUN_TEST_PART=deaf")
		if err := child.Start(); err != nil {
			os.Exit(9)
		}
		fmt.Println("child", child.Process.Pid)
	case "input":
		n, err := os.Stdin.Read(make([]byte, 1))
		fmt.Println("input ended:", n, err)
	case "env":
		fmt.Println(os.Getenv("GIVEN"))
		dir, _ := os.Getwd()
		fmt.Println(dir)
	case "long":
		fmt.Println(strings.Repeat("x", 200_000))
	}
}

// lines collects what a process says and lets a test wait for a line.
type lines struct {
	mu   sync.Mutex
	more *sync.Cond
	all  []string
}

func newLines() *lines {
	l := &lines{}
	l.more = sync.NewCond(&l.mu)
	return l
}

func (l *lines) add(s string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.all = append(l.all, s)
	l.more.Broadcast()
}

// stream is a writer that adds what is written to it, line by line.
func (l *lines) stream() io.WriteCloser { return flushing{&engine.Lines{Line: l.add}} }

type flushing struct{ *engine.Lines }

func (f flushing) Close() error {
	f.Flush()
	return nil
}

func discard() io.WriteCloser { return newLines().stream() }

func (l *lines) wait(prefix string) string {
	late := time.Now().Add(testbound.Long)
	defer time.AfterFunc(testbound.Long, l.more.Broadcast).Stop()
	l.mu.Lock()
	defer l.mu.Unlock()
	for seen := 0; ; l.more.Wait() {
		for ; seen < len(l.all); seen++ {
			if strings.HasPrefix(l.all[seen], prefix) {
				return l.all[seen]
			}
		}
		if !time.Now().Before(late) {
			panic(fmt.Sprintf("waited in vain for a line that begins with %q; it has said %q",
				prefix, l.all))
		}
	}
}

func start(t *testing.T, part string, l *lines, more ...string) *Native {
	t.Helper()
	n, err := StartNative(NativeSpec{Dir: t.TempDir(), Command: []string{os.Args[0], "x"},
		Env: append(append(os.Environ(), "RUN_TEST_PART="+part), more...)}, l.stream)
	if err != nil {
		t.Fatal(err)
	}
	return n
}

func TestOutputAndExit(t *testing.T) {
	t.Parallel()
	l := newLines()
	n := start(t, "say", l)
	testbound.Got(t, "its end", n.Done())
	if e := n.Exit(); e.Code != 3 || e.OK() || e.String() != "ended with code 3" {
		t.Errorf("the exit is %+v", e)
	}
	if got := strings.Join(l.all, "|"); got != "to the one x|and the other|without an end" {
		t.Errorf("it said %q", got)
	}
}

func TestEnvironmentAndFolder(t *testing.T) {
	t.Parallel()
	l := newLines()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	n, err := StartNative(NativeSpec{Dir: dir, Command: []string{os.Args[0]},
		Env: []string{"RUN_TEST_PART=env", "GIVEN=a b"}}, l.stream)
	if err != nil {
		t.Fatal(err)
	}
	testbound.Got(t, "its end", n.Done())
	if got := strings.Join(l.all, "|"); got != "a b|"+dir {
		t.Errorf("it said %q", got)
	}
}

func TestStop(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		part  string
		grace time.Duration
		ok    bool
		bye   bool
	}{{"polite", time.Minute, true, true}, {"deaf", 50 * time.Millisecond, false, false}} {
		t.Run(c.part, func(t *testing.T) {
			t.Parallel()
			l := newLines()
			n := start(t, c.part, l)
			l.wait("ready")
			n.Stop(c.grace)
			if e := n.Exit(); e.OK() != c.ok || !c.ok && e.Signal == "" {
				t.Errorf("the exit is %+v", e)
			}
			if bye := strings.Contains(strings.Join(l.all, "|"), "bye"); bye != c.bye {
				t.Errorf("it said %q", l.all)
			}
		})
	}
}

// gone waits until a process does not exist any more, or is a zombie that nobody has collected yet.
func gone(t *testing.T, line string) {
	t.Helper()
	var pid int
	if _, err := fmt.Sscanf(line, "child %d", &pid); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil || strings.Contains(string(data), ") Z ") {
			return
		}
	}
	t.Errorf("the %s is still there", line)
}

func TestNoOrphans(t *testing.T) {
	t.Parallel()
	t.Run("when it is stopped", func(t *testing.T) {
		t.Parallel()
		l := newLines()
		n := start(t, "parent", l)
		child := l.wait("child")
		l.wait("ready")
		n.Stop(200 * time.Millisecond)
		gone(t, child)
	})
	t.Run("when it ends by itself", func(t *testing.T) {
		t.Parallel()
		l := newLines()
		n := start(t, "leave-child", l)
		testbound.Got(t, "its end", n.Done())
		gone(t, l.wait("child"))
	})
}

func TestLongLinesAreCut(t *testing.T) {
	t.Parallel()
	l := newLines()
	testbound.Got(t, "its end", start(t, "long", l).Done())
	total := 0
	for _, s := range l.all {
		total += len(s)
	}
	if total != 200_000 || len(l.all) < 2 {
		t.Errorf("%d bytes in %d lines", total, len(l.all))
	}
}

func TestCannotStart(t *testing.T) {
	t.Parallel()
	for name, spec := range map[string]NativeSpec{
		"no command":            {},
		"an absent program":     {Command: []string{"no-such-program-anywhere"}, Env: os.Environ()},
		"an absent folder":      {Command: []string{os.Args[0]}, Dir: "/no/such/folder"},
		"not in the given PATH": {Command: []string{"go"}, Env: []string{"PATH=/nowhere"}},
		"a relative PATH":       {Command: []string{"x"}, Env: []string{"PATH=."}, Dir: "."},
	} {
		if n, err := StartNative(spec, discard); err == nil {
			n.Stop(0)
			t.Errorf("%s: it was started", name)
		}
	}
}

func BenchmarkStartAndStop(b *testing.B) {
	for b.Loop() {
		n, err := StartNative(NativeSpec{Command: []string{"/bin/true"}}, discard)
		if err != nil {
			b.Fatal(err)
		}
		testbound.Got(b, "its end", n.Done())
	}
}

// TestInput tells programs that end when their input does from others: for the one it is held open.
func TestInput(t *testing.T) {
	t.Parallel()
	l := newLines()
	start := func(hold bool) *Native {
		n, err := StartNative(NativeSpec{Dir: t.TempDir(), Command: []string{os.Args[0]},
			Env: append(os.Environ(), "RUN_TEST_PART=input"), HoldInput: hold}, l.stream)
		if err != nil {
			t.Fatal(err)
		}
		return n
	}
	held := start(true)
	testbound.Got(t, "its end", start(false).Done())
	if got := l.wait("input ended:"); got != "input ended: 0 EOF" {
		t.Errorf("of an empty input it says %q", got)
	}
	select {
	case <-held.Done():
		t.Error("the held input has ended")
	default:
	}
	held.Stop(time.Second)
}
