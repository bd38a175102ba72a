package facts

import (
	"cmp"
	"nimbleharbor/internal/expr"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// OfPackages reports whether a command's program is one of the packages that the folder's project
// asks for.
func (f *Facts) OfPackages(words []string, cwd string) bool {
	usual := ecosystem.Canonical(words)
	if len(usual) == 0 {
		return false
	}
	return slices.ContainsFunc(f.Stack.Projects, func(p stack.Project) bool {
		return slices.ContainsFunc(p.Parts, func(part stack.Part) bool {
			_, asked := part.Uses[usual[0]]
			return asked && part.Folder == cwd
		})
	})
}

// Brings reports whether the project of a folder brings a program of that name: one that an install
// makes, or a module that an interpreter is told to run.
func (f *Facts) Brings(program, folder string) bool {
	if f.isModule(program, folder) {
		return true
	}
	return slices.ContainsFunc(f.Stack.Projects, func(p stack.Project) bool {
		return slices.ContainsFunc(p.Parts, func(part stack.Part) bool {
			return part.Folder == folder && slices.Contains(part.Programs, program)
		})
	})
}

// isModule reports whether a name is that of a module of the folder which runs as a program: the
// main one of a package, or one below a package.
func (f *Facts) isModule(name, folder string) bool {
	if !moduleName.MatchString(name) {
		return false
	}
	file := strings.ReplaceAll(name, ".", "/")
	for _, root := range []string{"", "src"} {
		if base := path.Join(folder, root, file); f.Exists(path.Join(base, "__main__.py")) ||
			strings.Contains(name, ".") && f.Exists(base+".py") {
			return true
		}
	}
	return false
}

var moduleName = expr.New(`^[A-Za-z_]\w*(\.\w+)*$`)

// ProgramOf are the names by which people call the program that a native service compiles and runs,
// and the words that it is given; no names for other services.
func (f *Facts) ProgramOf(v *stack.Service) (names, given []string) {
	program, given, ok := ecosystem.ProgramRun(v.NativeCommand)
	if !ok || v.Runs != stack.Native {
		return nil, nil
	}
	if program != "" {
		names = append(names, program)
	}
	if p := f.Stack.Project(v.Project, v.Manager); p != nil && p.Name != "" {
		names = append(names, path.Base(p.Name))
	}
	return names, given
}

// Alone is what a manager does in the folder when it is called without words.
func (f *Facts) Alone(cwd, program string) []string {
	for i := range f.Stack.Projects {
		if p := &f.Stack.Projects[i]; p.Path == cwd &&
			p.Manager == ecosystem.ManagerOf(program).Name {
			return p.Alone
		}
	}
	return nil
}

// IsActive reports whether a compose file is one of those that a launch goes by, or all of its
// services are taken from it by one of those.
func (f *Facts) IsActive(file string) bool {
	if slices.ContainsFunc(f.Stack.ComposeFiles,
		func(f stack.ComposeFile) bool { return f.Path == file && f.Active }) {
		return true
	}
	if !slices.ContainsFunc(f.Stack.Services,
		func(v stack.Service) bool { return v.At.File == file }) {
		return false
	}
	p, _ := f.Compose(path.Dir(file), []string{file})
	return p != nil && !slices.ContainsFunc(p.Services, func(c compose.Service) bool {
		return c.Active && !slices.ContainsFunc(f.Stack.Services,
			func(v stack.Service) bool { return v.Name == c.Name && v.At.File == file })
	})
}

// Names reports whether a settings file or its template has a setting.
func (f *Facts) Names(e *stack.EnvFile, key string) bool {
	return slices.ContainsFunc([]string{e.Path, e.Template}, func(file string) bool {
		_, f := f.Values(file)
		return f != nil && slices.ContainsFunc(f.Settings,
			func(set dotenv.Setting) bool { return set.Key == key })
	})
}

// ContainerOf is the service whose container holds the folder's program as it is here, built or
// mounted.
func (f *Facts) ContainerOf(dir string) stack.Doer {
	for i := range f.Stack.Services {
		v := &f.Stack.Services[i]
		if v.Runs == stack.Container && (v.Build == dir || v.Home == dir &&
			(v.Build != "" || v.Mounts(dir))) {
			return stack.ByNode(stack.ServiceNode(v.Name))
		}
	}
	return ""
}

// ServiceAt is what serves the project of the folder, unless that is of another ecosystem than the
// command.
func (f *Facts) ServiceAt(cwd string, of *ecosystem.Ecosystem) stack.Doer {
	var below []stack.Doer
	for i := range f.Stack.Services {
		v := &f.Stack.Services[i]
		at := placeOf(v)
		if at == "" || v.Kind == stack.Once {
			continue
		}
		if p := f.Stack.Project(v.Project, v.Manager); p != nil && of != nil &&
			p.Ecosystem != of.Name {
			continue
		}
		if at == cwd {
			return stack.ByNode(stack.ServiceNode(v.Name))
		}
		if own := f.OwnProject(cwd, of); own != nil && own.Path != v.Project && own.Serve == nil {
			continue // what that folder's project would serve is something else
		}
		if cwd == "." || strings.HasPrefix(at, cwd+"/") {
			below = append(below, stack.ByNode(stack.ServiceNode(v.Name)))
		}
	}
	switch len(below) {
	case 0:
		return ""
	case 1:
		return below[0]
	}
	return "launch"
}

// placeOf is the folder whose program a service is; empty if it is none of the checkout's.
func placeOf(v *stack.Service) string {
	if v.Runs == stack.Native {
		return v.Dir()
	}
	return cmp.Or(v.Home, v.Build)
}

// OwnProject is the project of a language that lies in a folder itself; nil if there is none.
func (f *Facts) OwnProject(dir string, of *ecosystem.Ecosystem) *stack.Project {
	for i := range f.Stack.Projects {
		if p := &f.Stack.Projects[i]; p.Path == dir && of != nil && p.Ecosystem == of.Name {
			return p
		}
	}
	return nil
}
