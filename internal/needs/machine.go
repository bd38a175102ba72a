package needs

import (
	"bufio"
	"context"
	"errors"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// Local is this machine.
type Local struct {
	// Stacks tells which service of which other stack of ours holds a port.
	Stacks map[int]stack.Owner
	Dir    string // the workspace

	owners sync.Once
	held   map[int]*stack.Owner
}

var colours = expr.New("\x1b\\[[0-9;]*m")

var versionNumber = expr.New(`\d+(\.\d+)+([-+][0-9A-Za-z.-]+)?|\d+`)

// LoggedIn looks at the variable, and into the files in which the managers keep logins.
func (l *Local) LoggedIn(address, variable string) bool {
	if variable != "" && os.Getenv(variable) != "" {
		return true
	}
	u, err := url.Parse(address)
	home, homeErr := os.UserHomeDir()
	if err != nil || homeErr != nil || u.Hostname() == "" {
		return false
	}
	for _, file := range ecosystem.Logins() {
		if data, err := os.ReadFile(filepath.Join(home, file)); err == nil &&
			strings.Contains(string(data), u.Hostname()) {
			return true
		}
	}
	return false
}

// Version runs the tool outside of the checkout, where no file of it can have a say, and reads the version.
func (l *Local) Version(ctx context.Context, name string) (string, error) {
	tool := ecosystem.ToolNamed(name)
	if tool.Headers != nil {
		for _, pattern := range tool.Headers {
			if found, _ := filepath.Glob(pattern); len(found) > 0 {
				return "found in " + filepath.Dir(found[0]), nil
			}
		}
		return "", ErrNoTool
	}
	program, args := tool.Program, tool.Ask
	if program == "" {
		program = name
	}
	path, err := exec.LookPath(program)
	if err != nil {
		return "", ErrNoTool
	}
	if tool.Program == "" && !ecosystem.Known(name) {
		return "found in " + filepath.Dir(path), nil // nobody knows what it does when it is called
	}
	if args == nil {
		args = []string{"--version"}
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = os.TempDir()
	out, err := cmd.CombinedOutput()
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		if first == "" {
			first = err.Error()
		}
		return "", errors.New(first)
	}
	said := colours.ReplaceAllString(string(out), "")
	if tool.Find != nil {
		if v := tool.Find(said, name); v != "" {
			return v, nil
		}
		return "", ErrNoTool
	}
	v := versionNumber.FindString(said)
	if v == "" {
		return "", errors.New("it does not tell its version")
	}
	return v, nil
}

// Engine connects to the engine that a launch would use, and looks for what is wanted there.
func (l *Local) Engine(ctx context.Context, want engine.Outside) (engine.Seen, error) {
	e, err := engine.Connect(ctx)
	if err != nil {
		return engine.Seen{}, err
	}
	defer e.Close()
	return e.Look(ctx, want)
}

// PortFree tries to listen on the port.
func (l *Local) PortFree(host string, port int) (bool, *stack.Owner) {
	if sockets.Free(host, port) {
		return true, nil
	}
	if o, ok := l.Stacks[port]; ok {
		return false, &o
	}
	l.owners.Do(func() { l.held = sockets.Owners() })
	return false, l.held[port]
}

// Answers asks the port.
func (l *Local) Answers(ctx context.Context, port int, speaks string) bool {
	return protocol.Ask(ctx, port, speaks).Verdict == stack.Answers
}

// DiskFree asks the file system of the workspace.
func (l *Local) DiskFree() (uint64, error) {
	u, err := disk.Usage(l.Dir)
	if err != nil {
		return 0, err
	}
	return u.Free, nil
}

// installs are the systems' own commands for installing packages, by the words for them in tools' values.
var installs = map[string]string{"apt": "sudo apt-get install ", "dnf": "sudo dnf install ", "apk": "sudo apk add ",
	"brew": "brew install "}

// Install gives the system's own command for a tool, or that of another tool which brings it.
func (l *Local) Install(name string) string {
	tool, how := ecosystem.ToolNamed(name), system()
	if p := tool.PackageFor(how, name); p != "" {
		return installs[how] + p
	}
	return tool.By
}

func system() string {
	if runtime.GOOS == "darwin" {
		return "brew"
	}
	f, err := os.Open("/etc/os-release")
	if err != nil {
		return ""
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		key, value, _ := strings.Cut(lines.Text(), "=")
		if key != "ID" && key != "ID_LIKE" {
			continue
		}
		switch value = strings.Trim(value, `"`); {
		case strings.Contains(value, "debian"), strings.Contains(value, "ubuntu"):
			return "apt"
		case strings.Contains(value, "fedora"), strings.Contains(value, "rhel"):
			return "dnf"
		case strings.Contains(value, "alpine"):
			return "apk"
		}
	}
	return ""
}
