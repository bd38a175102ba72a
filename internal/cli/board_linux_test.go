package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"nimbleharbor/internal/testport"
)

// resize gives the terminal another size, and tells a program that sits at it.
func (term *terminal) resize(columns, rows uint16, program *os.Process) {
	term.t.Helper()
	if err := unix.IoctlSetWinsize(int(term.its.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: rows,
		Col: columns}); err != nil {
		term.t.Fatal(err)
	}
	if program != nil {
		program.Signal(syscall.SIGWINCH)
	}
}

// sees waits until a word stands on the board at the terminal. A board draws only what differs, in
// which a word may be torn; for each piece of it that comes all of it is asked for anew.
func (term *terminal) sees(word string) {
	term.t.Helper()
	term.until(word, func() { term.mine.WriteString("\x0c") })
}

// types presses keys.
func (term *terminal) types(keys string) {
	term.t.Helper()
	if _, err := term.mine.WriteString(keys); err != nil {
		term.t.Fatal(err)
	}
}

// sits starts the program at a terminal.
func (b *bench) sits(term *terminal, args ...string) *exec.Cmd {
	b.t.Helper()
	cmd := b.command(args...)
	cmd.Env = append(cmd.Env, "TERM=xterm", "LC_ALL=C.UTF-8")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, term.its, term.its
	if err := cmd.Start(); err != nil {
		b.t.Fatal(err)
	}
	return cmd
}

// TestBoard sits at a board: it shows what runs, stops and starts a service, grows and shrinks, and
// leaves everything running; a stack that ends while it is looked at is told; and a terminal that
// goes away ends the board alone.
func TestBoard(t *testing.T) {
	t.Parallel()
	b, _, ports := mixed(t)
	b.must(1, "board")
	b.must(0, "launch", "--background", "--vouch")
	term := newTerminal(t)
	term.resize(120, 30, nil)
	cmd := b.sits(term, "board")
	term.sees("answers")
	term.types("/web\rx")
	term.sees("Stopped")
	if answers(ports[2]) {
		t.Error("it says that it has stopped what answers")
	}
	term.types("s")
	waitFor(t, "the service to be started again", func() bool { return answers(ports[2]) })
	term.resize(20, 8, cmd.Process)
	term.sees("leave")
	term.resize(60, 24, cmd.Process)
	term.sees("start")
	term.types("?")
	term.sees("copy")
	term.types("q")
	if err := cmd.Wait(); err != nil {
		t.Errorf("left, the board ended with %v", err)
	}
	if !answers(ports[1]) {
		t.Error("left, the board has stopped something")
	}
	said := b.must(0, "check")
	if !strings.Contains(said, "3 services run") {
		t.Errorf("after the board check says %s", said)
	}

	gone := newTerminal(t)
	cmd = b.sits(gone, "board")
	gone.sees("answers")
	gone.its.Close()
	gone.mine.Close()
	cmd.Process.Signal(syscall.SIGHUP) // as the system tells it whose terminal it was
	cmd.Wait()
	if !answers(ports[1]) {
		t.Error("with its terminal the board has taken something away")
	}

	term = newTerminal(t)
	cmd = b.sits(term, "board")
	term.sees("answers")
	b.must(0, "stop")
	term.sees("stopped")
	term.types("q")
	if err := cmd.Wait(); err != nil {
		t.Errorf("with the stack ended, the board ended with %v", err)
	}
	b.leavesNothing()
}

// TestBoardInLines tells the same without moving a cursor.
func TestBoardInLines(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	b.must(0, "launch", "--background", "--vouch")
	term := newTerminal(t)
	cmd := b.sits(term, "board", "--plain")
	term.press("Every port answers", "")
	b.must(0, "restart", "--vouch")
	term.press("answering", "")
	b.must(0, "stop")
	if err := cmd.Wait(); err != nil {
		t.Error(err)
	}
	term.press("Everything has been stopped.", "")
	b.leavesNothing()
}

// TestLaunchLives sits at a terminal while something is launched: the picture lives, survives any
// size, and stays as text with the addresses; Ctrl-C ends everything.
func TestLaunchLives(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	b.write(map[string]string{"nharbor.toml": fmt.Sprintf("[service.quay]\ncommand = [%q, "+
		"\"stand\", \"here\", \"%d\"]\n"+
		"port = %d\n[service.watch]\ncommand = [\"sh\", \"-c\", \"while :; do echo step 3 of 9; "+
		"read x < gate; done\"]\n", self, port, port)})
	if err := syscall.Mkfifo(filepath.Join(b.dir, "gate"), 0o600); err != nil {
		t.Fatal(err)
	}
	term := newTerminal(t)
	cmd := b.sits(term, "launch", "--vouch")
	term.press("quay", "")
	for _, size := range [][2]uint16{{20, 5}, {1, 1}, {200, 60}, {60, 30}} {
		term.resize(size[0], size[1], cmd.Process)
	}
	term.press("● there", "")
	term.press("Ctrl-C stops everything.", "")
	if !answers(port) {
		t.Error("it says that it is up, and nothing answers")
	}
	cmd.Process.Signal(syscall.SIGINT)
	term.press("Everything has been stopped.", "")
	if err := cmd.Wait(); err != nil {
		t.Errorf("it ended with %v", err)
	}
	b.leavesNothing()
}

// BenchmarkBoard sits at the board of 100 services and presses a key 20 times a second, each of
// which draws it anew: the metrics are what the whole program takes of a core, asking ports and
// looking at processes included, and its memory.
func BenchmarkBoard(b *testing.B) {
	bench := newBench(b)
	var services strings.Builder
	for i := range 100 {
		fmt.Fprintf(&services, "[service.boat-%d]\ncommand = [\"sh\", \"-c\", \"while :; do "+
			"echo %d; sleep 1; done\"]\n", i, i)
	}
	bench.write(map[string]string{"nharbor.toml": services.String()})
	bench.must(0, "launch", "--background", "--vouch")
	defer bench.must(0, "stop")
	taken := func(pid int) (cpu float64, megabytes float64) {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if err != nil {
			b.Fatal(err)
		}
		_, rest, _ := strings.Cut(string(data), ") ")
		var user, system, pages float64
		f := strings.Fields(rest)
		fmt.Sscan(f[11]+" "+f[12]+" "+f[21], &user, &system, &pages)
		return (user + system) / 100, pages * float64(os.Getpagesize()) / (1 << 20)
	}
	for b.Loop() {
		term := newTerminal(b)
		term.resize(140, 50, nil)
		cmd := bench.sits(term, "board")
		term.sees("services")
		begun := time.Now()
		before, memory := taken(cmd.Process.Pid)
		tick := time.NewTicker(50 * time.Millisecond)
		for i := range 200 {
			<-tick.C
			term.mine.WriteString([]string{"j", "k"}[i/40%2])
		}
		after, now := taken(cmd.Process.Pid)
		b.ReportMetric((after-before)/time.Since(begun).Seconds()*100, "%-of-a-core")
		b.ReportMetric(max(memory, now), "MB")
		term.mine.WriteString("q")
		cmd.Wait()
	}
}
