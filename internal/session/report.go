package session

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/hide"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	values "nimbleharbor/internal/value"
)

// Report is all that is to be handed on about an application and its launch. It holds no secret,
// and no path outside of the workspace.
type Report struct {
	Name     string // of the workspace's folder
	Made     time.Time
	Version  string // of this program
	Stack    *stack.Stack
	Order    *order.Order
	Check    stack.Check
	Needs    *needs.Answer
	Timeline *timeline.Timeline // nil where nothing has been launched
	Started  time.Time          // of the launch
	Settings []SettingsFile
	ByHand   []ByHand
	Took     []memory.Lesson // what launches had to learn
	Machine  [][2]string
}

// SettingsFile tells how a settings file has come to what it holds.
type SettingsFile struct {
	Path, Template string
	Settings       int
	Own            []string // keys that don't hold what the template has
	Open           []string // keys that only a person can give, and that have no value
}

// ByHand is a part of what one does to get the same without this program.
type ByHand struct {
	Title string
	Lines []string
}

// Report gathers what is to be handed on. The record is that of the last launch, or nil.
func (m *Mixed) Report(ctx context.Context, r *record.Record, version string) (*Report, error) {
	out := &Report{Name: filepath.Base(m.Root), Made: time.Now(), Version: version,
		Stack: hide.Stack(m.Mix.Stack), Order: m.Order}
	out.Stack.Checkouts = slices.Clone(m.Checkouts)
	for i := range out.Stack.Checkouts { // a folder of this machine is nothing to a colleague
		if c := &out.Stack.Checkouts[i]; !gitrepo.Elsewhere(c.Address) {
			c.Address = ""
		}
	}
	out.Took = memory.Recall(m.Root).Lessons()
	out.Needs = m.Needs(ctx, r)
	out.Check = m.Judge(ctx, r)
	out.Check.SignIns = nil
	if l := r.Launch(); l != nil {
		out.Timeline, out.Started = timeline.Of(l), l.Started
	}
	f, err := m.Fill(ctx, Filling{})
	if err != nil {
		return nil, err
	}
	out.settings(m, f.Plan)
	made, err := m.Plan()
	if err != nil { // it can't be launched as it is, and the check, or the launch, says why
		made = &plan.Plan{}
	}
	out.byHand(m, made)
	out.machine(ctx)
	return out, nil
}

// settings tells which keys of each file hold something else than their template.
func (out *Report) settings(m *Mixed, p *fill.Plan) {
	open := map[fill.Member]bool{}
	for _, l := range p.Missing {
		open[fill.Member{File: l.File, Key: l.Key}] = true
	}
	for _, e := range m.Stack.EnvFiles {
		f := SettingsFile{Path: e.Path, Template: e.Template, Settings: e.Settings}
		file, err := settings.Read(m.Files, e.Path, e.Format)
		if err == nil {
			var template *settings.Document
			if e.Template != "" {
				template, _ = settings.Read(m.Files, e.Template, e.Format)
			}
			for _, entry := range file.Entries {
				if template != nil {
					if was, ok := template.Get(entry.Key); ok && was.Value == entry.Value {
						continue
					}
				}
				f.Own = append(f.Own, entry.Key)
			}
		}
		for member := range open {
			if member.File == e.Path {
				f.Open = append(f.Open, member.Key)
			}
		}
		slices.Sort(f.Open)
		out.Settings = append(out.Settings, f)
	}
}

// byHand tells how one does it without this program, command by command, in the order of the
// launch.
func (out *Report) byHand(m *Mixed, plan *plan.Plan) {
	out.add("Get the code", out.codeByHand())
	var fills []string
	for _, f := range out.Settings {
		if f.Template != "" {
			fills = append(fills, "cp "+shell.Word(f.Template)+" "+shell.Word(f.Path))
		}
		if keys := slices.Concat(f.Own, f.Open); len(keys) > 0 {
			fills = append(fills, "# then give values of your own in "+f.Path+": "+
				strings.Join(keys, ", "))
		}
	}
	out.add("Fill in the settings", fills)
	var engine []string
	if slices.ContainsFunc(out.Stack.Services,
		func(s stack.Service) bool { return s.Runs == stack.Container }) {
		engine = append(engine, "docker network create "+shell.Word(out.Name))
	}
	out.add("Prepare the container engine", engine)
	for _, n := range m.Order.Nodes {
		title := n.ID.Title()
		if len(n.After) > 0 {
			var waits []string
			for _, e := range n.After {
				waits = append(waits, e.ID.Title()+" "+untilWords[e.Until])
			}
			title += ", once " + strings.Join(waits, " and ")
		}
		out.add(title, out.nodeByHand(n.ID, plan))
	}
	if out.Check.Open != "" {
		out.add("Look at it", []string{"curl -i " + out.Check.Open})
	}
}

// codeByHand brings each checkout as it is here.
func (out *Report) codeByHand() (get []string) {
	for _, c := range out.Stack.Checkouts {
		if c.Address == "" {
			continue
		}
		dir := c.Path
		if dir == "." {
			dir = out.Name
		}
		get = append(get, "git clone "+shell.Word(c.Address)+" "+shell.Word(dir))
		if c.Commit != "" {
			get = append(get, "git -C "+shell.Word(dir)+" checkout "+c.Commit)
		}
		if len(c.Submodules) > 0 {
			get = append(get, "git -C "+shell.Word(dir)+" submodule update --init --recursive")
		}
	}
	return get
}

// nodeByHand starts a service, or does a step; nil if there is none of that id.
func (out *Report) nodeByHand(id stack.NodeID, plan *plan.Plan) (lines []string) {
	if name, ok := id.Service(); ok {
		s := out.Stack.Service(name)
		if s == nil {
			return nil
		}
		lines = serviceByHand(s, out.Name, plan)
		for _, p := range s.Ports {
			if p.Host > 0 && s.Kind == stack.Lasting {
				lines = append(lines, fmt.Sprintf("# it answers on port %d", p.Host))
			}
		}
		return lines
	}
	want, _ := id.Step()
	for _, p := range out.Stack.Projects {
		for _, step := range p.Steps {
			if step.ID == want {
				return []string{inFolder(cmp.Or(step.Folder, p.Path),
					hiddenEnv(step.Env)+shell.Line(step.Command))}
			}
		}
	}
	return nil
}

var untilWords = map[stack.Until]string{stack.Begun: "has begun", stack.Answering: "answers",
	stack.Finished: "is done"}

func (out *Report) add(title string, lines []string) {
	if len(lines) > 0 {
		out.ByHand = append(out.ByHand, ByHand{title, lines})
	}
}

// inFolder is a command line that runs in a folder of the workspace.
func inFolder(dir, command string) string {
	if dir == "" || dir == "." {
		return command
	}
	return "(cd " + shell.Word(dir) + " && " + command + ")"
}

// hiddenEnv are settings before a command, without what is secret.
func hiddenEnv(set map[string]string) string {
	out := ""
	for _, k := range slices.Sorted(maps.Keys(set)) {
		v := values.Hide(set[k])
		if values.IsSecret(k, "") {
			v = "***"
		}
		out += k + "=" + shell.Word(v) + " "
	}
	return out
}

func serviceByHand(s *stack.Service, network string, plan *plan.Plan) (lines []string) {
	if s.Runs == stack.Native {
		for _, r := range plan.Rewritten {
			if r.Service == s.Name {
				lines = append(lines, "# with "+r.Key+" leading to "+r.To)
			}
		}
		line := inFolder(s.Dir(), shell.Line(s.Command))
		if s.Kind == stack.Lasting {
			line += " &"
		}
		return append(lines, line)
	}
	image := s.Image
	if s.Build != "" {
		image = network + "-" + s.Name
		lines = append(lines, buildByHand(s, image))
	}
	return append(lines, runByHand(s, image, network))
}

// buildByHand builds a service's image.
func buildByHand(s *stack.Service, image string) string {
	build := "docker build -t " + shell.Word(image)
	if c := s.Container; c != nil {
		if c.Dockerfile != "" && c.Dockerfile != "Dockerfile" {
			build += " -f " + shell.Word(path.Join(s.Build, c.Dockerfile))
		}
		if c.Target != "" {
			build += " --target " + shell.Word(c.Target)
		}
		for _, k := range slices.Sorted(maps.Keys(c.BuildArgs)) {
			build += " --build-arg " + shell.Word(k+"="+c.BuildArgs[k])
		}
	}
	return build + " " + shell.Word(s.Build)
}

// runByHand runs a service's container.
func runByHand(s *stack.Service, image, network string) string {
	run := "docker run --rm"
	if s.Kind == stack.Lasting {
		run = "docker run -d"
	}
	run += " --name " + shell.Word(s.Name) + " --network " + shell.Word(network)
	for _, p := range s.Ports {
		if p.Host > 0 {
			run += fmt.Sprintf(" -p 127.0.0.1:%d:%d", p.Host, p.Target)
			if p.Transport == "udp" {
				run += "/udp"
			}
		}
	}
	for _, e := range s.EnvFiles {
		run += " --env-file " + shell.Word(e.Path)
	}
	for _, k := range slices.Sorted(maps.Keys(s.Env)) {
		run += " -e " + shell.Word(k+"="+s.Env[k])
	}
	if c := s.Container; c != nil {
		run += mountsByHand(c.Mounts)
		if len(c.Entrypoint) > 0 {
			run += " --entrypoint " + shell.Word(c.Entrypoint[0])
			image += " " + shell.Line(c.Entrypoint[1:])
		}
	}
	return strings.TrimSpace(run + " " + strings.TrimSpace(image) + " " + shell.Line(s.Command))
}

// mountsByHand are folders and named volumes, as options.
func mountsByHand(mounts []stack.Mount) (out string) {
	for _, m := range mounts {
		switch bind := m.Type == "bind"; {
		case !bind && (m.Type != "volume" || m.Source == ""):
		case bind && !path.IsAbs(m.Source):
			out += ` -v "$PWD"/` + shell.Word(m.Source+":"+m.Target)
		default:
			out += " -v " + shell.Word(m.Source+":"+m.Target)
		}
	}
	return out
}

// machine tells on what it has been done.
func (out *Report) machine(ctx context.Context) {
	add := func(name, value string) {
		if value != "" {
			out.Machine = append(out.Machine, [2]string{name, value})
		}
	}
	if info, err := host.InfoWithContext(ctx); err == nil {
		add("system", strings.TrimSpace(info.Platform+" "+info.PlatformVersion))
		add("kernel", info.OS+" "+info.KernelVersion)
	}
	add("processor", fmt.Sprintf("%d × %s", runtime.NumCPU(), runtime.GOARCH))
	if m, err := mem.VirtualMemoryWithContext(ctx); err == nil {
		add("memory", fmt.Sprintf("%.1f GB", float64(m.Total)/(1<<30)))
	}
	for _, n := range out.Needs.Needs {
		if n.Met && (n.Kind == needs.Tool || n.Kind == needs.Engine &&
			n.Name == "container engine") {
			add(n.Name, n.Found)
		}
	}
}
