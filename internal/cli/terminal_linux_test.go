package cli_test

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// terminal is a pseudo-terminal at which a person sits: what the program writes to it can be waited
// for.
type terminal struct {
	t         testing.TB
	mine, its *os.File

	mu   sync.Mutex
	more *sync.Cond
	text bytes.Buffer
	over bool
}

func newTerminal(t testing.TB) *terminal {
	t.Helper()
	mine, err := os.OpenFile("/dev/ptmx", os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Skipf("this machine gives no pseudo-terminal: %v", err)
	}
	if err := unix.IoctlSetPointerInt(int(mine.Fd()), unix.TIOCSPTLCK, 0); err != nil {
		t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(int(mine.Fd()), unix.TIOCGPTN)
	if err != nil {
		t.Fatal(err)
	}
	its, err := os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if err := unix.IoctlSetWinsize(int(its.Fd()), unix.TIOCSWINSZ,
		&unix.Winsize{Row: 40, Col: 60}); err != nil {
		t.Fatal(err)
	}
	term := &terminal{t: t, mine: mine, its: its}
	term.more = sync.NewCond(&term.mu)
	t.Cleanup(func() { mine.Close(); its.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := mine.Read(buf)
			term.mu.Lock()
			term.text.Write(buf[:n])
			term.over = err != nil
			term.more.Broadcast()
			term.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return term
}

// until waits until the program has written the word, and lets go of all it has written so far.
// After each piece that is not enough, again is called, with the lock held.
func (term *terminal) until(word string, again func()) {
	term.t.Helper()
	late := time.Now().Add(testbound.Long)
	defer time.AfterFunc(testbound.Long, term.more.Broadcast).Stop()
	term.mu.Lock()
	defer term.mu.Unlock()
	begun := time.Now()
	for !strings.Contains(term.text.String(), word) {
		if term.over || !time.Now().Before(late) {
			said := term.text.String()
			term.t.Fatalf("waited %v for %q at the terminal, where there was at last\n%q",
				time.Since(begun), word, said[max(0, len(said)-3000):])
		}
		again()
		term.more.Wait()
	}
	term.text.Reset()
}

// answer waits until the program has written the text, and types a line.
func (term *terminal) answer(after, line string) {
	term.t.Helper()
	term.press(after, line+"\n")
}

// press waits until the program has written the text, and presses keys.
func (term *terminal) press(after, keys string) {
	term.t.Helper()
	term.until(after, func() {})
	if _, err := term.mine.WriteString(keys); err != nil {
		term.t.Fatal(err)
	}
}

// TestAsking sits at a terminal: fill asks for what is missing in a form, and vouch for consent.
func TestAsking(t *testing.T) {
	t.Parallel()
	b, term := newBench(t), newTerminal(t)
	b.write(map[string]string{"compose.yaml": "services: {web: {image: saltmarsh/web:1, " +
		"env_file: .env}}\n",
		".env.example": "# Get it at https://tides.example/tokens; it begins with " +
			"canary-\nTIDE_TOKEN=\n# Required\nREGION=\nSKIPPED_API_KEY=\n"})
	var out bytes.Buffer
	fill := func(term *terminal, env ...string) *exec.Cmd {
		cmd := b.command("fill")
		cmd.Env = append(cmd.Env, env...)
		cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, &out, term.its
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		return cmd
	}
	cmd := fill(term, "TERM=xterm")
	term.press("TIDE_TOKEN", "\x03")
	if cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("left, fill ended with %d", cmd.ProcessState.ExitCode())
	}
	if _, err := os.Stat(filepath.Join(b.dir, ".env")); err == nil {
		t.Error("left, it wrote the file")
	}
	term = newTerminal(t) // what the form before leaves behind on its own doesn't count
	cmd = fill(term, "TERM=xterm")
	term.press("TIDE_TOKEN", "half")
	cmd.Process.Signal(syscall.SIGTERM)
	if cmd.Wait(); cmd.ProcessState.ExitCode() != 130 {
		t.Errorf("asked to end, fill ended with %d", cmd.ProcessState.ExitCode())
	}
	if _, err := os.Stat(filepath.Join(b.dir, ".env")); err == nil {
		t.Error("asked to end, it wrote the file")
	}
	term = newTerminal(t)
	cmd = fill(term, "TERM=xterm")
	term.press("TIDE_TOKEN", "wrong\r")
	term.press("does not begin", "\x15canary-typed\r")
	term.press("Required", "harbour\x1b[Z") // back
	term.press("TIDE_TOKEN", "\r")
	term.press("Required", "\x15 north pier \r")
	term.press("SKIPPED", "\r")
	if err := cmd.Wait(); cmd.ProcessState.ExitCode() != 4 {
		t.Fatalf("fill ended with %v\n%s", err, out.String())
	}
	data, err := os.ReadFile(filepath.Join(b.dir, ".env"))
	if err != nil || !strings.Contains(string(data), "TIDE_TOKEN=canary-typed\n") ||
		!strings.Contains(string(data), "REGION=\"north pier\"\n") {
		t.Errorf("the file holds %q, %v", data, err)
	}
	term.mu.Lock()
	echoed := term.text.String()
	term.mu.Unlock()
	if strings.Contains(echoed+out.String(), "canary-typed") ||
		!strings.Contains(out.String(), "SKIPPED_API_KEY in .env") {
		t.Errorf("shown was %q and %q", echoed, out.String())
	}
	// On a terminal that can't move its cursor the questions come line by line, and what is kept is
	// not asked for.
	if err := os.Remove(filepath.Join(b.dir, ".env")); err != nil {
		t.Fatal(err)
	}
	cmd = fill(term, "TERM=dumb")
	term.answer("REGION", "south")
	term.answer("SKIPPED_API_KEY", "given-now")
	if err := cmd.Wait(); err != nil {
		t.Fatalf("fill ended with %v\n%s", err, out.String())
	}
	if data, err := os.ReadFile(filepath.Join(b.dir, ".env")); err != nil ||
		!strings.Contains(string(data),
			"canary-typed\n# Required\nREGION=south\nSKIPPED_API_KEY=given-now\n") {
		t.Errorf("the file holds %q, %v", data, err)
	}
	for _, c := range []struct {
		answer string
		code   int
	}{{"no", 1}, {"yes", 0}} {
		cmd := b.command("vouch")
		cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, &out, term.its
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		term.answer("yes or no", c.answer)
		if cmd.Wait(); cmd.ProcessState.ExitCode() != c.code {
			t.Errorf("after %s vouch ended with %d", c.answer, cmd.ProcessState.ExitCode())
		}
	}
	b.must(0, "vouch")
}

// TestSkippedAtLaunch leaves a question open at a launch, which goes on without, and says so.
func TestSkippedAtLaunch(t *testing.T) {
	t.Parallel()
	b, _, _ := mixed(t)
	term := newTerminal(t)
	b.write(map[string]string{".env.example": "LEVEL=low\nTIDE_TOKEN=\n"})
	var out bytes.Buffer
	cmd := b.command("launch", "--background", "--vouch")
	cmd.Env = append(cmd.Env, "TERM=dumb")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, &out, term.its
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	term.answer("TIDE_TOKEN", "")
	if err := cmd.Wait(); err != nil ||
		!strings.Contains(out.String(), "Left open: TIDE_TOKEN in .env") ||
		!strings.Contains(out.String(), "Everything is up") {
		t.Errorf("it ended with %v:\n%s", err, out.String())
	}
	b.must(0, "stop")
	if code, _, errOut := b.run("launch", "--background"); code != 4 ||
		!strings.Contains(errOut, "--set TIDE_TOKEN=") {
		t.Errorf("without a terminal it ended with %d: %s", code, errOut)
	}
	b.must(0, "launch", "--background", "--set", "TIDE_TOKEN=")
	b.must(0, "stop")
}

// TestOffered offers what asks a person something when everything is up, once, and shows what a
// service has printed to sign in with; answers for programs leave the password out.
func TestOffered(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(map[string]string{
		"go.mod": "module quay.example/gate\n\ngo 1.25\n",
		"main.go": fmt.Sprintf(
			"package main\n\nimport (\n\t\"fmt\"\n\t\"net/http\"\n)\n\nfunc main() "+
				"{\n\tfmt.Println(\"Generated password for user harbour: "+
				"Tern4482kelp\")\n\thttp.ListenAndServe(\":%d\", nil)\n}\n", port),
		"add-admin.sh": "#!/bin/sh\nprintf 'Who? '\nread name\necho \"$name\" >first\n",
		"README.md": fmt.Sprintf("```sh\ngo run .\n./add-admin.sh\n```\n\nSee "+
			"http://localhost:%d/docs.\n", port)})
	if err := os.Chmod(filepath.Join(b.dir, "add-admin.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	term := newTerminal(t)
	var out bytes.Buffer
	cmd := b.command("launch", "--background", "--vouch")
	cmd.Env = append(cmd.Env, "TERM=dumb")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, &out, term.its
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	term.answer("Run it now?", "yes")
	term.answer("Who?", "ida")
	err := cmd.Wait()
	made, _ := os.ReadFile(filepath.Join(b.dir, "first"))
	for _, want := range []string{"Sign in as harbour with the password Tern4482kelp, printed " +
		"by work", fmt.Sprintf("work has http://localhost:%d/docs (README.md:6)", port)} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is missing in\n%s", want, out.String())
		}
	}
	if err != nil || string(made) != "ida\n" {
		t.Errorf("it ended with %v, and made %q:\n%s", err, made, out.String())
	}
	if answer := b.must(0, "check", "--json"); strings.Contains(answer, "Tern") ||
		!strings.Contains(answer, "harbour") {
		t.Errorf("check says %s", answer)
	}
	b.must(0, "stop")
	if again := b.must(0, "launch", "--background"); strings.Contains(again, "add-admin") {
		t.Errorf("it is offered again:\n%s", again)
	}
	b.must(0, "stop")
}
