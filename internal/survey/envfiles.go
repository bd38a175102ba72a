package survey

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
	values "nimbleharbor/internal/value"
)

// settingsFiles finds the settings files, what each is made from, and what the code wants of them.
type settingsFiles struct {
	*facts.Facts
	cover  *demand.Coverage
	reader *code.Reader    // nil if the code is not asked
	homes  map[string]bool // the folders of projects and their members; for the reading of code
}

// envFiles lists the settings files that exist, and those that templates promise.
func (s *settingsFiles) envFiles() {
	for _, t := range s.Tree.Templates {
		if s.filledByProgram(t) {
			continue
		}
		target := t.Target
		if t.LocalOnly && !s.Exists(target) && s.locally(path.Dir(t.Path)) {
			target = path.Join(path.Dir(t.Path), ".env.local")
		}
		s.envFile(target, t.Path)
	}
	for _, f := range s.Tree.Dotenvs {
		s.envFile(f, "")
	}
}

// filledByProgram reports whether a template is one that a program fills in: it is called so, and
// has places for values in a form that no settings file has.
func (s *settingsFiles) filledByProgram(t tree.Template) bool {
	if !strings.Contains(path.Base(t.Path), "mpl") ||
		settings.FormatOf(t.Target) != settings.Other ||
		strings.Contains(path.Base(t.Path), "example") {
		return false
	}
	data, err := s.Files.ReadFile(t.Path)
	return err == nil && len(data) <= readme.MaxSize && placesForValues.Match(data)
}

var placesForValues = expr.New(`(?m)^\$\w+$|\$\{\w+\}|\{\{ ?[\w.-]+ ?\}\}|\{% |<%`)

// locally reports whether what runs in the folder reads .env.local on top of .env.
func (s *settingsFiles) locally(dir string) bool {
	for i := range s.Stack.Projects {
		if p := &s.Stack.Projects[i]; p.Path == dir || slices.Contains(p.Members, dir) {
			return ecosystem.FrameworkNamed(p.FrameworkAt(dir)).Local()
		}
	}
	return false
}

func (s *settingsFiles) envFile(target, template string) {
	s.envFileAs(target, template, settings.FormatOf(target))
}

func (s *settingsFiles) envFileAs(target, template, format string) {
	if slices.ContainsFunc(s.Stack.EnvFiles,
		func(e stack.EnvFile) bool { return e.Path == target }) {
		return
	}
	e := stack.EnvFile{Path: target, Template: template, Format: format, Present: s.Exists(target)}
	source := template
	if e.Present {
		source = target
	}
	d, err := settings.Read(s.Files, source, e.Format)
	if dotenv.Unread(err) {
		s.Faults = append(s.Faults, &stack.Fault{Kind: stack.Unreadable,
			Code: stack.CodeEnvUnreadable,
			At:   stack.Place{File: source}, Text: "the settings file can't be read: " +
				stack.Reason(err), Remedy: "Check its rights.", Cause: err})
	} else if err != nil {
		s.Faults = append(s.Faults, stack.AllFaults(err)...)
	} else {
		e.Format, e.Settings = d.Format, len(d.Entries)
		for _, v := range d.Entries {
			if v.Value == "" || values.Placeholder(v.Value) {
				e.Unfilled++
			}
		}
	}
	s.Stack.EnvFiles = append(s.Stack.EnvFiles, e)
}

// copies takes over what the README says that is to be copied where: a template may lie in another
// folder than the file that is made from it.
func (s *settingsFiles) copies() {
	told := map[string]bool{} // templates of which a README speaks
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			if len(part.Words) == 0 || part.Words[0] != "cp" && part.Words[0] != "copy" {
				continue
			}
			words := slices.DeleteFunc(slices.Clone(part.Words[1:]),
				func(w string) bool { return strings.HasPrefix(w, "-") })
			if dir := path.Join(d.Cwd, part.Folder); len(words) == 2 {
				s.copied(path.Join(dir, words[0]), path.Join(dir, words[1]),
					strings.HasSuffix(words[1], "/"))
				told[path.Join(dir, words[0])] = true
			}
		}
	}
	for _, e := range slices.Clone(s.Stack.EnvFiles) {
		if to := s.readByScripts(path.Dir(e.Path)); to != "" && e.Template != "" && !e.Present &&
			!told[e.Template] && path.Base(e.Path) == ".env" {
			s.copied(e.Template, to, false)
		}
	}
}

// readByScripts is the one settings file that the scripts of a folder's manifest have their
// programs read; empty if they name none, or several.
func (s *settingsFiles) readByScripts(dir string) (file string) {
	for _, part := range ecosystem.PartsCalled(s.Stack.Projects, []string{dir}, dir) {
		for name, lines := range part.Scripts {
			m := envOption.FindStringSubmatch(strings.Join(lines, "\n"))
			if m == nil || otherGoals.MatchString(name) || part.Folder != dir {
				continue
			}
			if to := path.Join(dir, m[1]); file == "" || file == to {
				file = to
			} else {
				return ""
			}
		}
	}
	return file
}

func (s *settingsFiles) copied(from, to string, folder bool) {
	if !fs.ValidPath(from) || !fs.ValidPath(to) || !s.Exists(from) {
		return
	}
	if info, err := fs.Stat(s.Files, to); folder || err == nil && info.IsDir() {
		target, _ := tree.TemplateOf(path.Base(from))
		to = path.Join(to, cmp.Or(target, path.Base(from)))
	}
	base := path.Base(to)
	if !strings.Contains(base, "env") && !tree.IsConfig(base) || from == to {
		return
	}
	// The README's word counts more than the template's name.
	s.Stack.EnvFiles = slices.DeleteFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool {
		return e.Path != to && e.Template == from && onlyByName(&e)
	})
	known := slices.IndexFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool { return e.Path == to })
	switch {
	case known >= 0 && s.Stack.EnvFiles[known].Template == "":
		s.Stack.EnvFiles[known].Template = from
	case known < 0 && !slices.ContainsFunc(s.Stack.EnvFiles,
		func(e stack.EnvFile) bool { return e.Template == from }):
		s.envFile(to, from)
	}
}

// onlyByName reports whether nothing but its template's name speaks for a settings file. One that is
// mine alone can be beside the one that a README makes.
func onlyByName(e *stack.EnvFile) bool {
	return !e.Present && path.Base(e.Path) != ".env.local"
}

// layer adds the files that compose files ask for and nobody has, and tells which files are read
// together.
func (s *settingsFiles) layer() {
	for i := range s.Stack.Services {
		for _, ref := range s.Stack.Services[i].EnvFiles {
			s.namedByService(ref)
		}
	}
	for i := range s.Stack.EnvFiles {
		s.layersOf(&s.Stack.EnvFiles[i])
	}
}

// sampleEndings are what the name of a settings file's template has behind that of the file.
var sampleEndings = []string{"example", "sample", "dist", "template", "tmpl", "default"}

// namedByService adds a settings file that a service names, with a template beside it; it is wanted
// where neither is there. Whatever it is called, it is read as an env file.
func (s *settingsFiles) namedByService(ref stack.EnvFileRef) {
	format := settings.FormatOf(ref.Path)
	if format == settings.Other {
		format = settings.Env
	}
	if s.Exists(ref.Path) && !ref.Raw {
		s.envFileAs(ref.Path, "", format)
	}
	for _, ending := range sampleEndings {
		if template := ref.Path + "." + ending; fs.ValidPath(template) && s.Exists(template) {
			s.envFileAs(ref.Path, template, format)
		}
	}
	known := slices.ContainsFunc(s.Stack.EnvFiles,
		func(e stack.EnvFile) bool { return e.Path == ref.Path })
	if _, err := fs.Stat(s.Files, ref.Path); err != nil && ref.Required &&
		fs.ValidPath(ref.Path) && !known {
		s.Stack.EnvFiles = append(s.Stack.EnvFiles,
			stack.EnvFile{Path: ref.Path, Format: settings.Env, WantedAt: ref.At})
	}
}

// layersOf says which files a framework reads together with a settings file.
func (s *settingsFiles) layersOf(e *stack.EnvFile) {
	dir := path.Dir(e.Path)
	for k := range s.Stack.Projects {
		p := &s.Stack.Projects[k]
		if p.Path != dir && !slices.Contains(p.Members, dir) {
			continue
		}
		framework := p.FrameworkAt(dir)
		names := ecosystem.FrameworkNamed(framework).SettingsFiles()
		if framework != "" && slices.Contains(names, path.Base(e.Path)) {
			for _, name := range names {
				e.Layers = append(e.Layers, path.Join(dir, name))
			}
			return
		}
	}
}

// missingNames finds which of the variables that the code reads are named by settings, their
// templates or services, and remarks on the others.
func (s *settingsFiles) missingNames() {
	named := map[string]bool{}
	for _, e := range s.Stack.EnvFiles {
		for _, file := range []string{e.Path, e.Template} {
			if file == "" {
				continue
			}
			if d, err := settings.Read(s.Files, file, e.Format); err == nil {
				for _, entry := range d.Entries {
					named[entry.Key] = true
				}
			}
		}
	}
	for i := range s.Stack.Services {
		for key := range s.Stack.Services[i].Env {
			named[key] = true
		}
		if img, _ := s.DockerfileOf(&s.Stack.Services[i]); img != nil {
			for _, key := range img.Sets {
				named[key] = true
			}
		}
	}
	for _, v := range s.Stack.Variables {
		named[v.Name] = true
	}
	for i := range s.Stack.Reads {
		s.Stack.Reads[i].Named = named[s.Stack.Reads[i].Name]
	}
}

// Unnamed remarks on the variables that the code reads without a value of its own, and that nobody
// names; given tells which are named since the survey, and may be nil. What the code insists on
// comes first.
func Unnamed(reads []stack.Read, given map[string]bool) (out []stack.Remark) {
	for _, must := range []bool{true, false} {
		byProject := map[string][]string{}
		first := map[string]stack.Place{}
		var order []string
		for _, r := range reads {
			if r.Default || r.Named || given[r.Name] || r.Must != must {
				continue
			}
			if byProject[r.Project] == nil {
				order = append(order, r.Project)
				first[r.Project] = r.At
			}
			byProject[r.Project] = append(byProject[r.Project],
				fmt.Sprintf("%s (%s:%d)", r.Name, r.At.File, r.At.Line))
		}
		for _, project := range order {
			names, more := byProject[project], ""
			if len(names) > 8 {
				more = fmt.Sprintf(" and %d more", len(names)-8)
				names = names[:8]
			}
			r := stack.Remark{Level: stack.Note, Code: stack.CodeVariableInNoTemplate,
				At:     first[project],
				Text:   "the code reads what no settings file and no template names: ",
				Remedy: "If one is needed, give it: nharbor fill --file FILE --set NAME=VALUE"}
			if must {
				r.Level, r.Text = stack.Warning,
					"the code insists on values that no settings file and no template names: "
				r.Remedy = "Give them in the settings file that the program reads: nharbor fill " +
					"--file FILE --set NAME=VALUE"
			}
			r.Text += strings.Join(names, ", ") + more
			out = append(out, r)
		}
	}
	return out
}
