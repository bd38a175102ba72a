package needs

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// Local is this machine.
type Local struct {
	// Stacks tells which service of which other stack of ours holds a port.
	Stacks map[int]stack.Owner
	Dir    string // the workspace
	Files  fs.FS  // of the workspace; nil for none

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
		if data, err := reading.File(filepath.Join(home, file), reading.Usual/4); err == nil &&
			strings.Contains(string(data), u.Hostname()) {
			return true
		}
	}
	return false
}

// Version runs the tool outside of the checkout, where no file of it can have a say, and reads the
// version.
func (l *Local) Version(ctx context.Context, name string) (string, error) {
	tool := ecosystem.ToolNamed(name)
	headers := tool.Headers
	if tool.HeadersOf != nil {
		headers = tool.HeadersOf(name)
	}
	if headers != nil {
		for _, pattern := range headers {
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
	path := l.find(program)
	switch {
	case path == "":
		return "", ErrNoTool
	case l.inside(path):
		return "found in " + filepath.Dir(path) + ", and not asked: it belongs to the checkout", nil
	case l.fetches(path, tool.Fetcher):
		return tool.Fetcher + "'s, which fetches the version that the project " +
			"names", nil // as soon as it is called
	case tool.Program == "" && !ecosystem.Known(name):
		return "found in " + filepath.Dir(path), nil // nobody knows what it does when it is called
	}
	if args == nil {
		args = []string{"--version"}
	}
	said, err := ask(ctx, path, args)
	if err != nil {
		return "", err
	}
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

// VersionHere gives what tells the version of a tool here; empty for one that is not here, or
// doesn't tell.
func VersionHere(ctx context.Context) func(tool string) string {
	l := &Local{}
	return func(tool string) string {
		version, err := l.Version(ctx, tool)
		if err != nil || !upstream.MatchString(version) {
			return ""
		}
		return version
	}
}

// The bounds of a tool that is asked for its version.
const (
	toolTime  = 20 * time.Second
	toolWords = 64 << 10 // bytes
)

// ask runs a tool where no file of a checkout can have a say: in the file system's own top folder,
// which nobody but the administrator writes to. A tool that hangs, or that never stops talking, is
// ended with all that it has started.
func ask(ctx context.Context, program string, args []string) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, toolTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, args...)
	wholly(cmd)
	cmd.Dir = filepath.VolumeName(program) + string(filepath.Separator)
	cmd.WaitDelay = time.Second
	said := words{enough: cancel}
	cmd.Stdout, cmd.Stderr = &said, &said
	err := cmd.Run()
	rest(cmd)
	text := strings.TrimSpace(colours.ReplaceAllString(said.kept.String(), ""))
	switch {
	case said.kept.Len() >= toolWords:
		return text, nil // what it is comes first
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "", fmt.Errorf("it did not answer within %.0f s", toolTime.Seconds())
	case errors.Is(err, exec.ErrWaitDelay):
		return text, nil // it has ended; something that it started has not
	case err != nil:
		if first, _, _ := strings.Cut(text, "\n"); first != "" {
			return "", errors.New(first)
		}
		return "", err
	}
	return text, nil
}

// Own reports whether a line of a block needs nobody else's rights, and has an effect beyond the
// shell that runs it.
func Own(line string) bool {
	return !strings.HasPrefix(line, "sudo ") && !strings.HasPrefix(line, "export ")
}

// Run runs a line of a block, which is this program's own and no checkout's, and hands on what it
// says. It is run where tools are asked, and ends with all that it has started when ctx does.
func Run(ctx context.Context, line string, says io.Writer) error {
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	wholly(cmd)
	cmd.Dir = "/"
	cmd.WaitDelay = time.Second
	cmd.Stdout, cmd.Stderr = says, says
	err := cmd.Run()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return err
}

// words keeps the first that a tool says.
type words struct {
	kept   bytes.Buffer
	enough func() // is called when that is all
}

func (w *words) Write(p []byte) (int, error) {
	if room := toolWords - w.kept.Len(); room > 0 {
		w.kept.Write(p[:min(room, len(p))])
	} else {
		w.enough()
	}
	return len(p), nil
}

// find looks for a program as a shell does, but neither in folders that are named relative to where
// one stands, nor, if there is another, within the checkout; it is empty if there is none.
func (l *Local) find(program string) (path string) {
	for _, dir := range filepath.SplitList(os.Getenv("PATH")) {
		if !filepath.IsAbs(dir) {
			continue
		}
		if found, err := exec.LookPath(filepath.Join(dir, program)); err == nil {
			if !l.inside(found) {
				return found
			}
			path = cmp.Or(path, found)
		}
	}
	return path
}

// fetches reports whether what lies in a tool's place is its fetcher.
func (l *Local) fetches(path, fetcher string) bool {
	real, err := filepath.EvalSymlinks(path)
	return err == nil && fetcher != "" &&
		slices.Contains(strings.Split(filepath.ToSlash(real), "/"), fetcher)
}

// inside reports whether a file lies in the workspace.
func (l *Local) inside(file string) bool {
	rel, err := filepath.Rel(l.Dir, file)
	return l.Dir != "" && err == nil && filepath.IsLocal(rel)
}

// Kept looks into the person's home.
func (l *Local) Kept(tool string) []ecosystem.Kept {
	home, err := os.UserHomeDir()
	if err != nil {
		return nil
	}
	return ecosystem.KeptIn(os.DirFS(home), tool)
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

// installs are the systems' own commands for installing packages, by the words for them in tools'
// values. They ask nothing, since a question would take the next line of what is pasted for its
// answer.
var installs = map[string]string{"apt": "apt-get install -y ", "dnf": "dnf install -y ",
	"apk": "apk add ", "pacman": "pacman -S --needed --noconfirm ", "brew": "brew install "}

// installLine is a line that installs packages of the system: how, and which.
var installLine = expr.New(`^((?:sudo )?(?:apt-get install -y|dnf install -y|apk add|pacman -S --needed --noconfirm|` +
	`brew install) )(.+)$`)

const aptUpdate = "apt-get update"

// Install gives the system's own command for a tool, or that of another tool which brings it.
func (l *Local) Install(name string) Way {
	tool, how := ecosystem.ToolNamed(name), system()
	w := Way{Command: l.command(name)}
	if p := tool.PackageFor(how, name); p != "" && how == "apt" {
		first, _, _ := strings.Cut(p, " ")
		candidate, asked := l.candidate(first)
		if candidate == "" && asked {
			w.Command = withRights(how) + aptUpdate + " && " + w.Command
		} else if !tool.Meta {
			w.Version = candidate
		}
	}
	return w
}

func (l *Local) command(name string) string {
	tool, how := ecosystem.ToolNamed(name), system()
	if p := tool.PackageFor(how, name); p != "" {
		return withRights(how) + installs[how] + p
	}
	for _, by := range tool.By {
		program, _, _ := strings.Cut(by, " ")
		if program == "pip" && managed() {
			continue
		}
		if l.find(program) != "" {
			return by
		}
		if first := l.command(program); first != "" && program != name {
			return first + " && " + by
		}
	}
	return ""
}

// candidate is the version of a package that apt would install now; empty if it knows of none.
// asked is false where apt itself does not tell.
func (l *Local) candidate(pkg string) (version string, asked bool) {
	program := l.find("apt-cache")
	if program == "" || l.inside(program) {
		return "", false
	}
	said, err := ask(context.Background(), program, []string{"policy", pkg})
	if err != nil {
		return "", false
	}
	_, after, _ := strings.Cut(said, "Candidate: ")
	after, _, _ = strings.Cut(after, "\n")
	if _, number, epoch := strings.Cut(after, ":"); epoch {
		after = number
	}
	return upstream.FindString(after), true
}

// upstream is the beginning of a package's version that its program has too.
var upstream = expr.New(`^\d+(\.\d+)*`)

// withRights begins a system's command for those who need more rights for it.
func withRights(how string) string {
	if how == "brew" || os.Geteuid() == 0 {
		return ""
	}
	return "sudo "
}

// managed reports whether the system's Python takes packages from the system alone (PEP 668).
func managed() bool {
	found, _ := filepath.Glob("/usr/lib/python3*/EXTERNALLY-MANAGED")
	return len(found) > 0
}

func system() string {
	if runtime.GOOS == "darwin" {
		return "brew"
	}
	f, err := reading.Open("/etc/os-release")
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
		case strings.Contains(value, "arch"):
			return "pacman"
		}
	}
	return ""
}
