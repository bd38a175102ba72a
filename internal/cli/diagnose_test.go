package cli_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"nimbleharbor/internal/testport"
)

// TestDiagnose reads logs from wherever they come.
func TestDiagnose(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	const refused = "starting\nError: connect ECONNREFUSED 127.0.0.1:5439\n    at a " +
		"(/app/node_modules/pg/a.js:1:1)\n    at /app/src/tides.js:7:3\n"
	b.write(map[string]string{
		"compose.yaml": "services: {pier: {image: x}}\n",
		"nharbor.toml": "[cause.upside-down]\nline = \"tide table (\\\\w+)\"\nsays = \"the " +
			"tides of {1} are upside down\"\ndo = \"Turn them.\"\n",
		"refused.log": refused, "well.log": "all well\nlistening on http://localhost:4999\n",
		"own.log":     "FATAL: tide table north is wrong\n",
		"unknown.log": "one\nERROR: the gulls are back\ntwo\n", "empty.log": "",
		"binary.log":  "\x7fELF\x00\x01\x02" + strings.Repeat("\x00", 5000),
		"hostile.log": "\x1b[31mError: connect ECONNREFUSED \x1b]0;title\x07127.0.0.1:5439\u202e\n",
		"crlf.log":    strings.ReplaceAll(refused, "\n", "\r\n"),
	})
	for file, c := range map[string]struct {
		code int
		says []string
	}{
		"refused.log": {0, []string{"Nothing listens where it connects to: 127.0.0.1:5439",
			"line 2: "}},
		"crlf.log": {0, []string{"Nothing listens where it connects to: 127.0.0.1:5439",
			"line 2: "}},
		"hostile.log": {0, []string{"Nothing listens where it connects to"}},
		"well.log":    {0, []string{"Nothing in its 2 lines names a cause of trouble."}},
		"own.log":     {0, []string{"he tides of north are upside down", "Turn them."}},
		"unknown.log": {1, []string{"Cause unknown.", "line 2: the gulls are back",
			"3  two"}},
		"empty.log":  {0, []string{"Nothing in"}},
		"binary.log": {0, nil},
		"absent.log": {3, []string{"the log can't be read: no such file or directory"}},
		".":          {3, []string{"the log can't be read: it is a folder"}},
	} {
		said := b.must(c.code, "diagnose", file)
		for _, want := range c.says {
			if !strings.Contains(said, want) {
				t.Errorf("of %s it says\n%s\nwant %q", file, said, want)
			}
		}
		if strings.ContainsAny(said, "\x1b\x07\u202e\x00") {
			t.Errorf("of %s it says %q", file, said)
		}
	}
	cmd := b.command("diagnose", "-", "--json")
	cmd.Stdin = strings.NewReader(refused)
	out, err := cmd.Output()
	var answer struct {
		Schema string
		Logs   []struct {
			Source string
			Causes []struct{ Code, Cause, Remedy string }
		}
	}
	if err != nil || json.Unmarshal(out, &answer) != nil || answer.Schema != "nharbor.diagnose/1" ||
		len(answer.Logs) != 1 || len(answer.Logs[0].Causes) == 0 ||
		answer.Logs[0].Causes[0].Remedy == "" {
		t.Errorf("what is piped in is answered by %s, %v", out, err)
	}
	if said := b.must(1, "diagnose"); !strings.Contains(said,
		"nothing was launched in this workspace") {
		t.Errorf("without a launch it says\n%s", said)
	}
}

// TestCheckWatches tells what changes while somebody looks on, and ends with what it saw last.
func TestCheckWatches(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	b.must(0, "launch", "--background", "--vouch")
	for _, form := range []string{"", "--json"} {
		cmd := b.command(strings.Fields("check --watch " + form)...)
		var errors bytes.Buffer
		cmd.Stderr = &errors
		out, err := cmd.StdoutPipe()
		if err != nil {
			t.Fatal(err)
		}
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		in, said := bufio.NewScanner(out), ""
		in.Buffer(nil, 1<<20)
		until := func(what ...string) {
			t.Helper()
			for in.Scan() {
				said += in.Text() + "\n"
				all := true
				for _, w := range what {
					all = all && strings.Contains(in.Text(), w)
				}
				if all {
					return
				}
			}
			t.Fatalf("it ended before it said %q:\n%s%s", what, said, &errors)
		}
		if form == "" {
			until("Looking again every second")
			b.must(0, "stop")
			until("refuses")
		} else {
			until(`"answers":false`)
			b.must(0, "launch", "--background", "--vouch")
			until(`"answers":true`)
		}
		if err := cmd.Process.Signal(syscall.SIGINT); err != nil {
			t.Fatal(err)
		}
		for in.Scan() {
			said += in.Text() + "\n"
		}
		cmd.Wait()
		if code := cmd.ProcessState.ExitCode(); code != 130 &&
			code != map[string]int{"": 1, "--json": 0}[form] {
			t.Errorf("check --watch %s ends with %d:\n%s", form, code, said)
		}
	}
	b.must(0, "stop")
	if _, err := os.Stat(filepath.Join(b.dir, ".nharbor")); err != nil {
		t.Error(err)
	}
	b.leavesNothing()
}
