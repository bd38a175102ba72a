package steward

import (
	"bufio"
	"os/exec"
	"syscall"
	"testing"

	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// TestLoads sums up a service with what it has started, in another group too, and leaves out
// everybody else.
func TestLoads(t *testing.T) {
	t.Parallel()
	// A shell that is at work for a while, with a child in a group of its own that holds memory,
	// and then waits.
	cmd := exec.Command("sh", "-c", `exec 3<&0; i=0; while [ $i -lt 200000 ]; do i=$((i+1)); done
		setsid sh -c 'x=$(head -c 3000000 /dev/zero | tr "\0" x); echo held; read y <&3' &
		wait`)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	in, err := cmd.StdinPipe()
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
	defer func() {
		in.Close()
		cmd.Wait()
	}()
	if said, err := bufio.NewReader(out).ReadString('\n'); err != nil || said != "held\n" {
		t.Fatalf("it says %q, %v", said, err)
	}
	r := &record.Record{ID: "x", Services: []record.Service{
		{Name: "tides", Runs: stack.Native, State: stack.IsUp, PID: cmd.Process.Pid},
		{Name: "gone", Runs: stack.Native, State: stack.Failed, PID: 1},
		{Name: "absent", Runs: stack.Native, State: stack.IsUp, PID: 1 << 30}}}
	loads := NewLoads(t.Context(), r)
	defer loads.Close()
	first := loads.Look(t.Context(), r)
	tides := first["tides"]
	if len(first) != 1 || tides.Processes != 2 || tides.Memory < 3<<20 || tides.Memory > 1<<30 ||
		tides.Cores >= 0 {
		t.Errorf("at first it takes %+v", first)
	}
	if taken := takenBy(map[int]string{cmd.Process.Pid: "tides"})["tides"]; taken.cpu <= 0 {
		t.Errorf("for its work it has used %v", taken.cpu)
	}
	if again := loads.Look(t.Context(), r)["tides"]; again.Cores < 0 || again.Cores > 4 {
		t.Errorf("then it takes %+v", again)
	}
}
