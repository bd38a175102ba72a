// Package needs tells what a machine must have for a stack, and whether it has it.
package needs

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
)

// Kind is a kind of need.
type Kind string

// The kinds.
const (
	Tool   Kind = "tool"
	Engine Kind = "engine"
	Image  Kind = "image" // of others, which a launch fetches
	Port   Kind = "port"
	Disk   Kind = "disk"
	Source Kind = "source"
	Server Kind = "server" // on this machine, beside the stack
	Host   Kind = "host"   // the machine itself: memory, limits, clock
	File   Kind = "file"
)

// Level tells whether a launch can do without.
type Level string

// The levels.
const (
	Required Level = "required"
	Optional Level = "optional"
)

// Need is something that the machine must have.
type Need struct {
	Name    string        `json:"name"`
	Kind    Kind          `json:"kind"`
	Wanted  string        `json:"wanted"`
	Found   string        `json:"found"`
	Met     bool          `json:"met"`
	Level   Level         `json:"level"`
	Because []stack.Place `json:"because"`
	Remedy  string        `json:"remedy"`
	For     []string      `json:"for"` // the services
	// Command installs it on this system; empty where no command is known.
	Command string `json:"command,omitempty"`
	// Have is the version that is here, of a tool in a version that doesn't do.
	Have string `json:"have,omitempty"`
}

// Answer is the answer of the command needs: contract nharbor.needs/1.
type Answer struct {
	Schema string `json:"schema"`
	Met    bool   `json:"met"`
	Needs  []Need `json:"needs"`
}

// Machine is what is asked about the machine; tools, sources and the engine by several goroutines
// at once.
type Machine interface {
	// Version tells a tool's version; ErrNoTool if it is not installed.
	Version(ctx context.Context, tool string) (string, error)
	// Engine connects to the container engine and tells what it has of what is wanted; the error is
	// an
	// *engine.Unavailable where there is none.
	Engine(ctx context.Context, want engine.Outside) (engine.Seen, error)
	// PortFree tells whether a program could listen on the port of that address (empty: any), and
	// if not, who holds it.
	PortFree(host string, port int) (bool, *stack.Owner)
	// Answers tells whether a server of the protocol answers on a port of this machine.
	Answers(ctx context.Context, port int, speaks string) bool
	// DiskFree tells the free bytes where the folder lies, or the workspace if it is empty.
	DiskFree(folder string) (uint64, error)
	// Host tells what the machine itself has.
	Host() Facts
	// Kernel tells a limit of its kernel by its name.
	Kernel(name string) (value uint64, known bool)
	// Weigh tells what a project's install will bring; false where that isn't known, or was done
	// before.
	Weigh(p *stack.Project) (Weight, bool)
	// LoggedIn tells whether this machine has a login for a package source, in the variable or in a
	// file of the person's.
	LoggedIn(address, variable string) bool
	// Reaches tells why a package source's server can't be reached; nil if it can.
	Reaches(ctx context.Context, address string) error
	// Install tells how a tool is installed on this system.
	Install(tool string) Way
	// Kept lists what lies of a tool in the person's home, where a shell may not find it.
	Kept(tool string) []ecosystem.Kept
}

// Way is how a tool is installed.
type Way struct {
	Command string // empty if none is known
	// Version is the one that it would bring; empty where that can't be told beforehand.
	Version string
}

// ErrNoTool says that a tool is not installed.
var ErrNoTool = errors.New("not installed")

// Ask finds out all needs of the services named (nil: all) at once. Ports in ours are held by this
// stack itself and count as free.
func Ask(ctx context.Context, s *stack.Stack, services []string, ours map[int]bool,
	m Machine) *Answer {
	a := asker{stack: s, machine: m}
	var taking []*stack.Service
	for i := range s.Services {
		if services == nil || slices.Contains(services, s.Services[i].Name) {
			taking = append(taking, &s.Services[i])
		}
	}
	a.ask(ctx, taking)
	a.runtimes(taking)
	a.compiles(taking)
	a.sources(taking)
	a.engine(taking)
	a.ports(taking, ours)
	a.servers(ctx, taking)
	a.disk(taking)
	a.host(taking)
	out := &Answer{Schema: "nharbor.needs/1", Met: true, Needs: a.needs}
	for _, n := range out.Needs {
		if !n.Met && n.Level == Required {
			out.Met = false
		}
	}
	return out
}

type asker struct {
	stack   *stack.Stack
	machine Machine
	needs   []Need

	versions map[string]version // by tool
	engineIs engine.Seen
	noEngine error
	here     Facts
	apart    map[string]error // why sources can't be reached, by address
	// tooOld are tools by the command that would install each, in a version that doesn't do.
	tooOld map[string]string
}

// version is what a tool has said of itself.
type version struct {
	number string
	err    error
	way    Way // to install it, where it is not
}

// ask asks all tools for their versions, each once and all at the same time, and the engine.
func (a *asker) ask(ctx context.Context, services []*stack.Service) {
	a.versions, a.tooOld = map[string]version{}, map[string]string{}
	for _, s := range services {
		for _, r := range a.runtimesOf(s) {
			a.versions[r.Tool] = version{}
		}
	}
	a.native(services, func(p *stack.Project, _ []string) {
		for _, c := range p.Compiles {
			a.versions[c.Takes] = version{}
		}
	})
	var mu sync.Mutex
	var wait beside.Group
	for _, tool := range slices.Collect(maps.Keys(a.versions)) {
		wait.Go(func() {
			v := version{}
			if v.number, v.err = a.machine.Version(ctx, tool); errors.Is(v.err, ErrNoTool) {
				v.way = a.machine.Install(tool)
			}
			mu.Lock()
			defer mu.Unlock()
			a.versions[tool] = v
		})
	}
	if slices.ContainsFunc(services,
		func(s *stack.Service) bool { return s.Runs == stack.Container }) {
		wait.Go(func() { a.engineIs, a.noEngine = a.machine.Engine(ctx, a.outside(services)) })
	}
	wait.Go(func() { a.here = a.machine.Host() })
	// A source that somebody keeps a login for is no stranger's; of any other a checkout's word
	// makes nobody call there.
	a.apart = map[string]error{}
	a.native(services, func(p *stack.Project, _ []string) {
		for _, s := range p.Sources {
			if _, twice := a.apart[s.Address]; twice || !s.Login ||
				!a.machine.LoggedIn(s.Address, s.Variable) {
				continue
			}
			a.apart[s.Address] = nil
			wait.Go(func() {
				err := a.machine.Reaches(ctx, s.Address)
				mu.Lock()
				defer mu.Unlock()
				a.apart[s.Address] = err
			})
		}
	})
	wait.Wait()
}

// sources asks for logins at package sources that let in only those who are known.
func (a *asker) sources(services []*stack.Service) {
	seen := map[string]bool{}
	a.native(services, func(p *stack.Project, names []string) {
		for _, s := range p.Sources {
			if seen[s.Address] {
				continue
			}
			seen[s.Address] = true
			n := Need{Name: sourceName(s.Address), Kind: Source, Wanted: "to be let in at " +
				s.Address, Level: Required, Because: []stack.Place{s.At}, For: names, Met: true,
				Found: "asks for no login, as far as the checkout tells"}
			if s.Login {
				n.Found = "a login is set up here"
				if n.Met = a.machine.LoggedIn(s.Address, s.Variable); !n.Met {
					f := (&diagnose.Need{Kind: string(Source), Manager: p.Manager,
						Variable: s.Variable}).Explain()
					n.Found, n.Remedy = f.Cause, f.Remedy
				} else if why := a.apart[s.Address]; why != nil {
					n.Met, n.Level = false, Optional
					n.Found = "a login is set up here, but it can't be reached: " + why.Error()
					n.Remedy = "Check the network, a proxy, and whether only another network " +
						"leads there."
				}
			}
			a.needs = append(a.needs, n)
		}
	})
}

func sourceName(address string) string {
	if u, err := url.Parse(address); err == nil && u.Host != "" {
		return u.Host
	}
	return address
}

func (a *asker) engine(services []*stack.Service) {
	n := Need{Name: "container engine", Kind: Engine, Wanted: "one that answers", Level: Required}
	for _, s := range services {
		if s.Runs == stack.Container {
			n.For = append(n.For, s.Name)
			n.Because = append(n.Because, s.At)
		}
	}
	if len(n.For) == 0 {
		return
	}
	err := a.noEngine
	n.Found, n.Met = a.engineIs.Version, err == nil
	if err != nil {
		n.Found = err.Error()
		var u *engine.Unavailable
		if errors.As(err, &u) {
			n.Remedy = u.Remedy()
		}
	}
	a.needs = append(a.needs, n)
	if err == nil {
		a.ofEngine(services)
	}
}

// wantedToo adds a service to a need that another one has already; it reports whether there is one
// of that name.
func (a *asker) wantedToo(name, how, service string, at stack.Place) bool {
	i := slices.IndexFunc(a.needs, func(n Need) bool { return n.Name == name })
	if i < 0 {
		return false
	}
	n := &a.needs[i]
	n.Because, n.For = append(n.Because, at), append(n.For, service)
	n.Wanted = how + ", for " + strings.Join(n.For, ", ")
	return true
}

func (a *asker) ports(services []*stack.Service, ours map[int]bool) {
	for _, s := range services {
		for _, p := range s.Ports {
			if p.Host == 0 || p.Transport != "tcp" {
				continue
			}
			name := fmt.Sprintf("port %d", p.Host)
			if a.wantedToo(name, "free", s.Name, p.At) {
				continue
			}
			n := Need{Name: name, Kind: Port, Wanted: "free, for " + s.Name, Found: "free",
				Met: true, Level: Required, Because: []stack.Place{p.At}, For: []string{s.Name}}
			if ours[p.Host] {
				n.Found = "held by this stack"
			} else if free, owner := a.machine.PortFree(p.HostIP, p.Host); !free {
				known := diagnose.Need{Kind: string(Port)}
				if owner != nil {
					known.Holder, known.PID, known.Stack = owner.Command, strconv.Itoa(owner.PID), owner.Stack
				}
				f := known.Explain()
				n.Met, n.Found, n.Remedy = false, f.Cause, f.Remedy
			}
			a.needs = append(a.needs, n)
		}
	}
}

// Block is what a person can paste to install all that is missing and that a command is known for,
// one line each; what the system's own package manager installs stands on one, before the rest,
// which may need it.
func (a *Answer) Block() []string {
	var system, rest []string
	for _, n := range a.Needs {
		if n.Met || n.Command == "" {
			continue
		}
		for _, line := range strings.Split(n.Command, " && ") {
			m := installLine.FindStringSubmatch(line)
			i := -1
			if m != nil {
				i = slices.IndexFunc(system,
					func(have string) bool { return strings.HasPrefix(have, m[1]) })
			}
			switch {
			case i >= 0:
				for _, what := range strings.Fields(m[2]) {
					if !slices.Contains(strings.Fields(system[i]), what) {
						system[i] += " " + what
					}
				}
			case m != nil:
				system = append(system, line)
			case strings.HasSuffix(line, aptUpdate):
				if !slices.Contains(system, line) {
					system = slices.Insert(system, 0, line)
				}
			case !slices.Contains(rest, line):
				rest = append(rest, line)
			}
		}
	}
	return append(system, rest...)
}

// Unmet lists the required needs that are not met, in a sentence each.
func (a *Answer) Unmet() []string {
	var out []string
	for _, n := range a.Needs {
		if !n.Met && n.Level == Required {
			found := n.Found
			if found == "" {
				found = "not installed"
			}
			out = append(out, fmt.Sprintf("%s: %s", n.Name, strings.TrimSpace(found)))
		}
	}
	return out
}
