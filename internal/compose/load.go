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
	Included []string // what they include, in turn
	Model    *Value   // merged, interpolated, in the specification's long forms
	Services []Service
	Networks map[string]stack.Network
	Volumes  map[string]stack.Volume
	Unset    []Unset // variables without a value or a default
	Remarks  []stack.Remark
	Secrets  []string // values of secrets that were interpolated

	byName  map[string]int
	sources map[string][]byte // the files' content, for messages
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
	p := &Project{Dir: dir, Files: opt.Files, sources: map[string][]byte{}}
	if len(p.Files) == 0 {
		p.Files = Find(fsys, dir, env)
	}
	if len(p.Files) == 0 {
		return nil, fs.ErrNotExist
	}
	l := loader{fsys: fsys, env: env, project: p, trees: map[string]*Value{}, circling: map[string]bool{}}
	if p.Model = l.model(p.Files, p.Dir, nil); p.Model == nil {
		p.Model = &Value{Kind: Mapping, File: p.Files[0], Line: 1, Column: 1}
	}
	if faults := append(l.faults, p.check()...); len(faults) > 0 {
		slices.SortStableFunc(faults, func(a, b *stack.Fault) int {
			if c := strings.Compare(a.At.File, b.At.File); c != 0 {
				return c
			}
			return a.At.Line - b.At.Line
		})
		return nil, faults
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
	p.decode(profiles, env)
	p.remark()
	return p, nil
}

var unusable = regexp.MustCompile(`[^a-z0-9_-]+`)

func (p *Project) name(env dotenv.Lookup) {
	name := p.Model.Get("name").or("")
	if v, ok := env("COMPOSE_PROJECT_NAME"); ok && v != "" {
		name = v
	}
	if name == "" && p.Dir != "." { // the name of the root itself is known to the caller only
		name = path.Base(p.Dir)
	}
	if name != "" {
		p.Name = NameOf(name)
	}
}

// NameOf makes a project's name of a folder's, as the specification allows it: of small letters, digits,
// dashes and underscores, with a letter or a digit first.
func NameOf(folder string) string {
	folder = strings.ToLower(path.Base(strings.ReplaceAll(folder, `\`, "/")))
	return strings.TrimLeft(unusable.ReplaceAllString(folder, ""), "_-")
}

// Section puts the members of a top-level key of several models together.
func Section(models []*Value, key string) *Value {
	out := &Value{Kind: Mapping}
	for _, m := range models {
		for _, member := range m.Get(key).orEmpty().Members {
			if member.Value.Kind == Null {
				member.Value = member.Value.like(Mapping, "")
			}
			out.Members = append(out.Members, member)
		}
	}
	return out
}

type loader struct {
	fsys    fs.FS
	env     dotenv.Lookup
	project *Project
	faults  stack.Faults
	open    []string          // the files that are being included, outermost first
	trees   map[string]*Value // files read for extends, by name
	// circling are the services, with their files, that are known to extend each other in a circle.
	circling map[string]bool
}

func (l *loader) fault(v *Value, code, text, remedy string) {
	l.faults = append(l.faults, l.project.fault(v.At(), v.Column, code, text, remedy))
}

// fault is one with the line that it is about.
func (p *Project) fault(at stack.Place, column int, code, text, remedy string) *stack.Fault {
	return &stack.Fault{Kind: stack.Unreadable, Code: code, At: at, Column: column, Text: text, Line: excerpt(p.sources[at.File], at.Line), Remedy: remedy}
}

// model reads files that belong together and merges them, each on top of what it includes and of those
// before. by is what names them, where another file does.
func (l *loader) model(files []string, dir string, by *Value) *Value {
	var model *Value
	for _, name := range files {
		tree := l.file(name, dir, by)
		if tree == nil {
			continue
		}
		includes := tree.Get("include")
		tree.Remove("include")
		for _, inc := range includes.orEmpty().Items {
			if sub := l.include(name, inc); sub != nil {
				l.conflicts(inc, sub, tree)
				model = merge("", model, sub)
			}
		}
		if services := tree.Get("services"); services != nil {
			for i := range services.Members {
				services.Members[i].Value = l.extend(tree, services.Members[i].Key, nil)
			}
		}
		model = merge("", model, tree)
	}
	return model
}

// outside reports whether a path leaves the file system that is read, and remarks it.
func (l *loader) outside(v *Value, name string) bool {
	if fs.ValidPath(name) {
		return false
	}
	l.project.Remarks = append(l.project.Remarks, stack.Remark{Level: stack.Problem, Code: "compose-outside", At: v.At(),
		Text: fmt.Sprintf("%s lies outside the workspace and is not read", name), Remedy: "Bring it into the workspace, or clone what it belongs to beside this checkout."})
	return true
}

// include reads what one item of include names, as a model of its own.
func (l *loader) include(by string, inc *Value) *Value {
	var files []string
	for _, p := range inc.Get("path").orEmpty().Items {
		if l.outside(p, p.Text) {
			return nil
		}
		if slices.Contains(append(l.open, by), p.Text) {
			l.fault(p, "compose-cycle", "files include each other: "+strings.Join(append(append(l.open[slices.Index(append(l.open, by), p.Text):], by), p.Text), " → "), "Remove one of these includes.")
			return nil
		}
		files = append(files, p.Text)
	}
	if len(files) == 0 {
		return nil
	}
	dir := inc.Get("project_directory").or(path.Dir(files[0]))
	envFiles := list(inc.Get("env_file"))
	if envFiles == nil {
		envFiles = []string{path.Join(dir, ".env")}
	}
	own := map[string]string{}
	for _, name := range envFiles {
		data, err := fs.ReadFile(l.fsys, name)
		if err != nil {
			if inc.Get("env_file") != nil {
				l.fault(inc.Get("env_file"), "compose-file", fmt.Sprintf("%s can't be read: it doesn't exist, or you may not", name), "Correct the path.")
			}
			continue
		}
		f, err := dotenv.Parse(name, data)
		if err != nil {
			l.faults = append(l.faults, stack.AllFaults(err)...)
			continue
		}
		values, err := f.Values(l.env)
		if err != nil {
			l.faults = append(l.faults, stack.AllFaults(err)...)
			continue
		}
		maps.Copy(own, values)
	}
	sub := *l
	sub.faults, sub.open = nil, append(slices.Clone(l.open), by)
	sub.env = func(name string) (string, bool) {
		if v, ok := l.env(name); ok {
			return v, true
		}
		v, ok := own[name]
		return v, ok
	}
	model := sub.model(files, dir, inc.Get("path"))
	l.faults = append(l.faults, sub.faults...)
	l.project.Included = append(l.project.Included, files...)
	if model != nil {
		model.Remove("name")
		model.Remove("version")
	}
	return model
}

// conflicts finds what a file defines anew, and otherwise, although it includes it.
func (l *loader) conflicts(inc, sub, tree *Value) {
	for _, section := range []string{"services", "networks", "volumes", "secrets", "configs"} {
		for _, m := range sub.Get(section).orEmpty().Members {
			own := tree.Get(section).Get(m.Key)
			if own == nil {
				continue
			}
			a, errA := own.MarshalJSON()
			b, errB := m.Value.MarshalJSON()
			if errA != nil || errB != nil || string(a) != string(b) {
				l.fault(own, "compose-conflict", fmt.Sprintf("%s.%s is defined here and, otherwise, in the included %s:%d", section, m.Key, m.Value.File, m.Line), "Change an included service in an override file, or rename one of the two.")
			}
		}
	}
}

// extend gives a service with all that it extends merged below it.
func (l *loader) extend(tree *Value, name string, way []string) *Value {
	services := tree.Get("services")
	s := services.Get(name)
	ext := s.Get("extends")
	if ext == nil || ext.Kind != Mapping {
		return s
	}
	step := s.File + " " + name
	if l.circling[step] {
		return s
	}
	if slices.Contains(way, step) {
		for _, w := range way {
			l.circling[w] = true
		}
		l.fault(ext, "compose-cycle", "services extend each other: "+strings.Join(append(way[slices.Index(way, step):], step), " → "), "Remove one of these extends.")
		return s
	}
	way = append(way, step)
	base := ext.Get("service").or("")
	from := tree
	if file := ext.Get("file"); file != nil {
		if l.outside(file, file.Text) {
			return s
		}
		var ok bool
		if from, ok = l.trees[file.Text]; !ok {
			from = l.file(file.Text, path.Dir(file.Text), file)
			l.trees[file.Text] = from
		}
		if from == nil {
			return s
		}
	}
	if from.Get("services").Get(base) == nil {
		l.fault(ext, "compose-undefined", fmt.Sprintf("the service %s extends %s, which %s does not define", name, base, from.File), "Correct the name or the file.")
		return s
	}
	own := s.shallow()
	own.Remove("extends")
	return merge("service", l.extend(from, base, way).copy(), own)
}

// file reads one file: parsed, interpolated, and in the long forms. It is nil if the file can't be read.
func (l *loader) file(name, dir string, by *Value) *Value {
	if !fs.ValidPath(name) {
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable, Code: "compose-outside", At: stack.Place{File: name}, Text: "COMPOSE_FILE names a file outside of the workspace, or by its absolute path, which is not read",
			Remedy: "Name it relative to this folder; bring it into the workspace if it lies outside."})
		return nil
	}
	var data []byte
	info, err := fs.Stat(l.fsys, name)
	if err == nil && info.Size() > maxBytes {
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable, Code: "compose-syntax", At: stack.Place{File: name},
			Text: fmt.Sprintf("the file has %d MB; a compose file of more than %d MB isn't read", info.Size()>>20, maxBytes>>20), Remedy: "Split it, or check what was put there."})
		return nil
	}
	if err == nil {
		data, err = fs.ReadFile(l.fsys, name)
	}
	if err != nil {
		text := "the compose file can't be read"
		if errors.Is(err, fs.ErrNotExist) {
			text = "the compose file doesn't exist"
		}
		f := &stack.Fault{Kind: stack.Unreadable, Code: "compose-file", At: stack.Place{File: name}, Text: text, Cause: err, Remedy: "Check COMPOSE_FILE, and the file's rights."}
		if by != nil {
			f.At, f.Column, f.Text, f.Remedy = by.At(), by.Column, strings.Replace(text, "the compose file", "the file "+name, 1), "Correct the path, or bring the file in."
		}
		l.faults = append(l.faults, f)
		return nil
	}
	l.project.sources[name] = data
	tree, err := document(name, data)
	if err != nil {
		l.faults = append(l.faults, stack.AllFaults(err)...)
		return nil
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
	n := normaliser{data: data, dir: dir}
	tree = n.file(tree)
	l.faults = append(l.faults, n.faults...)
	return tree // with faults too, so that what is wrong between services is found in the same go
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

// shortestSecret is from where on a secret is looked for in texts: a shorter one would hide ordinary words.
const shortestSecret = 4

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
			if value, set := l.env(u.Name); set && dotenv.IsSecret(u.Name, "") && len(value) >= shortestSecret && !slices.Contains(l.project.Secrets, value) {
				l.project.Secrets = append(l.project.Secrets, value)
			}
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
		faults = append(faults, p.fault(at, 0, code, text, remedy))
	}
	services := p.Model.Get("services")
	for _, m := range services.orEmpty().Members {
		s := m.Value
		if s.Kind != Mapping {
			continue // which was said already
		}
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
		for _, section := range []string{"secrets", "configs"} {
			for _, v := range slices.Concat(s.Get(section).orEmpty().Items, s.Get("build").Get(section).orEmpty().Items) {
				if name := v.Get("source").or(""); name != "" && p.Model.Get(section).Get(name) == nil {
					fault(v.At(), "compose-undefined", fmt.Sprintf("the service %s uses the %s %s, which no file defines", m.Key, strings.TrimSuffix(section, "s"), name), fmt.Sprintf("Define it below %s: at the top.", section))
				}
			}
		}
		for _, key := range []string{"network_mode", "ipc", "pid"} {
			if other, ok := strings.CutPrefix(s.Get(key).or(""), "service:"); ok && services.Get(other) == nil {
				fault(s.Get(key).At(), "compose-undefined", fmt.Sprintf("the %s of the service %s names the service %s, which no file defines", key, m.Key, other), "Correct the name, or define the service.")
			}
		}
		if s.Get("network_mode") != nil && s.Get("networks") != nil {
			fault(s.Get("network_mode").At(), "compose-conflict", fmt.Sprintf("the service %s has both network_mode and networks", m.Key), "Keep one of the two.")
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
	for _, top := range []string{"secrets", "configs", "models"} {
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
	p.clashes()
	p.leaving()
	for _, u := range p.Unset {
		p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Warning, Code: "compose-variable-unset", At: u.At,
			Text:   fmt.Sprintf("the variable %s has no value; it is taken as empty", u.Name),
			Remedy: fmt.Sprintf("Set %s in the .env file beside the compose file, or give a default: ${%s:-value}.", u.Name, u.Name)})
	}
}

// clashes finds ports of this machine that two active services publish.
func (p *Project) clashes() {
	type portKey struct {
		transport string
		port      int
	}
	type holder struct{ ip, service string }
	taken := map[portKey][]holder{}
	for i := range p.Services {
		s := &p.Services[i]
		if !s.Active {
			continue
		}
		for _, port := range s.Ports {
			if port.Host == 0 {
				continue
			}
			ip := port.HostIP
			if ip == "" || ip == "::" {
				ip = "0.0.0.0"
			}
			at := portKey{port.Transport, port.Host}
			for _, held := range taken[at] {
				if held.service != s.Name && (held.ip == ip || held.ip == "0.0.0.0" || ip == "0.0.0.0") {
					p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Problem, Code: "port-twice", At: port.At,
						Text: fmt.Sprintf("%s and %s both want port %d of this machine", held.service, s.Name, port.Host), Remedy: "Change one of the two published ports."})
				}
			}
			taken[at] = append(taken[at], holder{ip, s.Name})
		}
	}
}

// leaving names what services read or mount from outside of the workspace by a path that leads out of it.
func (p *Project) leaving() {
	out := func(name string) bool { return name == ".." || strings.HasPrefix(name, "../") }
	for i := range p.Services {
		s := &p.Services[i]
		remark := func(at stack.Place, does, name string) {
			p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Warning, Code: "path-outside", At: at,
				Text: fmt.Sprintf("%s %s %s, outside of the workspace", s.Name, does, name), Remedy: "nharbor vouch shows it, and nothing is read before you have agreed."})
		}
		if out(s.Build) {
			remark(s.At, "is built from", s.Build)
		}
		for _, e := range s.EnvFiles {
			if out(e.Path) {
				remark(e.At, "reads the settings in", e.Path)
			}
		}
		for _, m := range s.Container.Mounts {
			if m.Type == "bind" && out(m.Source) {
				remark(m.At, "mounts", m.Source)
			}
		}
	}
}
