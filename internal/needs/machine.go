package needs

import (
	"bufio"
	"context"
	"errors"
	"os"
	"os/exec"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/probe"
	"nimbleharbor/internal/stack"
)

// Local is this machine.
type Local struct {
	Dir string // the workspace

	owners sync.Once
	held   map[int]*stack.Owner
}

var versionNumber = regexp.MustCompile(`\d+(\.\d+)+([-+][0-9A-Za-z.-]+)?|\d+`)

// versionArgs are the words that make a tool tell its version.
var versionArgs = map[string][]string{"go": {"version"}}

// Version runs the tool outside of the checkout, where no file of it can have a say, and reads the version.
func (l *Local) Version(ctx context.Context, tool string) (string, error) {
	path, err := exec.LookPath(tool)
	if err != nil {
		return "", ErrNoTool
	}
	args := versionArgs[tool]
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
	v := versionNumber.FindString(string(out))
	if v == "" {
		return "", errors.New("it does not tell its version")
	}
	return v, nil
}

// Engine connects to the engine that a launch would use.
func (l *Local) Engine(ctx context.Context) (string, error) {
	e, err := engine.Connect(ctx)
	if err != nil {
		return "", err
	}
	defer e.Close()
	return e.Version, nil
}

// PortFree tries to listen on the port.
func (l *Local) PortFree(host string, port int) (bool, *stack.Owner) {
	if probe.Free(host, port) {
		return true, nil
	}
	l.owners.Do(func() { l.held = probe.Owners() })
	return false, l.held[port]
}

// DiskFree asks the file system of the workspace.
func (l *Local) DiskFree() (uint64, error) {
	u, err := disk.Usage(l.Dir)
	if err != nil {
		return 0, err
	}
	return u.Free, nil
}

// packages names a tool's package for each way of installing.
var packages = map[string]map[string]string{
	"node":    {"apt": "nodejs npm", "dnf": "nodejs", "brew": "node", "apk": "nodejs npm"},
	"npm":     {"apt": "npm", "dnf": "nodejs-npm", "brew": "node", "apk": "npm"},
	"python3": {"apt": "python3 python3-venv", "dnf": "python3", "brew": "python", "apk": "python3"},
	"go":      {"apt": "golang", "dnf": "golang", "brew": "go", "apk": "go"},
}

// Install gives the system's own command for a tool.
func (l *Local) Install(tool string) string {
	p := packages[tool]
	how := system()
	switch {
	case p[how] == "":
		return ""
	case how == "apt":
		return "sudo apt-get install " + p[how]
	case how == "dnf":
		return "sudo dnf install " + p[how]
	case how == "apk":
		return "sudo apk add " + p[how]
	}
	return "brew install " + p[how]
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
