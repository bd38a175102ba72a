package compose

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
)

// Options say how a folder's compose files are read.
type Options struct {
	Files    []string      // instead of those that Find finds
	Env      dotenv.Lookup // the shell's variables; nil for none
	Profiles []string      // active ones, besides COMPOSE_PROFILES
}

// Project is what the compose files of a folder say together.
type Project struct {
	Name     string
	Dir      string   // the project directory, relative to the file system given
	Files    []string // in the order of merging
	Model    *Value   // merged, interpolated, in the specification's long forms
	Services []Service
	Networks map[string]stack.Network
	Volumes  map[string]stack.Volume
	Unset    []Unset // variables without a value or a default
	Remarks  []stack.Remark
}

// Unset is a variable that an active file uses and nobody sets.
type Unset struct {
	Name string
	At   stack.Place
}

// Load reads the compose files of dir. Its error is stack.Faults with everything that is wrong, or an
// error of the file system; without any compose file it is fs.ErrNotExist.
func Load(fsys fs.FS, dir string, opt Options) (*Project, error) {
	shell := opt.Env
	if shell == nil {
		shell = func(string) (string, bool) { return "", false }
	}
	beside := map[string]string{}
	envName := path.Join(dir, ".env")
	if data, err := fs.ReadFile(fsys, envName); err == nil {
		f, err := dotenv.Parse(envName, data)
		if err != nil {
			return nil, err
		}
		if beside, err = f.Values(shell); err != nil {
			return nil, err
		}
	}
	env := func(name string) (string, bool) {
		if v, ok := shell(name); ok {
			return v, true
		}
		v, ok := beside[name]
		return v, ok
	}
	p := &Project{Dir: dir, Files: opt.Files}
	if len(p.Files) == 0 {
		p.Files = Find(fsys, dir, env)
	}
	if len(p.Files) == 0 {
		return nil, fs.ErrNotExist
	}
	l := loader{fsys: fsys, env: env, project: p}
	for _, file := range p.Files {
		l.file(file)
	}
	if len(l.faults) > 0 {
		return nil, l.faults
	}
	profiles := slices.Clone(opt.Profiles)
	if named, ok := env("COMPOSE_PROFILES"); ok {
		for _, s := range strings.Split(named, ",") {
			if s = strings.TrimSpace(s); s != "" {
				profiles = append(profiles, s)
			}
		}
	}
	p.name(env)
	p.decode(profiles)
	if faults := p.check(); len(faults) > 0 {
		return nil, faults
	}
	p.remark()
	return p, nil
}

var unusable = regexp.MustCompile(`[^a-z0-9_-]+`)

func (p *Project) name(env dotenv.Lookup) {
	name := p.Model.Get("name").or("")
	if v, ok := env("COMPOSE_PROJECT_NAME"); ok && v != "" {
		name = v
	}
	if name == "" {
		name = path.Base(p.Dir)
	}
	p.Name = strings.TrimLeft(unusable.ReplaceAllString(strings.ToLower(name), ""), "_-")
}

type loader struct {
	fsys    fs.FS
	env     dotenv.Lookup
	project *Project
	faults  stack.Faults
}

func (l *loader) file(name string) {
	data, err := fs.ReadFile(l.fsys, name)
	if err != nil {
		text := "the compose file can't be read"
		if errors.Is(err, fs.ErrNotExist) {
			text = "the compose file doesn't exist"
		}
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable, Code: "compose-file", At: stack.Place{File: name}, Text: text, Cause: err,
			Remedy: "Check COMPOSE_FILE, and the file's rights."})
		return
	}
	tree, err := document(name, data)
	if err != nil {
		l.faults = append(l.faults, stack.AllFaults(err)...)
		return
	}
	// Files of the first years had no key services: every key at the top was a service.
	if tree.Kind == Mapping && tree.Get("services") == nil && oldest(tree) {
		all := tree.like(Mapping, "")
		all.Set("services", tree)
		tree = all
		l.project.Remarks = append(l.project.Remarks, stack.Remark{Level: stack.Note, Code: "compose-old-form", At: tree.At(),
			Text: "the file has no key services; each key at its top is read as a service", Remedy: "Put them below services: to follow today's specification."})
	}
	l.interpolate(tree, data)
	n := normaliser{data: data, dir: l.project.Dir}
	tree = n.file(tree)
	l.faults = append(l.faults, n.faults...)
	if len(n.faults) == 0 {
		l.project.Model = merge("", l.project.Model, tree)
	}
}

func oldest(v *Value) bool {
	services := 0
	for _, m := range v.Members {
		if _, known := topLevel[m.Key]; known && m.Key != "version" || strings.HasPrefix(m.Key, "x-") {
			return false
		}
		if m.Value.Get("image") != nil || m.Value.Get("build") != nil {
			services++
		}
	}
	return services > 0
}

// interpolate expands the variables in all values, in place; keys are left as they are.
func (l *loader) interpolate(v *Value, data []byte) {
	switch v.Kind {
	case String:
		out, uses, err := dotenv.Expand(v.Text, l.env)
		if err != nil {
			remedy := "Correct the expression."
			var missing *dotenv.ExpandError
			code := "compose-variable"
			if errors.As(err, &missing) && missing.Variable != "" {
				remedy = fmt.Sprintf("Set %s in the .env file beside the compose file (nharbor fill does), or in the shell.", missing.Variable)
				code = "compose-variable-required"
			}
			l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable, Code: code, At: v.At(), Column: v.Column,
				Text: err.Error(), Line: excerpt(data, v.Line), Remedy: remedy, Cause: err})
			return
		}
		for _, u := range uses {
			if !u.Set && !u.Backed {
				l.project.Unset = append(l.project.Unset, Unset{Name: u.Name, At: v.At()})
			}
		}
		v.Text, v.expanded = out, len(uses) > 0
	case Mapping:
		for _, m := range v.Members {
			l.interpolate(m.Value, data)
		}
	case Sequence:
		for _, item := range v.Items {
			l.interpolate(item, data)
		}
	}
}

// check finds what the services say of things that don't exist, and cycles.
func (p *Project) check() stack.Faults {
	var faults stack.Faults
	fault := func(at stack.Place, code, text, remedy string) {
		faults = append(faults, &stack.Fault{Kind: stack.Unreadable, Code: code, At: at, Text: text, Remedy: remedy})
	}
	services := p.Model.Get("services")
	for _, m := range services.orEmpty().Members {
		s := m.Value
		if s.Get("image") == nil && s.Get("build") == nil && s.Get("provider") == nil && s.Get("extends") == nil {
			fault(stack.Place{File: s.File, Line: m.Line}, "compose-no-image", fmt.Sprintf("the service %s has neither image nor build", m.Key), "Say what it runs: image: or build:.")
		}
		for _, d := range s.Get("depends_on").orEmpty().Members {
			if services.Get(d.Key) == nil && d.Value.Get("required").or("true") == "true" {
				fault(stack.Place{File: d.Value.File, Line: d.Line}, "compose-undefined", fmt.Sprintf("the service %s waits for %s, which no file defines", m.Key, d.Key), "Correct the name, or define the service.")
			}
		}
		for _, d := range s.Get("networks").orEmpty().Members {
			if d.Key != "default" && p.Model.Get("networks").Get(d.Key) == nil {
				fault(stack.Place{File: s.File, Line: d.Line}, "compose-undefined", fmt.Sprintf("the service %s uses the network %s, which no file defines", m.Key, d.Key), "Define it below networks: at the top.")
			}
		}
		for _, v := range s.Get("volumes").orEmpty().Items {
			name := v.Get("source").or("")
			if v.Get("type").or("") == "volume" && name != "" && p.Model.Get("volumes").Get(name) == nil {
				fault(v.At(), "compose-undefined", fmt.Sprintf("the service %s uses the volume %s, which no file defines", m.Key, name), "Define it below volumes: at the top; a folder's path begins with ./ or /.")
			}
		}
	}
	if cycle := dependencyCycle(services); len(cycle) > 0 {
		at := services.Get(cycle[0]).Get("depends_on").At()
		fault(at, "compose-cycle", "services wait for each other: "+strings.Join(cycle, " → "), "Remove one of these depends_on.")
	}
	return faults
}

// orEmpty gives an empty value for nil, so that its members can be walked.
func (v *Value) orEmpty() *Value {
	if v == nil {
		return &Value{}
	}
	return v
}

// dependencyCycle gives the names along the first cycle of depends_on, its beginning again at the end.
func dependencyCycle(services *Value) []string {
	const (
		unseen = iota
		open
		closed
	)
	marks := map[string]int{}
	after := map[string][]string{}
	names := []string{}
	for _, m := range services.orEmpty().Members {
		names = append(names, m.Key)
		for _, d := range m.Value.Get("depends_on").orEmpty().Members {
			after[m.Key] = append(after[m.Key], d.Key)
		}
	}
	type frame struct {
		name string
		next int
	}
	for _, start := range names {
		if marks[start] != unseen {
			continue
		}
		path := []frame{{name: start}}
		marks[start] = open
		for len(path) > 0 {
			top := &path[len(path)-1]
			if top.next == len(after[top.name]) {
				marks[top.name] = closed
				path = path[:len(path)-1]
				continue
			}
			other := after[top.name][top.next]
			top.next++
			switch marks[other] {
			case unseen:
				marks[other] = open
				path = append(path, frame{name: other})
			case open:
				var cycle []string
				for _, f := range path {
					if f.name == other || len(cycle) > 0 {
						cycle = append(cycle, f.name)
					}
				}
				return append(cycle, other)
			}
		}
	}
	return nil
}

// remark names what is read and has no effect on a launch.
func (p *Project) remark() {
	ignored := map[string][]string{} // key: services
	where := map[string]stack.Place{}
	for _, m := range p.Model.Get("services").orEmpty().Members {
		for _, k := range m.Value.Members {
			if !actedOn[k.Key] {
				ignored[k.Key] = append(ignored[k.Key], m.Key)
				if _, ok := where[k.Key]; !ok {
					where[k.Key] = stack.Place{File: k.Value.File, Line: k.Line}
				}
			}
		}
		for _, k := range m.Value.Get("build").orEmpty().Members {
			if !actedOnBuild[k.Key] {
				ignored["build."+k.Key] = append(ignored["build."+k.Key], m.Key)
				where["build."+k.Key] = stack.Place{File: k.Value.File, Line: k.Line}
			}
		}
	}
	for _, top := range []string{"secrets", "configs", "include", "models"} {
		if v := p.Model.Get(top); v != nil {
			ignored[top] = []string{"the whole file"}
			where[top] = v.At()
		}
	}
	for _, key := range slices.Sorted(maps.Keys(ignored)) {
		remedy := "Expect the service to run without it."
		text := fmt.Sprintf("%s is read but has no effect on a launch yet (%s)", key, strings.Join(ignored[key], ", "))
		if key == "container_name" {
			text = fmt.Sprintf("container_name has no effect: containers carry nharbor's own names, so that two copies can run side by side (%s)", strings.Join(ignored[key], ", "))
			remedy = "Other services reach it by its service name."
		}
		p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Note, Code: "compose-key-without-effect", At: where[key], Text: text, Remedy: remedy})
	}
	for _, u := range p.Unset {
		p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Warning, Code: "compose-variable-unset", At: u.At,
			Text:   fmt.Sprintf("the variable %s has no value; it is taken as empty", u.Name),
			Remedy: fmt.Sprintf("Set %s in the .env file beside the compose file, or give a default: ${%s:-value}.", u.Name, u.Name)})
	}
}
