package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// restless serves a page, and behaves as PIER_MODE says: deaf to being asked to end, with its
// output closed, writing without end or one line without end.
const restless = `package main

import (
	"bytes"
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"syscall"
)

func main() {
	mode := os.Getenv("PIER_MODE")
	if mode == "deaf" {
		signal.Ignore(syscall.SIGTERM, syscall.SIGINT)
	}
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Pier</title>") })
	fmt.Println("listening")
	switch mode {
	case "closed":
		os.Stdout.Close()
		os.Stderr.Close()
	case "flood":
		go func() {
			lines := bytes.Repeat([]byte("tide after tide after tide\n"), 40000)
			for {
				os.Stdout.Write(lines)
			}
		}()
	case "line":
		go func() {
			part := bytes.Repeat([]byte("tide"), 1<<18)
			for range 1024 { // of 1 MB
				os.Stdout.Write(part)
			}
			os.Stdout.Write([]byte("\nafter the line\n"))
		}()
	}
	if err := http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
`

// TestBadLuck does to a launched stack, or to the launch itself, what happens on real machines.
// Whatever it is, what is said is true, stop ends what runs, and nothing is left.
func TestBadLuck(t *testing.T) {
	t.Parallel()
	logsAreBounded := func(t *testing.T, b *bench) {
		t.Helper()
		var size int64
		files, _ := filepath.Glob(filepath.Join(b.dir, ".nharbor/logs/*"))
		for _, file := range files {
			if info, err := os.Stat(file); err == nil {
				size += info.Size()
			}
		}
		if len(files) == 0 || size > 64<<20 {
			t.Errorf("%d files of logs are %d MB large", len(files), size>>20)
		}
	}
	withoutHome := func(t *testing.T, b *bench, home string) {
		b.env = append(b.env, "HOME="+home, "GOMODCACHE="+filepath.Join(b.home, "mod"))
		b.must(0, "launch", "--background", "--vouch")
		b.must(0, "check")
		b.must(0, "restart") // which nobody has to vouch for again
		b.must(0, "stop")
		os.RemoveAll(filepath.Join(b.tmp,
			fmt.Sprintf("nharbor-%d", os.Getuid()))) // what takes its place
	}
	mode := func(mode string, then func(*testing.T, *bench)) func(*testing.T, *bench, int) {
		return func(t *testing.T, b *bench, port int) {
			b.env = append(b.env, "PIER_MODE="+mode)
			b.must(0, "launch", "--background", "--vouch")
			b.must(0, "check")
			if then != nil {
				then(t, b)
			}
		}
	}
	damaged := func(data []byte) func(*testing.T, *bench, int) {
		return func(t *testing.T, b *bench, port int) {
			put := func() {
				for _, name := range []string{"stack.json", "memory.json"} {
					os.WriteFile(filepath.Join(b.dir, ".nharbor", name), data, 0o600)
				}
			}
			b.must(0, "launch", "--background", "--vouch")
			put()
			b.must(0, "check") // the steward knows
			b.must(0, "stop")
			put()
			if said := b.must(3, "check"); !strings.Contains(said, "nharbor stop") {
				t.Errorf("check says of a damaged record\n%s", said)
			}
			b.must(0, "launch", "--background", "--vouch")
		}
	}
	for name, happens := range map[string]func(*testing.T, *bench, int){
		"two launches at once": func(t *testing.T, b *bench, _ int) {
			codes, said := [2]int{}, [2]string{}
			done := make(chan int)
			for i := range codes {
				go func() {
					codes[i], _, said[i] = b.run("launch", "--background", "--vouch")
					done <- i
				}()
			}
			testbound.Got(t, "the first of two launches", done)
			testbound.Got(t, "the second of two launches", done)
			first := 0
			if codes[0] != 0 {
				first = 1
			}
			if codes[first] != 0 || codes[1-first] != 1 ||
				!strings.Contains(said[1-first], "launched already") {
				t.Errorf("they end with %v: %q", codes, said)
			}
			b.must(0, "check")
		},
		"the folder is moved": func(t *testing.T, b *bench, port int) {
			b.must(0, "launch", "--background", "--vouch")
			old := b.dir
			b.dir += "-moved"
			if err := os.Rename(old, b.dir); err != nil {
				t.Fatal(err)
			}
			if said := b.must(0, "check"); !strings.Contains(said, "work") ||
				!strings.Contains(said, "answers") {
				t.Errorf("check says\n%s", said)
			}
			b.must(0, "stop")
			if _, err := os.Stat(old); err == nil {
				t.Error("the old folder has been made again")
			}
		},
		"the folder is removed": func(t *testing.T, b *bench, port int) {
			b.must(0, "launch", "--background", "--vouch")
			os.RemoveAll(b.dir)
			if !answers(port) {
				t.Error("the service has gone with it")
			}
			if err := os.Mkdir(b.dir, 0o755); err != nil {
				t.Fatal(err)
			}
		},
		"the state is of another version": damaged([]byte(`{"schema": "nharbor.stack/99", "services": 7}` + "\nx\n")),
		"the state is torn":               damaged([]byte(`{"schema": "nharb`)),
		"the state is huge":               damaged(bytes.Repeat([]byte("[{\"a\":"), 30<<20)),
		"a port is stolen": func(t *testing.T, b *bench, port int) {
			cmd := b.command("launch", "--background", "--vouch", "--json")
			out, err := cmd.StdoutPipe()
			if err != nil {
				t.Fatal(err)
			}
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			var thief net.Listener
			var last map[string]any
			for in := json.NewDecoder(out); in.More(); {
				last = nil
				if err := in.Decode(&last); err != nil {
					t.Fatal(err)
				}
				if thief == nil { // as soon as the needs were met
					if thief, err = net.Listen("tcp",
						fmt.Sprintf("127.0.0.1:%d", port)); err != nil {
						t.Fatal(err)
					}
				}
			}
			defer thief.Close()
			if err := cmd.Wait(); err == nil || last["outcome"] == "answering" {
				t.Errorf("it ends with %v, %v", err, last["outcome"])
			}
			said, _ := json.Marshal(last)
			if !strings.Contains(string(said), "in use") &&
				!strings.Contains(string(said), "taken") &&
				!strings.Contains(string(said), fmt.Sprint(os.Getpid())) {
				t.Errorf("nobody says who has the port: %s", said)
			}
		},
		"it is deaf":               mode("deaf", nil),
		"its output is closed":     mode("closed", nil),
		"it writes without end":    mode("flood", logsAreBounded),
		"it writes one line of GB": mode("line", logsAreBounded),
		"there is no home":         func(t *testing.T, b *bench, _ int) { withoutHome(t, b, "") },
		"the home can't be written to": func(t *testing.T, b *bench, _ int) {
			withoutHome(t, b, "/proc/nowhere")
		},
		"there is no path": func(t *testing.T, b *bench, _ int) {
			b.env = append(b.env, "PATH=")
			if said := b.must(1, "needs"); !strings.Contains(said, "missing: go: not installed") {
				t.Errorf("needs says\n%s", said)
			}
			b.must(1, "launch", "--background", "--vouch")
		},
		"nobody can be asked": func(t *testing.T, b *bench, _ int) {
			if said := b.must(1, "launch"); !strings.Contains(said, "nharbor launch --vouch") {
				t.Errorf("launch says\n%s", said)
			}
		},
		"nobody reads on": func(t *testing.T, b *bench, _ int) {
			for _, command := range []string{"survey", "survey --json", "order", "vouch"} {
				cmd := b.command(strings.Fields(command)...)
				r, w, err := os.Pipe()
				if err != nil {
					t.Fatal(err)
				}
				var said bytes.Buffer
				cmd.Stdout, cmd.Stderr = w, &said
				r.Close()
				cmd.Run()
				w.Close()
				status := cmd.ProcessState.Sys().(syscall.WaitStatus)
				if status.Signal() != syscall.SIGPIPE || said.Len() > 0 {
					t.Errorf("%s ends with %v: %s", command, cmd.ProcessState, &said)
				}
			}
		},
		"the terminal is poor": func(t *testing.T, b *bench, _ int) {
			b.env = append(b.env, "TERM=dumb", "LC_ALL=en_US.ISO-8859-1")
			for _, command := range []string{"survey", "needs", "order", "vouch", "fill --dry-run",
				"check"} {
				if _, out, errOut := b.run(strings.Fields(command)...); strings.Contains(out+errOut, "\x1b") {
					t.Errorf("%s writes escape sequences: %q", command, out+errOut)
				}
			}
		},
		"the workspace is another user's": func(t *testing.T, b *bench, _ int) {
			if os.Getuid() != 0 {
				return // then nobody else can be had
			}
			own := filepath.Join(filepath.Dir(b.dir), "nharbor") // where others can call it
			if data, err := os.ReadFile(program); err != nil ||
				os.WriteFile(own, data, 0o755) != nil {
				t.Fatal(err)
			}
			nobody := &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
			os.Chmod(filepath.Dir(b.dir), 0o755)
			for command, code := range map[string]int{"survey": 0, "order": 0, "check": 1,
				"launch --background --vouch": 3, "fill": 3} {
				cmd := exec.Command(own, strings.Fields(command)...)
				cmd.Dir, cmd.Env, cmd.SysProcAttr = b.dir, append(b.env,
					"HOME=/nonexistent"), nobody
				out, _ := cmd.CombinedOutput()
				if got := cmd.ProcessState.ExitCode(); got != code ||
					bytes.Contains(out, []byte("goroutine ")) {
					t.Errorf("nharbor %s as another user ends with %d, want %d:\n%s", command, got,
						code, out)
				}
			}
		},
		"the disk is full": func(t *testing.T, b *bench, port int) {
			if err := syscall.Mount("tmpfs", b.dir, "tmpfs", 0, "size=400k"); err != nil {
				t.Skip("only an administrator can make a small disk: " + err.Error())
			}
			t.Cleanup(func() { syscall.Unmount(b.dir, syscall.MNT_DETACH) })
			files := quay(port)
			files["main.go"] = restless
			b.write(files)
			b.must(0, "launch", "--background", "--vouch")
			rest := filepath.Join(b.dir, "rest")
			os.WriteFile(rest, make([]byte, 1<<20), 0o600) // as much as there is room for
			b.must(0, "check")
			b.must(0, "stop")
			if code, _, said := b.run("fill", "--set", "QUAY_SECRET=another-one"); code == 0 ||
				!strings.Contains(said, "no space left") {
				t.Errorf("fill ends with %d on a full disk: %s", code, said)
			}
			if data, _ := os.ReadFile(filepath.Join(b.dir, ".env")); !bytes.Contains(data,
				[]byte("QUAY_SECRET=")) {
				t.Errorf("what was in the settings is gone: %q", data)
			}
			os.Remove(rest)
			b.must(0, "launch", "--background", "--vouch")
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, port := newBench(t), testport.Take(t)
			files := quay(port)
			files["main.go"] = restless
			b.write(files)
			happens(t, b, port)
			begin := time.Now()
			b.run("stop")
			if took := time.Since(begin); took > time.Minute {
				t.Errorf("stop took %v", took)
			}
			if answers(port) {
				t.Error("it still answers")
			}
			b.leavesNothing()
		})
	}
}
