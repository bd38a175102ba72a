package survey

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
)

// wantedSettings finds the settings files of native services for which there is no template, but
// code that insists on what would be in them: the file that the code loads, or its scripts, or else
// the usual one of the service's folder. What no service's code gets to is not asked for.
func (s *settingsFiles) wantedSettings() {
	if s.reader == nil {
		return
	}
	asked := map[stack.Place]bool{} // the places from which some service's code asks
	natives := 0
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		p := s.Stack.Project(svc.Project, svc.Manager)
		if svc.Runs != stack.Native || p == nil || svc.Watches {
			continue
		}
		natives++
		reaches := p.Reaches(svc.Dir())
		if f := ecosystem.FrameworkNamed(p.FrameworkAt(svc.Dir())); f.Browser && !f.API {
			// what runs in a browser takes no more than types from a server's parts
			reaches = append([]string{svc.Dir()}, s.askedDirectly(p, svc.Dir())...)
		}
		if wants := s.insistedOn(svc, p, reaches, asked); len(wants) > 0 {
			s.wantFrom(svc, reaches, wants)
		}
	}
	if natives > 0 {
		s.Stack.Reads = slices.DeleteFunc(s.Stack.Reads, func(r stack.Read) bool {
			return r.Must && !r.Named && !asked[r.At] && s.isPart(r.Project)
		})
	}
	for i := range s.Stack.Reads {
		r := &s.Stack.Reads[i]
		r.Named = r.Named || slices.ContainsFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool {
			return slices.ContainsFunc(e.Wants, func(w stack.Read) bool { return w.Name == r.Name })
		})
	}
	s.Stack.Remarks = append(s.Stack.Remarks, Unnamed(s.Stack.Reads, nil)...)
}

// insistedOn are the variables that a service's code fails without, and that nothing names. Those
// that something above names it reads from there.
func (s *settingsFiles) insistedOn(svc *stack.Service, p *stack.Project, reaches []string,
	asked map[stack.Place]bool) (wants []stack.Read) {
	for _, r := range s.Stack.Reads {
		if !slices.Contains(reaches, r.Project) || !s.getsTo(p, reaches, r, svc.Dir()) {
			continue
		}
		asked[r.At] = true
		_, given := svc.Env[r.Name]
		switch insists := r.Must && !r.Default && !given; {
		case insists && !r.Named:
			wants = append(wants, r)
		case insists && len(svc.EnvFiles) == 0:
			s.readAbove(svc, r)
		}
	}
	return wants
}

// wantFrom has a service's settings file hold what its code insists on, unless a file is there, or
// tells what is to be in it, or is another's.
func (s *settingsFiles) wantFrom(svc *stack.Service, reaches []string, wants []stack.Read) {
	file := s.settingsTarget(svc, reaches)
	known := slices.ContainsFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool {
		return e.Path == file && (e.Present || e.Template != "")
	})
	if known || s.ofAnother(svc, path.Dir(file)) || !fs.ValidPath(file) ||
		settings.FormatOf(file) != settings.Env {
		return
	}
	s.want(svc, file, wants)
}

// ofAnother reports whether a folder is that of another native service of the same project: its
// settings are its own, even where both ask for the same part.
func (s *settingsFiles) ofAnother(svc *stack.Service, dir string) bool {
	return dir != svc.Dir() && slices.ContainsFunc(s.Stack.Services, func(o stack.Service) bool {
		return o.Runs == stack.Native && o.Project == svc.Project && o.Dir() == dir
	})
}

// want lets a service read a file that is yet to be made.
func (s *settingsFiles) want(svc *stack.Service, file string, wants []stack.Read) {
	if !slices.ContainsFunc(svc.EnvFiles, func(r stack.EnvFileRef) bool { return r.Path == file }) {
		svc.EnvFiles = append(svc.EnvFiles,
			stack.EnvFileRef{Path: file, At: stack.Place{File: file}})
	}
	i := slices.IndexFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool { return e.Path == file })
	if i < 0 {
		i = len(s.Stack.EnvFiles)
		s.Stack.EnvFiles = append(s.Stack.EnvFiles, stack.EnvFile{Path: file, Format: settings.Env,
			WantedAt: wants[0].At})
	}
	e := &s.Stack.EnvFiles[i]
	for _, r := range wants {
		if !slices.ContainsFunc(e.Wants, func(o stack.Read) bool { return o.Name == r.Name }) {
			e.Wants = append(e.Wants, r)
		}
	}
	e.Settings, e.Unfilled = len(e.Wants), len(e.Wants)
}

// readAbove lets a service that has no settings file of its own read the nearest one of the folders
// above that names what its code insists on: nothing else gives it that. A file with a PORT is
// somebody's own.
func (s *settingsFiles) readAbove(svc *stack.Service, r stack.Read) {
	for at := path.Dir(svc.Dir()); svc.Dir() != "."; at = path.Dir(at) {
		for _, e := range s.Stack.EnvFiles {
			if path.Dir(e.Path) == at && e.Format == settings.Env &&
				s.Names(&e, r.Name) && !s.Names(&e, "PORT") {
				svc.EnvFiles = append(svc.EnvFiles, stack.EnvFileRef{Path: e.Path, At: r.At})
				return
			}
		}
		if at == "." {
			return
		}
	}
}

// askedDirectly are the folders of the parts that a part asks for itself.
func (s *settingsFiles) askedDirectly(p *stack.Project, dir string) (out []string) {
	for _, part := range p.Parts {
		for _, other := range p.Parts {
			if _, asked := part.Uses[other.Name]; part.Folder == dir && asked && other.Name != "" {
				out = append(out, other.Folder)
			}
		}
	}
	return out
}

// isPart reports whether a folder is a part of a project that others ask for by its name.
func (s *settingsFiles) isPart(folder string) bool {
	return slices.ContainsFunc(s.Stack.Projects, func(p stack.Project) bool {
		return p.Path != folder && slices.Contains(p.Members, folder)
	})
}

var (
	envOption = expr.New(`(?:--env-file(?:-if-exists)?[= ]|\bdotenv(?:x run)? (?:-e|-f) |\benv-cmd -f |` +
		`\bDOTENV_CONFIG_PATH=)["']?([\w./-]+)`)
	entryCode = expr.New(`^(index|main|mod|lib)\.\w+$`)
)

// settingsTarget is the settings file that a native service reads.
func (s *settingsFiles) settingsTarget(svc *stack.Service, reaches []string) string {
	for _, line := range append(slices.Clone(svc.Expands), strings.Join(svc.Command, " ")) {
		if m := envOption.FindStringSubmatch(line); m != nil {
			return path.Join(svc.Dir(), m[1])
		}
	}
	var found []string
	for _, load := range s.Code.Loads {
		base := s.projectOf(path.Dir(load.At.File))
		if !slices.Contains(reaches, base) {
			continue
		}
		if load.Beside {
			base = path.Dir(load.At.File)
		}
		found = append(found, path.Join(base, load.Path))
	}
	if i := slices.IndexFunc(found,
		func(f string) bool { return path.Dir(f) == svc.Dir() }); i >= 0 {
		return found[i]
	}
	names := ecosystem.FrameworkNamed("").SettingsFiles()
	if len(found) > 0 {
		return found[0]
	}
	return path.Join(svc.Dir(), names[0])
}

// getsTo reports whether code that a service reaches asks for the file of another part in which a
// variable is read: by the part's name and the file's own, or by the part's name alone if the file
// is where the part begins.
func (s *settingsFiles) getsTo(p *stack.Project, reaches []string, r stack.Read, own string) bool {
	if r.Project == reaches[0] || !r.Must {
		return true
	}
	i := slices.IndexFunc(p.Parts, func(part stack.Part) bool { return part.Folder == r.Project })
	if i < 0 || p.Parts[i].Name == "" {
		return true
	}
	base := path.Base(r.At.File)
	stem := strings.TrimSuffix(base, path.Ext(base))
	wanted := []string{p.Parts[i].Name + "/" + stem + `"`, p.Parts[i].Name + "/" + stem + `'`}
	if entryCode.MatchString(base) || path.Dir(r.At.File) == r.Project {
		wanted = append(wanted, `"`+p.Parts[i].Name+`"`, `'`+p.Parts[i].Name+`'`)
	}
	module := strings.NewReplacer("-", "_", "/", ".", "@", "").Replace(p.Parts[i].Name)
	wanted = append(wanted, module+"."+stem+" ", module+"."+stem+"\n", module+" import")
	if f := ecosystem.FrameworkNamed(p.FrameworkAt(own)); f.Browser && !f.API {
		reaches = []string{own}
	}
	return s.Mentions.In(reaches, path.Ext(base), wanted)
}
