package compose

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
)

// Given tells where a setting of a container's environment is from.
type Given struct {
	At       stack.Place `json:"at,omitzero"`         // the line that sets it
	Variable string      `json:"variable,omitempty"`  // whose value it is, where it is that of one variable
	By       string      `json:"by,omitempty"`        // what gives that variable its value: "shell" or a file
	ByLine   int         `json:"byLine,omitempty"`    // of the file
	Default  bool        `json:"byDefault,omitempty"` // the variable has no value, and the line's own default stands in
}

func (g Given) String() string {
	out := fmt.Sprintf("%s:%d", g.At.File, g.At.Line)
	if g.At.IsZero() {
		out = ""
	}
	switch {
	case g.Variable == "":
		return out
	case g.Default:
		return out + ", the default of " + g.Variable
	case g.By == "":
		return out + ", " + g.Variable + " has no value"
	case g.ByLine > 0:
		return fmt.Sprintf("%s, %s in %s:%d", out, g.Variable, g.By, g.ByLine)
	}
	return fmt.Sprintf("%s, %s in the %s", out, g.Variable, g.By)
}

// sources are where variables get their values.
type sources struct {
	fsys    fs.FS
	shell   dotenv.Lookup
	beside  map[string]string
	file    string         // the .env file beside the compose file
	lines   map[string]int // of its settings
	expands map[string]*dotenv.File
	waived  map[string]bool // settings that the file beside has as comments
}

// of completes where a variable's value is from.
func (s *sources) of(g Given, variable string) Given {
	g.Variable = variable
	if _, ok := s.shell(variable); ok {
		g.By = "shell"
	} else if _, ok := s.beside[variable]; ok {
		g.By, g.ByLine = s.file, s.lines[variable]
	}
	return g
}

// Environment is what a service's container gets in addition to its image's environment: its env
// files in their order, and above them what stands in the compose file, all variables replaced. A
// file that can't be read gives nothing.
func (p *Project) Environment(name string) (values map[string]string, from map[string]Given) {
	values, from = map[string]string{}, map[string]Given{}
	svc := p.Service(name)
	if svc == nil {
		return values, from
	}
	for _, ref := range svc.EnvFiles {
		if ref.Raw {
			data, err := fs.ReadFile(p.from.fsys, ref.Path)
			if err != nil {
				continue
			}
			for key, value := range dotenv.RawValues(data, p.from.shell) {
				values[key], from[key] = value, Given{At: stack.Place{File: ref.Path, Line: 1}}
			}
			continue
		}
		f := p.envFile(ref.Path)
		if f == nil {
			continue
		}
		set, err := f.Values(p.from.shell)
		if err != nil {
			continue
		}
		maps.Copy(values, set)
		for _, s := range f.Settings {
			g := Given{At: stack.Place{File: ref.Path, Line: s.Line}}
			if !s.HasValue {
				g = p.from.of(g, s.Key)
			}
			from[s.Key] = g
		}
	}
	maps.Copy(values, svc.Env)
	for key := range svc.Env {
		from[key] = p.givenTo(svc, key)
	}
	for key := range from {
		if _, ok := values[key]; !ok {
			delete(from, key)
		}
	}
	return values, from
}

// givenTo is where a variable comes from that a service's own environment names.
func (p *Project) givenTo(svc *Service, key string) Given {
	g := Given{At: svc.EnvAt[key]}
	if variable := svc.EnvFrom[key]; variable != "" {
		g = p.from.of(g, variable)
		g.Default = g.By == "" && svc.Env[key] != ""
		return g
	}
	v := p.Model.Get("services").Get(svc.Name).Get("environment").Get(key)
	if v != nil && v.Kind == Null {
		g = p.from.of(g, key)
	}
	return g
}

// envFile reads a settings file once; nil for one that can't be read.
func (p *Project) envFile(name string) *dotenv.File {
	if f, ok := p.from.expands[name]; ok {
		return f
	}
	var f *dotenv.File
	if fs.ValidPath(name) {
		if read, err := dotenv.Read(p.from.fsys, name); err == nil {
			f = read
		}
	}
	p.from.expands[name] = f
	return f
}

// Resolved is the active model in which each service's environment is what its container gets; from
// tells, by service and key, where each setting is from.
func (p *Project) Resolved() (model *Value, from map[string]map[string]Given) {
	model, from = p.Active(), map[string]map[string]Given{}
	services := model.Get("services")
	for i := range services.orEmpty().Members {
		m := &services.Members[i]
		values, at := p.Environment(m.Key)
		if len(values) == 0 {
			continue
		}
		from[m.Key] = at
		env := &Value{Kind: Mapping, File: m.Value.File, Line: m.Line}
		for _, key := range slices.Sorted(maps.Keys(values)) {
			env.Set(key, &Value{Kind: String, Text: values[key], File: at[key].At.File,
				Line: at[key].At.Line})
		}
		m.Value = m.Value.shallow()
		m.Value.Set("environment", env)
	}
	return model, from
}

// looseEnds remarks on settings in env files that lose a part, since they name a variable without a
// value.
func (p *Project) looseEnds() {
	files := []string{p.from.file}
	for i := range p.Services {
		if p.Services[i].Active {
			for _, ref := range p.Services[i].EnvFiles {
				if !ref.Raw && !slices.Contains(files, ref.Path) {
					files = append(files, ref.Path)
				}
			}
		}
	}
	for _, name := range files {
		f := p.envFile(name)
		if f == nil {
			continue
		}
		by := map[string][]string{}
		lines := map[string]int{}
		for _, l := range f.LooseEnds(p.from.shell) {
			by[l.Key], lines[l.Key] = append(by[l.Key], "$"+l.Variable), l.Line
		}
		for _, key := range slices.Sorted(maps.Keys(by)) {
			p.Remarks = append(p.Remarks,
				stack.Remark{Level: stack.Warning, Code: stack.CodeEnvVariableLoose,
					At: stack.Place{File: name, Line: lines[key]},
					Text: fmt.Sprintf("%s loses a part: it holds %s, which is read as a variable "+
						"and has no value", key, strings.Join(by[key], " and ")),
					Remedy: "If the dollar sign is meant as one, put the value in single quotes."})
		}
	}
}
