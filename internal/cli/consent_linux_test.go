package cli_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// everyCommand are all commands with words to call them by, and whether they start something of a
// checkout's. One that is added belongs here.
var everyCommand = map[string]struct {
	words  string
	starts bool
}{
	"clone": {"clone %REPO% --into copy", false}, "survey": {"survey --all",
		false}, "needs": {"needs", false},
	"fill": {"fill", false}, "order": {"order", false}, "vouch": {"vouch", false},
	"launch": {"launch --background", true}, "check": {"check", false}, "board": {"board --plain",
		false},
	"diagnose": {"diagnose", false}, "test": {"test", false}, "logs": {"logs",
		false}, "stop": {"stop", false},
	"restart": {"restart", false}, "catchup": {"catchup --agree", false}, "reset": {"reset", false},
	"inside": {"inside pier env", true}, "report": {"report r.html", false}, "stacks": {"stacks",
		false},
	"locker": {"locker list", false}, "demo": {"demo --help", false}, "help": {"help", false},
	"completion": {"completion bash", false},
}

// TestEveryCommandAsks calls each command there is in a checkout with a trap behind every door: no
// trap is sprung, and those that would start something say that nobody has vouched for it. Once
// somebody has, they start it.
func TestEveryCommandAsks(t *testing.T) {
	t.Parallel()
	port := testport.Take(t)
	lay := func(t *testing.T) (b *bench, trap string) {
		b = newBench(t)
		trap = filepath.Join(b.home, "sprung")
		b.write(map[string]string{
			"go.mod": "module pier\n\ngo 1.24\n",
			"main.go": fmt.Sprintf("package main\n\nimport \"net/http\"\n\nfunc main() { "+
				"http.ListenAndServe(\"127.0.0.1:%d\", nil) }\n", port),
			"main_test.go": "package main\n\nimport (\n\t\"os\"\n\t\"testing\"\n)\n\nfunc " +
				"TestX(t *testing.T) { os.WriteFile(\"" + trap + "\", nil, 0o600) }\n",
			"nharbor.toml": fmt.Sprintf("[service.pier]\ncommand = [\"sh\", \"-c\", \"touch %s; "+
				"exec go run .\"]\nport = %d\n", trap, port),
			".env": "BASH_ENV=./trap.sh\nENV=./trap.sh\nLD_PRELOAD=./trap.so\n" +
				"PATH=./bin:/usr/bin:/bin\n",
			"trap.sh":     "touch " + trap + "\n",
			"Makefile":    "X := $(shell touch " + trap + ")\nall:\n\ttouch " + trap + "\n",
			".npmrc":      "script-shell=./bin/sh\n",
			".yarnrc.yml": "yarnPath: ./bin/yarn.cjs\n", "mise.toml": "[env]\n_.source = " +
				"'./trap.sh'\n",
			".envrc": "touch " + trap + "\n", "README.md": "```sh\nmake all\ngo run .\n```\n",
		})
		for _, name := range []string{"go", "sh", "env", "git", "npm", "node", "yarn", "make",
			"docker"} {
			put(filepath.Join(b.dir, "bin"), name, "#!/bin/sh\ntouch "+trap+"\n", 0o755)
		}
		b.git(b.dir, "init", "-q")
		b.git(b.dir, "add", "-A", "-f")
		b.git(b.dir, "commit", "-qm", "begun")
		b.git(b.dir, "config", "core.fsmonitor", "touch "+trap)
		os.Remove(trap)
		return b, trap
	}
	list := exec.Command(program, "help")
	out, err := list.Output()
	if err != nil {
		t.Fatal(err)
	}
	_, commands, _ := strings.Cut(string(out), "Available Commands:")
	names := regexp.MustCompile(`(?m)^  ([a-z]+) {2,}`).FindAllStringSubmatch(commands, -1)
	if len(names) < 20 {
		t.Fatalf("only these commands are found: %v in %s", names, out)
	}
	for _, m := range names {
		name := m[1]
		c, known := everyCommand[name]
		if !known {
			t.Errorf("nothing is known of the command %s: whether it starts something of a "+
				"checkout's", name)
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, trap := lay(t)
			code, said, errOut := b.run(strings.Fields(strings.ReplaceAll(c.words, "%REPO%",
				b.dir))...)
			if _, err := os.Stat(trap); err == nil {
				t.Fatalf("a trap was sprung by nharbor %s", c.words)
			}
			if c.starts && (code != 1 || !strings.Contains(errOut, "nobody has vouched")) {
				t.Errorf("nharbor %s ends with %d and asks nobody:\n%s%s", c.words, code, said,
					errOut)
			}
		})
	}
}

// TestConsentIsOfTheFolder moves a folder that somebody has vouched for, and puts another one at
// its path.
func TestConsentIsOfTheFolder(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	named := map[string]string{"start.sh": "exec sleep 600\n",
		"nharbor.toml": fmt.Sprintf("[service.work]\ncommand = [\"sh\", \"start.sh\"]\nport = "+
			"%d\n", port)}
	b.write(named)
	b.must(0, "vouch", "--agree")
	moved := b.dir + "-moved"
	if err := os.Rename(b.dir, moved); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("cp", "-a", moved, b.dir).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	b.must(0, "-C", moved, "vouch")
	b.must(1, "vouch")
	os.RemoveAll(b.dir)
	// it may well get the number of the one that was removed
	if err := os.Mkdir(b.dir, 0o755); err != nil {
		t.Fatal(err)
	}
	b.write(named)
	b.must(1, "vouch")
}

// TestConsentIsOfWhatLiesThere pins consent to a sum, edits a file without committing it, and
// changes another one while somebody is being asked.
func TestConsentIsOfWhatLiesThere(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	port := testport.Take(t)
	b.write(quay(port))
	b.write(map[string]string{"start.sh": "exec go run .\n",
		"nharbor.toml": fmt.Sprintf("[service.work]\ncommand = [\"sh\", \"start.sh\"]\nport = "+
			"%d\n", port)})
	b.git(b.dir, "init", "-q")
	b.git(b.dir, "add", "-A")
	b.git(b.dir, "commit", "-qm", "begun")
	sum := strings.TrimSpace(b.must(0, "vouch", "--print"))
	if again := strings.TrimSpace(b.must(0, "vouch", "--print")); again != sum {
		t.Errorf("the sum of the same is %s and %s", sum, again)
	}
	b.write(map[string]string{"start.sh": "exec go run . # edited\n"})
	if said := b.must(1, "launch", "--background", "--vouch="+sum); !strings.Contains(said,
		"is not what --vouch names") {
		t.Errorf("what lies there is not what was read: %s", said)
	}
	term := newTerminal(t)
	cmd := b.command("vouch")
	var out bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = term.its, &out, term.its
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	term.press("yes or no", "")
	b.write(map[string]string{"start.sh": "touch evil; exec go run .\n"})
	term.types("yes\n")
	term.press("has changed while", "")
	if cmd.Wait(); cmd.ProcessState.ExitCode() != 1 {
		t.Errorf("vouch ended with %d: %s", cmd.ProcessState.ExitCode(), out.String())
	}
	b.must(1, "vouch")
	sum = strings.TrimSpace(b.must(0, "vouch", "--print"))
	b.must(0, "launch", "--background", "--vouch="+sum)
	// Beside what runs, the same consent is asked for.
	b.write(map[string]string{".env": fmt.Sprintf("PORT=%d\nQUAY_SECRET=x\n"+
		"LD_PRELOAD=./evil.so\nPATH=%s/bin:/usr/bin:/bin\n", port, b.dir)})
	put(filepath.Join(b.dir, "bin"), "printenv", "#!/bin/sh\necho planted\n", 0o755)
	for _, words := range []string{"inside work printenv PORT", "test", "restart"} {
		if said := b.must(1, strings.Fields(words)...); !strings.Contains(said,
			"nobody has vouched") {
			t.Errorf("nharbor %s asks nobody: %s", words, said)
		}
	}
	if said := b.must(0, "inside", "--vouch", "work", "printenv", "PORT"); !strings.Contains(said,
		fmt.Sprint(port)) || strings.Contains(said, "planted") {
		t.Errorf("inside, it says %s", said)
	}
	b.must(0, "stop")
	b.leavesNothing()
}

// TestConsentCovers holds that what a command comes to is shown, and that it is asked for again
// when that has changed.
func TestConsentCovers(t *testing.T) {
	t.Parallel()
	base := map[string]string{
		"package.json": `{"name": "pier", "scripts": {` +
			`"start": "npm run prepare-pier && node pier.js", ` +
			`"prepare-pier": "sh up.sh && make tides"}}`,
		"up.sh": "echo up\n", "pier.js": "serve()\n", ".npmrc": "fund=false\n",
		"Makefile": "include tides.mk\nBY = echo\ntides: charts\n\t@$(BY) " +
			"tides\ncharts:\n\t@echo charts\n",
		"tides.mk":      "A = 1\n",
		"rota/Procfile": "web: python3 rota.py\n", "rota/rota.py": "serve()\n",
		".env":             "PORT=4900\n",
		"board/Dockerfile": "FROM scratch\nCOPY x /x\n",
		"board/x":          "x",
		"compose.yaml": "services:\n  board:\n    build: board\n    environment: {A: x}\n    " +
			"ports: [\"4901:80\"]\n    volumes: [\"./data:/data\"]\n",
		"data/keep": "",
	}
	type files map[string]string
	instead := func(file, old, new string) files {
		return files{file: strings.Replace(base[file], old, new, 1)}
	}
	more := func(line string) files {
		return files{"compose.yaml": base["compose.yaml"] + "    " + line + "\n"}
	}
	sumOf := func(text string) string {
		s := sha256.Sum256([]byte(text))
		return hex.EncodeToString(s[:6])
	}
	for name, change := range map[string]struct {
		files files
		link  string // where data leads then
		shows string
	}{
		"a script's line": {instead("package.json", "node pier", "node evil"), "", "node evil.js"},
		"a script that it calls": {instead("package.json", "sh up.sh", "sh up.sh; curl x"), "",
			"curl x"},
		"a script's content": {files{"up.sh": "curl x\n"}, "",
			"the script up.sh as it is now, sum " + sumOf("curl x\n")},
		"a program's source": {files{"pier.js": "evil()\n"}, "", "pier.js as it is now, sum " +
			sumOf("evil()\n")},
		"a task's line": {instead("Makefile", "echo charts", "curl x"), "", "make charts: curl x"},
		"a task before it": {instead("Makefile", "tides: charts", "tides: evil"), "",
			"make tides: make evil"},
		"a task's variable": {instead("Makefile", "BY = echo", "BY = evil"), "",
			"make tides: evil tides"},
		"an included file": {files{"tides.mk": "A := $(shell evil)\n"}, "",
			"whenever it reads Makefile: evil"},
		"a line of a Procfile": {instead("rota/Procfile", "rota.py", "evil.py"), "", "evil.py"},
		"what the manager obeys": {files{".npmrc": "script-shell=./evil\n"}, "",
			"vouched for it) npm"},
		"a variable that loads": {files{".env": "PORT=1\nNODE_OPTIONS=--require " +
			"./x.js\n"}, "", "NODE_OPTIONS=--require ./x.js"},
		"a Dockerfile": {instead("board/Dockerfile", "/x", "/y"), "", "COPY x /y"},
		"another reader of it": {
			files{"board/Dockerfile": "# syntax=evil/reader\nFROM " +
				"scratch\n"}, "", "syntax=evil/reader",
		},
		"a build argument": {
			instead("compose.yaml", "build: board",
				"build: {context: board, args: {E: evil}}"), "", "E=evil",
		},
		"a stage": {
			instead("compose.yaml", "build: board",
				"build: {context: board, target: evil}"), "", "its stage evil",
		},
		"its environment": {instead("compose.yaml", "{A: x}", "{LD_PRELOAD: /evil}"), "",
			"LD_PRELOAD=/evil"},
		"an entry point": {more("entrypoint: [/evil]"), "", "/evil"},
		"a privilege":    {more("privileged: true"), "", "privileged"},
		"the engine's socket": {instead("compose.yaml", "./data:", "/var/run/docker.sock:"), "",
			"the container engine's socket"},
		"a folder outside": {instead("compose.yaml", "./data:", "/etc:"), "",
			"/etc, outside of the workspace"},
		"a link":             {nil, "/etc", "which leads to /etc, outside of the workspace"},
		"the host's network": {more("network_mode: host"), "", "shares this machine's network"},
		"every address": {instead("compose.yaml", "4901:80", "0.0.0.0:4901:80"), "",
			"every address of this machine"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.write(base)
			sum := strings.TrimSpace(b.must(0, "vouch", "--print"))
			b.must(0, "vouch", "--agree")
			if said := b.must(0, "vouch"); strings.Contains(oneLine(said), change.shows) {
				t.Fatalf("it is shown before it is there:\n%s", said)
			}
			b.write(change.files)
			if change.link != "" {
				os.RemoveAll(filepath.Join(b.dir, "data"))
				if err := os.Symlink(change.link, filepath.Join(b.dir, "data")); err != nil {
					t.Fatal(err)
				}
			}
			if said := oneLine(b.must(1, "vouch")); !strings.Contains(said, change.shows) ||
				!strings.Contains(said, "changed since you vouched for it") {
				t.Errorf("vouch says\n%s", said)
			}
			if code, out, errOut := b.run("launch", "--background", "--vouch="+sum); code == 0 ||
				!strings.Contains(errOut, "is not what --vouch names") &&
					!strings.Contains(errOut, "engine") && !strings.Contains(errOut, "npm") {
				t.Errorf("what was pinned is launched otherwise: %d\n%s%s", code, out, errOut)
			}
		})
	}
}
