package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// TestTwoStacks launches a copy beside the first one, whose ports move by themselves, sees both,
// and goes inside one.
func TestTwoStacks(t *testing.T) {
	t.Parallel()
	a, port := newBench(t), testport.Take(t)
	copied := *a
	b := &copied
	if b.dir += "-copy"; os.Mkdir(b.dir, 0o755) != nil {
		t.Fatal("the copy has no folder")
	}
	a.write(quay(port))
	b.write(quay(port))
	a.must(0, "launch", "--background", "--vouch")
	defer a.run("stop")
	if said := oneLine(b.must(1, "launch", "--background", "--vouch", "--shift",
		"0")); !strings.Contains(said,
		"of the stack in "+a.dir) || !strings.Contains(said, "nharbor -C "+a.dir+" stop") {
		t.Errorf("without moving: %s", said)
	}
	said := oneLine(b.must(0, "launch", "--background", "--vouch"))
	defer b.run("stop")
	if !strings.Contains(said, "Ports are moved by ") ||
		!strings.Contains(said, fmt.Sprintf("%d (work of the stack in %s)", port, a.dir)) {
		t.Errorf("beside the first: %s", said)
	}
	var list struct {
		Stacks []struct {
			Root     string
			Shift    int
			Services []struct {
				Name  string
				State string
				Ports []struct{ Host int }
			}
		}
	}
	_, out, _ := a.run("stacks", "--json")
	if err := json.Unmarshal([]byte(out), &list); err != nil {
		t.Fatal(err)
	}
	moved := map[string]int{}
	for _, s := range list.Stacks {
		if len(s.Services) == 1 && len(s.Services[0].Ports) == 1 {
			moved[s.Root] = s.Services[0].Ports[0].Host - port
		}
	}
	if by := moved[b.dir]; by <= 0 || by%100 != 0 || moved[a.dir] != 0 || len(moved) < 2 {
		t.Errorf("the stacks are %s", out)
	}
	if said := oneLine(b.must(0, "stacks")); !strings.Contains(said, b.dir+" (this workspace)") ||
		!strings.Contains(said, "its ports are moved by") {
		t.Errorf("they are shown as %s", said)
	}
	cmd := b.command("inside", "work-copy", "sh", "-c",
		"cat; echo in $PORT of $(basename $PWD); exit 4")
	cmd.Stdin = strings.NewReader("read, ")
	inside, err := cmd.Output()
	want := fmt.Sprintf("read, in %d of work-copy\n", port+moved[b.dir])
	if err == nil || cmd.ProcessState.ExitCode() != 4 || string(inside) != want {
		t.Errorf("inside: %q, %v, want %q", inside, err, want)
	}
	b.must(2, "inside", "nobody")
	b.must(2, "inside")
	b.must(0, "stop")
	if said := a.must(0, "stacks"); strings.Contains(said, b.dir) {
		t.Errorf("after its end: %s", said)
	}
}
