package compose

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"runtime/debug"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// Options say how a folder's compose files are read.
type Options struct {
	Files    []string      // instead of those that Find finds
	Env      dotenv.Lookup // the shell's variables; nil for none
	Beside   string        // what stands for the .env file, as long as there is none: its template
	Profiles []string      // active ones, besides COMPOSE_PROFILES
	// what the folder of the file system's root is called; empty where that isn't known
	Folder string
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
	Unset    []stack.Variable // variables without a value or a default
	Remarks  []stack.Remark
	Secrets  []string // values of secrets that were interpolated

	byName  map[string]int
	from    sources
	sources map[string][]byte // the files' content, for messages
}

// Load reads the compose files of dir. Its error is stack.Faults with everything that is wrong, or
// an error of the file system; without any compose file it is fs.ErrNotExist. Where nothing is
// wrong but that variables have no value which must have one, the project is there too, with those
// variables empty.
func Load(fsys fs.FS, dir string, opt Options) (*Project, error) {
	shell := opt.Env
	if shell == nil {
		shell = func(string) (string, bool) { return "", false }
	}
	beside := map[string]string{}
	envName := cmp.Or(opt.Beside, path.Join(dir, ".env"))
	if f, err := dotenv.Read(fsys, envName); !dotenv.Unread(err) {
		if err == nil {
			beside, err = f.Values(shell)
		}
		if err != nil && opt.Beside == "" { // of a template it is told where the template is
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
	p := &Project{Dir: dir, Files: opt.Files, sources: map[string][]byte{},
		from: sources{fsys: fsys, shell: shell,
			beside: beside, file: envName, lines: map[string]int{},
			waived:  commentedOut(fsys, envName),
			expands: map[string]*dotenv.File{}}}
	if f := p.envFile(envName); f != nil {
		for _, s := range f.Settings {
			p.from.lines[s.Key] = s.Line
		}
	}
	if len(p.Files) == 0 {
		p.Files = Find(fsys, dir, env)
	}
	if len(p.Files) == 0 {
		return nil, fs.ErrNotExist
	}
	l := loader{fsys: fsys, env: env, project: p, trees: map[string]*Value{},
		circling: map[string]bool{}, parsed: map[string]*Value{}}
	if l.heavy() { // what is read stays, and would be held twice until a collection that comes late
		defer debug.SetGCPercent(debug.SetGCPercent(tight))
	}
	l.name(shell, opt.Folder)
	if p.Model = l.model(p.Files, p.Dir, nil); p.Model == nil {
		p.Model = &Value{Kind: Mapping, File: p.Files[0], Line: 1, Column: 1}
	}
	complete(p.Model)
	faults := p.faults(l.faults)
	if slices.ContainsFunc(faults,
		func(f *stack.Fault) bool { return f.Code != stack.CodeComposeVariableRequired }) {
		return nil, faults
	}
	named, _ := env("COMPOSE_PROFILES")
	p.decode(append(slices.Clone(opt.Profiles), strings.FieldsFunc(named,
		func(r rune) bool { return r == ',' || r == ' ' })...), env)
	p.remark()
	if len(faults) > 0 {
		return p, faults
	}
	return p, nil
}

// faults are what is wrong with a project, in the order of the places. What can't be known since a
// variable is missing was said already.
func (p *Project) faults(loading stack.Faults) stack.Faults {
	faults := append(loading, slices.DeleteFunc(p.check(), func(f *stack.Fault) bool {
		return slices.ContainsFunc(loading, func(v *stack.Fault) bool {
			return v.Code == stack.CodeComposeVariableRequired && v.At == f.At
		})
	})...)
	slices.SortStableFunc(faults, func(a, b *stack.Fault) int {
		return cmp.Or(strings.Compare(a.At.File, b.At.File), a.At.Line-b.At.Line, a.Column-b.Column)
	})
	return faults
}

var unusable = expr.New(`[^a-z0-9_-]+`)

// heavyFiles are so many bytes that their values take a noticeable part of a machine's memory;
// tight is how much may be added, in percent, before memory is collected while they are read.
const (
	heavyFiles = 4 << 20
	tight      = 25
)

// heavy reports whether the files are large together.
func (l *loader) heavy() bool {
	total := int64(0)
	for _, name := range l.project.Files {
		if fs.ValidPath(name) {
			if info, err := fs.Stat(l.fsys, name); err == nil {
				total += info.Size()
			}
		}
	}
	return total > heavyFiles
}

// name finds the project's name before anything else is read, since the files may ask for it: what
// the environment says, else the last file that has one, else the folder.
func (l *loader) name(shell dotenv.Lookup, folder string) {
	const variable = "COMPOSE_PROJECT_NAME"
	p, outer := l.project, l.env
	name, _ := outer(variable)
	for _, file := range p.Files {
		if name != "" && !fs.ValidPath(file) {
			break
		}
		if given := l.parse(file).Get("name"); given.Scalar() {
			if text, _, err := dotenv.Expand(given.Text, outer); err == nil {
				name = text
			}
		}
	}
	if told, _ := outer(variable); told != "" {
		name = told
	}
	switch {
	case name != "":
	case p.Dir != ".":
		name = path.Base(p.Dir)
	default:
		name = folder
	}
	if name == "" {
		return
	}
	p.Name = NameOf(name)
	l.env = func(asked string) (string, bool) {
		if asked == variable {
			return p.Name, true
		}
		return outer(asked)
	}
}

// parse reads a file as it stands, once; nil for one that can't be read, of which file tells why.
func (l *loader) parse(name string) *Value {
	if tree, ok := l.parsed[name]; ok {
		return tree
	}
	if !fs.ValidPath(name) {
		return nil
	}
	info, err := fs.Stat(l.fsys, name)
	if err != nil || info.Size() > maxBytes {
		return nil
	}
	data, err := fs.ReadFile(l.fsys, name)
	if err != nil {
		return nil
	}
	tree, err := document(name, data)
	if err != nil {
		return nil
	}
	l.project.sources[name], l.parsed[name] = data, tree
	return tree
}

// NameOf makes a project's name of a folder's, as the specification allows it: of small letters,
// digits, dashes and underscores, with a letter or a digit first.
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
	expanded int // bytes of values that variables were put into
	fsys     fs.FS
	env      dotenv.Lookup
	parsed   map[string]*Value // files that were parsed and not yet taken up
	project  *Project
	faults   stack.Faults
	open     []string          // the files that are being included, outermost first
	trees    map[string]*Value // files read for extends, by name
	// circling are the services, with their files, that are known to extend each other in a circle.
	circling map[string]bool
}

func (l *loader) fault(v *Value, code stack.Code, text, remedy string) {
	l.faults = append(l.faults, l.project.fault(v.At(), v.Column, code, text, remedy))
}

// fault is one with the line that it is about.
func (p *Project) fault(at stack.Place, column int, code stack.Code, text,
	remedy string) *stack.Fault {
	return &stack.Fault{Kind: stack.Unreadable, Code: code, At: at, Column: column, Text: text,
		Line: excerpt(p.sources[at.File], at.Line), Remedy: remedy}
}

// model reads files that belong together and merges them, each on top of what it includes and of
// those before. by is what names them, where another file does.
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
	contexts(model, dir)
	return model
}

// file reads one file: parsed, interpolated, and in the long forms. It is nil if the file can't be
// read.
func (l *loader) file(name, dir string, by *Value) *Value {
	if !fs.ValidPath(name) {
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable,
			Code: stack.CodeComposeOutside, At: stack.Place{File: name},
			Text: "COMPOSE_FILE names a file outside of the workspace, or by its absolute " +
				"path, which is not read",
			Remedy: "Name it relative to this folder; bring it into the workspace if it lies " +
				"outside."})
		return nil
	}
	if tree := l.parse(name); tree != nil {
		delete(l.parsed, name) // since it is changed in place
		return l.canonical(tree, dir)
	}
	var data []byte
	info, err := fs.Stat(l.fsys, name)
	if err == nil && info.Size() > maxBytes {
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable,
			Code: stack.CodeComposeSyntax, At: stack.Place{File: name},
			Text: fmt.Sprintf("the file has %d MB; a compose file of more than %d MB isn't read",
				info.Size()>>20, maxBytes>>20), Remedy: "Split it, or check what was put there."})
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
		f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeComposeFile,
			At: stack.Place{File: name}, Text: text,
			Cause: err, Remedy: "Check COMPOSE_FILE, and the file's rights."}
		if by != nil {
			f.At, f.Column, f.Text, f.Remedy = by.At(), by.Column,
				strings.Replace(text, "the compose file", "the file "+name, 1),
				"Correct the path, or bring the file in."
		}
		l.faults = append(l.faults, f)
		return nil
	}
	l.project.sources[name] = data
	_, err = document(name, data)
	l.faults = append(l.faults, stack.AllFaults(err)...)
	return nil
}

// canonical takes a parsed file into the long forms, in which nothing is filled in yet.
func (l *loader) canonical(tree *Value, dir string) *Value {
	data := l.project.sources[tree.File]
	// Files of the first years had no key services: every key at the top was a service.
	if tree.Kind == Mapping && tree.Get("services") == nil && oldest(tree) {
		all := tree.like(Mapping, "")
		all.Set("services", tree)
		tree = all
		l.project.Remarks = append(l.project.Remarks,
			stack.Remark{Level: stack.Note, Code: stack.CodeComposeOldForm, At: tree.At(),
				Text:   "the file has no key services; each key at its top is read as a service",
				Remedy: "Put them below services: to follow today's specification."})
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
		if _, known := topLevel[m.Key]; known && m.Key != "version" ||
			strings.HasPrefix(m.Key, "x-") {
			return false
		}
		if m.Value.Get("image") != nil || m.Value.Get("build") != nil {
			services++
		}
	}
	return services > 0
}

// shortestSecret is from where on a secret is looked for in texts: a shorter one would hide
// ordinary words.
const shortestSecret = 4

// oneVariable is a text that is a variable and nothing else; behindKey is one with a key and =
// before it.
var (
	oneVariable = expr.New(`^\$(\w+|\{\w+([:?+-].*)?\})$`)
	behindKey   = expr.New(`^[A-Za-z_][\w.-]*=\$(\w+|\{\w+([:?+-].*)?\})$`)
)

// maxExpanded is how many bytes the values of all files may come to that variables are put into.
const maxExpanded = 32 << 20

// interpolate expands the variables in all values, in place; keys are left as they are.
func (l *loader) interpolate(v *Value, data []byte) {
	switch v.Kind {
	case String:
		if l.expanded > maxExpanded { // told once
			return
		}
		out, uses, err := dotenv.Expand(v.Text, l.env)
		if len(uses) > 0 {
			if l.expanded += len(out); err == nil && l.expanded > maxExpanded {
				err = fmt.Errorf("with its variables the file grows beyond %d bytes", maxExpanded)
			}
		}
		if err != nil {
			l.notExpanded(v, err, data)
			return
		}
		for _, u := range uses {
			if value, set := l.env(u.Name); set && values.IsSecret(u.Name, "") &&
				len(value) >= shortestSecret && !slices.Contains(l.project.Secrets, value) {
				l.project.Secrets = append(l.project.Secrets, value)
			}
			if !u.Set && !u.Backed && !l.project.from.waived[u.Name] {
				l.project.Unset = append(l.project.Unset, stack.Variable{Name: u.Name, At: v.At()})
			}
		}
		if len(uses) > 0 && oneVariable.MatchString(v.Text) {
			v.set(func(r *rare) { r.variable = uses[0].Name })
		}
		if len(uses) > 0 && behindKey.MatchString(v.Text) {
			v.set(func(r *rare) { r.behind = uses[0].Name })
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

// notExpanded tells why a value could not be expanded: every variable that it needs and that has no
// value.
func (l *loader) notExpanded(v *Value, err error, data []byte) {
	fault := func(code stack.Code, err error, remedy string) {
		l.faults = append(l.faults, &stack.Fault{Kind: stack.Unreadable, Code: code, At: v.At(),
			Column: v.Column,
			Text:   err.Error(), Line: excerpt(data, v.Line), Remedy: remedy, Cause: err})
	}
	var first *dotenv.ExpandError
	if !errors.As(err, &first) || first.Variable == "" {
		fault(stack.CodeComposeVariable, err, "Correct the expression.")
		return
	}
	told := map[string]bool{}
	for _, missing := range append([]*dotenv.ExpandError{first}, first.More...) {
		if told[missing.Variable] {
			continue
		}
		told[missing.Variable] = true
		l.project.Unset = append(l.project.Unset,
			stack.Variable{Name: missing.Variable, At: v.At(), Required: true, Says: missing.Says})
		fault(stack.CodeComposeVariableRequired, missing, fmt.Sprintf(
			"Set %s in the .env file beside the compose file (nharbor fill does), or in the "+
				"shell.", missing.Variable))
	}
	v.Text, v.expanded = "", true
	v.set(func(r *rare) { r.variable = first.Variable })
}

// orEmpty gives an empty value for nil, so that its members can be walked.
func (v *Value) orEmpty() *Value {
	if v == nil {
		return &Value{}
	}
	return v
}

// outCommented is a setting that a settings file has as a comment.
var outCommented = expr.New(`(?m)^[ \t]*#[ \t]*(?:export[ \t]+)?([A-Za-z_]\w*)=`)

// commentedOut are the names of the settings that a settings file has in comments: it says that one
// may do without them.
func commentedOut(fsys fs.FS, file string) map[string]bool {
	names := map[string]bool{}
	data, err := fs.ReadFile(fsys, file)
	if err != nil {
		return names
	}
	for _, m := range outCommented.FindAllSubmatch(data, -1) {
		names[string(m[1])] = true
	}
	return names
}
