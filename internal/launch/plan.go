// Package launch executes an order: it starts everything as soon as what it needs answers, watches it,
// and stops it. A launched stack is owned by its steward, a process in the background.
package launch

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
	"nimbleharbor/internal/workspace"
)

// Plan is all that a steward needs to know. It may hold secrets and is never written to disk.
type Plan struct {
	Root       string
	ID         string // of the workspace
	Background bool
	Halt       bool // stop starting things at the first failure
	Shift      int
	Options    Options
	Inputs     []string          // files that the plan was made from
	Commits    map[string]string // by checkout
	Prints     *prints           // what all of it was when the plan was made
	Order      order.Order
	Steps      map[string]Step    // by node id
	Services   map[string]Service // by node id
	Networks   map[string]stack.Network
	Volumes    map[string]stack.Volume
	Secrets    []string // values that no log may show
}

// Step is a piece of preparation to run.
type Step struct {
	stack.Step
	Dir string
	Env []string
}

// Service is a service to run, with its environment and ports worked out for the mix.
type Service struct {
	stack.Service
	Dir         string
	Environment []string // KEY=VALUE: of a native service the whole, of a container what is added to the image's
	ImageTag    string   // what a built image is called

	own []string // of the environment, what settings and compose files give; known only where the plan is made
}

// Options are what a person asks of a launch.
type Options struct {
	Services   []string
	Except     []string
	Native     []string // services to run natively
	Container  []string // services to run in a container
	Shift      int      // added to every published port
	Literal    bool
	Background bool
	Halt       bool // stop starting things at the first failure
}

// Mix turns a survey into the stack that is to be launched: it moves services between container and
// machine as asked, and shifts the ports. The original is left as it is.
func Mix(s *stack.Stack, opt Options) (*stack.Stack, error) {
	out := *s
	out.Services = slices.Clone(s.Services)
	for i := range out.Services {
		svc := &out.Services[i]
		svc.Ports = slices.Clone(svc.Ports)
		for k := range svc.Ports {
			if p := &svc.Ports[k]; p.Host > 0 {
				if p.Host += opt.Shift; p.Host < 1 || p.Host > 65535 {
					return nil, &stack.Fault{Kind: stack.WrongCall, Code: "shift-too-far",
						Text: fmt.Sprintf("--shift %d moves a port of %s to %d, which is no port", opt.Shift, svc.Name,
							p.Host), Remedy: "Choose a smaller shift."}
				}
				if svc.Runs == stack.Native {
					p.Target = p.Host
				}
			}
		}
	}
	for _, name := range opt.Native {
		svc := out.Service(name)
		switch {
		case svc == nil: // order.Build names what there is
		case svc.Runs == stack.Native:
		case len(svc.NativeCommand) == 0:
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: "not-native", At: svc.At,
				Text:   fmt.Sprintf("%s can't run natively: no project with a serve command belongs to it", name),
				Remedy: "Only a service that is built from a project of the workspace can."}
		default:
			svc.Runs, svc.Command, svc.Address = stack.Native, slices.Clone(svc.NativeCommand), ""
			for k := range svc.Ports {
				svc.Ports[k].Target = svc.Ports[k].Host
			}
		}
	}
	for _, name := range opt.Container {
		svc := out.Service(name)
		if svc == nil || svc.Runs != stack.Native {
			continue
		}
		if svc.Container != nil && svc.Build != "" {
			svc.Runs, svc.Command, svc.Address = stack.Container, nil, svc.Name
			if svc.ContainerPort > 0 && len(svc.Ports) > 0 {
				svc.Ports[0].Target = svc.ContainerPort
			}
		} else {
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: "not-container", At: svc.At,
				Text: fmt.Sprintf("%s can't run in a container: no compose service and no Dockerfile stands for it",
					name), Remedy: "Describe it in the compose file, or add a Dockerfile to its folder."}
		}
	}
	return &out, nil
}

// Make works out the plan of a launch: which environment each service gets, and where it finds the others.
// mixed is the stack that Mix gave; original is the survey's, in whose terms the settings are written.
func Make(root string, original, mixed *stack.Stack, ord *order.Order, opt Options) (*Plan, error) {
	p := &Plan{Root: root, ID: workspace.ID(root), Background: opt.Background, Halt: opt.Halt, Shift: opt.Shift,
		Options: opt, Order: *ord,
		Steps: map[string]Step{}, Services: map[string]Service{}, Networks: mixed.Networks, Volumes: mixed.Volumes}
	m := &mixer{root: root, original: original, mixed: mixed, plan: p, shell: os.Environ(), secrets: map[string]bool{}}
	var faults stack.Faults
	for _, n := range ord.Nodes {
		if n.Kind == "service" {
			svc := mixed.Service(strings.TrimPrefix(n.ID, "service:"))
			ready, err := m.service(svc)
			if err != nil {
				faults = append(faults, stack.AllFaults(err)...)
			}
			p.Services[n.ID] = ready
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	// Ports that a native service needs of a container and that no file publishes are published on the loopback alone.
	for id, svc := range p.Services {
		for _, extra := range m.opened[svc.Name] {
			svc.Ports = append(svc.Ports, extra)
		}
		p.Services[id] = svc
	}
	for _, proj := range mixed.Projects {
		for _, step := range proj.Steps {
			id := order.StepID(step.ID)
			if !slices.ContainsFunc(ord.Nodes, func(n order.Node) bool { return n.ID == id }) {
				continue
			}
			dir := proj.Path
			if step.Folder != "" {
				dir = step.Folder
			}
			p.Steps[id] = Step{Step: step, Dir: filepath.Join(root, filepath.FromSlash(dir)),
				Env: m.stepEnv(p, &proj, dir)}
		}
	}
	p.inputs(mixed)
	p.Prints = p.prints()
	m.learnFiles(original)
	for _, v := range original.Secrets {
		m.secrets[v] = true
	}
	// a shorter one may be a part of a longer
	p.Secrets = slices.SortedFunc(maps.Keys(m.secrets), func(a, b string) int { return len(b) - len(a) })
	return p, nil
}

// stepEnv is the environment of a step: that of the native service of its folder, else of any of its project.
func (m *mixer) stepEnv(p *Plan, proj *stack.Project, dir string) []string {
	env, best := m.path(proj.Bin), ""
	for _, id := range slices.Sorted(maps.Keys(p.Services)) {
		svc := p.Services[id]
		if svc.Runs != stack.Native || svc.Project != proj.Path || svc.Manager != proj.Manager {
			continue
		}
		if best == "" || svc.Service.Dir() == dir && best != dir {
			env, best = svc.Environment, svc.Service.Dir()
		}
	}
	return env
}

// path is the shell's environment with a project's own programs first in its PATH.
func (m *mixer) path(bin []string) []string {
	out := slices.Clone(m.shell)
	if len(bin) == 0 {
		return out
	}
	var dirs []string
	for _, b := range bin {
		dirs = append(dirs, filepath.Join(m.root, filepath.FromSlash(b)))
	}
	for i, kv := range out {
		if old, ok := strings.CutPrefix(kv, "PATH="); ok {
			out[i] = "PATH=" + strings.Join(append(dirs, old), string(os.PathListSeparator))
			return out
		}
	}
	return append(out, "PATH="+strings.Join(dirs, string(os.PathListSeparator)))
}

type mixer struct {
	root            string
	original, mixed *stack.Stack
	plan            *Plan
	shell           []string
	secrets         map[string]bool
	opened          map[string][]stack.Port // by service: ports published for native services
}

// service works out one service's environment.
func (m *mixer) service(svc *stack.Service) (Service, error) {
	out := Service{Service: *svc, Dir: filepath.Join(m.root, filepath.FromSlash(svc.Dir()))}
	if svc.Build != "" && svc.Runs == stack.Container {
		out.ImageTag = "nharbor-" + m.plan.ID + "-" + svc.Name
	}
	values := map[string]string{}
	var faults stack.Faults
	for _, ref := range svc.EnvFiles {
		data, err := os.ReadFile(filepath.Join(m.root, filepath.FromSlash(ref.Path)))
		if errors.Is(err, fs.ErrNotExist) {
			if ref.Required {
				faults = append(faults, &stack.Fault{Kind: stack.Missing, Code: "env-file-missing", At: ref.At,
					Text:   fmt.Sprintf("%s wants the settings file %s, which doesn't exist", svc.Name, ref.Path),
					Remedy: "Make it: nharbor fill"})
			}
			continue
		}
		if err != nil {
			faults = append(faults, &stack.Fault{Kind: stack.Unreadable, Code: "env-unreadable",
				At: stack.Place{File: ref.Path}, Text: "the settings file can't be read", Remedy: "Check its rights.",
				Cause: err})
			continue
		}
		if ref.Raw {
			maps.Copy(values, dotenv.RawValues(data, os.LookupEnv))
			continue
		}
		f, err := dotenv.Parse(ref.Path, data)
		if err != nil {
			return out, err
		}
		set, err := f.Values(os.LookupEnv)
		if err != nil {
			return out, err
		}
		maps.Copy(values, set)
	}
	maps.Copy(values, svc.Env)
	m.rewrite(svc, values)
	out.Container = svc.Container // it may have come to need this machine's name
	if svc.Runs == stack.Native {
		out.Command = m.ownPort(svc, values)
	}
	for key, value := range values {
		m.learn(key, value)
	}
	if svc.Runs == stack.Native {
		out.Environment = m.path(svc.Bin)
	}
	for _, key := range slices.Sorted(maps.Keys(values)) {
		out.own = append(out.own, key+"="+values[key])
	}
	out.Environment = append(out.Environment, out.own...)
	if len(faults) > 0 {
		return out, faults
	}
	return out, nil
}

// ownPort tells a native service the port that it is to take in this mix: by the variable that it heeds, by the
// number in its command, or by the words that its server takes.
func (m *mixer) ownPort(svc *stack.Service, values map[string]string) []string {
	command := slices.Clone(svc.Command)
	was := m.original.Service(svc.Name)
	if len(svc.Ports) == 0 || was == nil || len(was.Ports) == 0 {
		return command
	}
	port, before := fmt.Sprint(svc.Ports[0].Host), fmt.Sprint(was.Ports[0].Host)
	if was.Runs == stack.Container {
		before = fmt.Sprint(was.Ports[0].Target)
	}
	if _, told := values["PORT"]; told || svc.PortBy.Env == "PORT" {
		values["PORT"] = port
	}
	if svc.PortBy.Env != "" {
		values[svc.PortBy.Env] = port
	}
	if port == before && was.Runs == svc.Runs {
		return command
	}
	replaced := false
	for i, word := range command {
		if word == before {
			command[i], replaced = port, true
		} else if rest, ok := strings.CutSuffix(word, ":"+before); ok {
			command[i], replaced = rest+":"+port, true
		} else if rest, ok := strings.CutSuffix(word, "="+before); ok {
			command[i], replaced = rest+"="+port, true
		}
	}
	if !replaced {
		for _, w := range svc.PortBy.Words {
			command = append(command, strings.ReplaceAll(w, "{port}", port))
		}
	}
	if svc.PortBy.Env == "" && len(svc.PortBy.Words) == 0 && !replaced {
		values["PORT"] = port
	}
	return command
}

// learn keeps a secret's value, so that logs can hide it. Short ones would hide ordinary words.
func (m *mixer) learn(key, value string) {
	if !dotenv.IsSecret(key, value) {
		return
	}
	inside := false
	for _, pw := range []string{dotenv.PasswordOf(value), dotenv.WrittenPassword(value)} {
		if inside = inside || pw != ""; len(pw) >= 6 {
			m.secrets[pw] = true
		}
	}
	if !inside && len(value) >= 6 {
		m.secrets[value] = true
		// A text of several lines is shown line by line.
		for line := range strings.Lines(value) {
			if line = strings.TrimSpace(line); len(line) >= 16 && line != value && !strings.HasPrefix(line, "-----") {
				m.secrets[line] = true
			}
		}
	}
}

// learnFiles keeps the secrets of the settings files that no service is known to read: a program may read them itself.
func (m *mixer) learnFiles(s *stack.Stack) {
	for _, e := range s.EnvFiles {
		data, err := os.ReadFile(filepath.Join(m.root, filepath.FromSlash(e.Path)))
		if err != nil || !e.Present {
			continue
		}
		d, err := settings.Parse(e.Path, e.Format, data)
		if err != nil {
			continue
		}
		for _, entry := range d.Entries {
			if !survey.Placeholder(entry.Value) {
				m.learn(entry.Key, entry.Value)
			}
		}
	}
}
