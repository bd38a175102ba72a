package execute

import (
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/process"
)

// TestMarkedProcessesAreFound ends the processes of one stack by their mark alone, and no others.
func TestMarkedProcessesAreFound(t *testing.T) {
	t.Parallel()
	start := func(id string) *exec.Cmd {
		cmd := exec.Command(os.Args[0], "play", "say=here", "stay")
		cmd.Env = append(os.Environ(), process.Marker+"="+id)
		keeper.Detach(cmd)
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if _, err := out.Read(make([]byte, 1)); err != nil { // it runs
			t.Fatal(err)
		}
		return cmd
	}
	mine, other := fmt.Sprintf("mine%d", os.Getpid()), fmt.Sprintf("mine%d0", os.Getpid())
	a, b, c := start(mine), start(mine), start(other)
	if n := keeper.EndMarked(mine); n != 2 {
		t.Errorf("%d processes were ended", n)
	}
	for _, cmd := range []*exec.Cmd{a, b} {
		if err := cmd.Wait(); err == nil {
			t.Error("one went on")
		}
	}
	if n := keeper.EndMarked(""); n != 0 || !slices.Contains(c.Env, process.Marker+"="+other) {
		t.Errorf("without a mark %d were ended", n)
	}
	c.Process.Kill()
	if err := c.Wait(); err == nil || !strings.Contains(err.Error(), "killed") {
		t.Errorf("the other stack's process had ended: %v", err)
	}
}
