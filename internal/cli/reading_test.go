package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// server is a Go program that listens on a port, and writes what one of its variables says.
func server(port int, variable string) string {
	return fmt.Sprintf(`package main

import (
	"fmt"
	"os"
)

func main() {
	fmt.Println("it says", os.Getenv(%q))
	serve(%d)
}
`, variable, port)
}

// serving is the part of a program that opens the port; in a file of its own, where nobody looks
// for a server.
const serving = `package main

import (
	"fmt"
	web "net/http"
	"os"
)

func serve(port int) {
	web.HandleFunc("/", func(w web.ResponseWriter, r *web.Request) { fmt.Fprint(w, "<title>Board</title>") })
	if err := web.ListenAndServe(fmt.Sprintf("127.0.0.1:%d", port), nil); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
`

// TestReadmeIsLaunched launches what only a README tells: a service by its task, a step before it,
// and a process of a second terminal. The page that the README names is the one that is asked.
func TestReadmeIsLaunched(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(map[string]string{
		"go.mod":               "module saltmarsh.example/board\n\ngo 1.24\n",
		"tools/board/main.go":  server(port, "TIDE"),
		"tools/board/serve.go": serving,
		"tools/lamp/main.go":   "package main\n\nfunc main() { println(\"lit\"); <-asked() }\n",
		"tools/lamp/asked.go": "package main\n\nimport " +
			"(\n\t\"os\"\n\t\"os/signal\"\n\t\"syscall\"\n)\n\n" +
			"func asked() chan os.Signal {\n\tc := make(chan os.Signal, 1)\n\tsignal.Notify(c, " +
			"syscall.SIGTERM)\n\treturn c\n}\n",
		"bin/load_charts.sh": "#!/bin/sh\necho \"$CHARTS\" > charts.txt\n",
		"Makefile":           "run:\n\tTIDE=high go run ./tools/board\n",
		"README.md": fmt.Sprintf("# Board\n\n## Start\n\n```sh\ncp .env.example .env\n"+
			"CHARTS=spring sh bin/load_charts.sh\nmake run\n```\n\nThen open http://localhost:%d.\n\n"+
			"In a second terminal:\n\n```sh\ngo run ./tools/lamp\n```\n", port),
		".env.example": "COLOUR=blue\n",
	})
	var s struct {
		Services []struct {
			Name, Source string
			Ports        []struct{ Host int }
		}
		Readme []struct {
			Command, By string
			Covered     bool
		}
	}
	if err := json.Unmarshal([]byte(b.must(0, "survey", "--json")), &s); err != nil {
		t.Fatal(err)
	}
	if len(s.Services) != 2 || s.Services[0].Source != "readme" ||
		s.Services[0].Ports[0].Host != port || len(s.Services[1].Ports) != 0 {
		t.Errorf("services: %+v", s.Services)
	}
	for _, r := range s.Readme {
		if !r.Covered {
			t.Errorf("%s is not done", r.Command)
		}
	}
	if said := b.must(1, "vouch"); !strings.Contains(said, "sh bin/load_charts.sh") ||
		!strings.Contains(said, "make run") ||
		!strings.Contains(said, "go run ./tools/lamp") || !strings.Contains(said, "README.md:") {
		t.Errorf("vouch shows\n%s", said)
	}
	if said := b.must(0, "launch", "--background", "--vouch"); !strings.Contains(said, "“Board”") {
		t.Errorf("launch says\n%s", said)
	}
	if text, err := os.ReadFile(filepath.Join(b.dir, "charts.txt")); err != nil ||
		string(text) != "spring\n" {
		t.Errorf("the step left %q, %v", text, err)
	}
	waitFor(t, "both to have said something", func() bool {
		said := b.must(0, "logs")
		return strings.Contains(said, "it says high") && strings.Contains(said, "lit")
	})
	b.must(0, "stop")
	b.leavesNothing()
}

// TestPortThatIsLearned launches a service that listens on another port than its settings say. The
// real one is asked, and the next survey knows it, until what is written changes.
func TestPortThatIsLearned(t *testing.T) {
	t.Parallel()
	b, said, real := newBench(t), testport.Take(t), testport.Take(t)
	b.write(map[string]string{
		"go.mod":       "module board\n\ngo 1.24\n",
		"main.go":      server(real, "X"),
		"serve.go":     serving,
		".env.example": fmt.Sprintf("PORT=%d\n", said),
	})
	where := func() (port, told int) {
		var s struct {
			Services []struct {
				Ports []struct{ Host, Said int }
			}
		}
		if err := json.Unmarshal([]byte(b.must(0, "survey", "--json")), &s); err != nil ||
			len(s.Services) != 1 || len(s.Services[0].Ports) != 1 {
			t.Fatalf("%+v, %v", s, err)
		}
		return s.Services[0].Ports[0].Host, s.Services[0].Ports[0].Said
	}
	if port, _ := where(); port != said {
		t.Fatalf("before a launch it is on %d, want %d", port, said)
	}
	out := b.must(0, "launch", "--background", "--vouch")
	if !strings.Contains(out, fmt.Sprintf("http on %d; it listens there, not on %d", real, said)) {
		t.Errorf("launch says\n%s", out)
	}
	if out := b.must(0, "check"); !strings.Contains(out,
		fmt.Sprintf("http://localhost:%d", real)) || strings.Contains(out, "Changed since") {
		t.Errorf("check says\n%s", out)
	}
	if port, told := where(); port != real || told != said {
		t.Errorf("after it survey says %d, told %d", port, told)
	}
	if out := b.must(0, "survey", "--why", fmt.Sprint(real)); !strings.Contains(out, "launch") ||
		!strings.Contains(out, fmt.Sprint(said)) {
		t.Errorf("why: %s", out)
	}
	b.must(0, "stop")
	b.write(map[string]string{".env": "PORT=4\n"})
	if port, _ := where(); port != 4 {
		t.Errorf("when what is written has changed, survey says %d", port)
	}
	b.leavesNothing()
}
