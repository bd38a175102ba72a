package process

import (
	"io"
	"os"
	"os/exec"
	"slices"
	"syscall"
	"testing"
)

// TestOfAChild tells of a child its marks, its group, whom it descends from, and that it is
// stopped.
func TestOfAChild(t *testing.T) {
	t.Parallel()
	cmd := exec.Command("cat")
	cmd.Env = []string{Marker + "=quay", ServiceMarker + "=tides"}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe() // which it reads until the test closes it
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	pid := cmd.Process.Pid
	t.Cleanup(func() { in.Close(); cmd.Wait() })
	// Its environment can be read once it runs: a moment after it has been started.
	if _, err := io.WriteString(in, "x"); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 1)); err != nil {
		t.Fatal(err)
	}
	if stack, service := MarksOf(pid); stack != "quay" || service != "tides" ||
		MarkOf(pid) != "quay" {
		t.Errorf("its marks are %q and %q", stack, service)
	}
	if MarkOf(os.Getpid()) != "" {
		t.Error("the test itself carries a mark")
	}
	if g := GroupOf(pid); g != pid {
		t.Errorf("its group is %d, and it is %d", g, pid)
	}
	if !IsBelow(pid, os.Getpid()) || IsBelow(os.Getpid(), pid) {
		t.Error("it doesn't descend from the test, or the test from it")
	}
	if !slices.Contains(Descendants(os.Getpid()), pid) ||
		slices.Contains(Descendants(os.Getpid(), pid), pid) {
		t.Error("it is none of the test's, or is though it was left out")
	}
	if IsThisProgram(pid) || !IsThisProgram(os.Getpid()) || IsStopped(pid) {
		t.Error("it is taken for another, or for stopped")
	}
	if GroupOf(1<<30) != 0 || len(StatOf(1<<30)) != 0 {
		t.Error("one that isn't there has a group")
	}
}
