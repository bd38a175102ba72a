package survey

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/spelling"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// The files that correct a survey: the first is committed, the second is one person's own and goes
// on top.
const (
	CorrectionsFile      = "nharbor.toml"
	LocalCorrectionsFile = "nharbor.local.toml"
)

// corrections are what the files say. A key that is absent leaves what survey concluded.
type corrections struct {
	Project map[string]projectFix `toml:"project"`
	Step    map[string]stepFix    `toml:"step"`
	Service map[string]serviceFix `toml:"service"`
	Check   map[string]ownCheck   `toml:"check"`
	Cause   map[string]ownCause   `toml:"cause"`
}

type projectFix struct {
	LeaveOut  *bool   `toml:"leave-out"`
	Framework *string `toml:"framework"`
	at        stack.Place
}

type stepFix struct {
	LeaveOut  *bool    `toml:"leave-out"`
	Command   any      `toml:"command"` // a line, or a list of words
	Inputs    []string `toml:"inputs"`
	EveryTime *bool    `toml:"every-time"`
	at        stack.Place
}

type serviceFix struct {
	LeaveOut  *bool             `toml:"leave-out"`
	Runs      *stack.Way        `toml:"runs"`
	Kind      *stack.Lifetime   `toml:"kind"`
	Command   any               `toml:"command"`
	Folder    *string           `toml:"folder"`
	Port      *int              `toml:"port"`
	Speaks    *string           `toml:"speaks"`
	Env       map[string]string `toml:"env"`
	After     []string          `toml:"after"`
	EveryTime *bool             `toml:"every-time"`
	Restart   *bool             `toml:"restart"`
	at        stack.Place
	own       map[string]stack.Place // where the keys stand that the lower of two files says
}

// place is where a key of the table was read.
func (f *serviceFix) place(key string) stack.Place {
	if at, ok := f.own[key]; ok {
		return at
	}
	return f.at
}

// correctionsOf reads the files. Unlike a manifest's, a mistake in them ends the survey: a
// correction that is not understood would be worse than none.
func (s *surveyor) correctionsOf() error {
	s.corrections = corrections{Project: map[string]projectFix{}, Step: map[string]stepFix{},
		Service: map[string]serviceFix{}, Check: map[string]ownCheck{},
		Cause: map[string]ownCause{}}
	for _, name := range []string{CorrectionsFile, LocalCorrectionsFile} {
		data, err := fs.ReadFile(s.Files, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsUnreadable,
				At: stack.Place{File: name}, Text: "the file can't be read: " +
					stack.Reason(err), Remedy: "Check its rights.", Cause: err}
		}
		c, err := parseCorrections(name, data)
		if err != nil {
			return err
		}
		maps.Copy(s.corrections.Project, c.Project)
		maps.Copy(s.corrections.Check, c.Check)
		maps.Copy(s.corrections.Cause, c.Cause)
		for id, fix := range c.Step {
			s.corrections.Step[id] = overlay(s.corrections.Step[id], fix)
		}
		for id, fix := range c.Service {
			s.corrections.Service[id] = overlayService(s.corrections.Service[id], fix)
		}
	}
	return nil
}

func overlay(under, over stepFix) stepFix {
	out := stepFix{or(over.LeaveOut, under.LeaveOut), over.Command, over.Inputs,
		or(over.EveryTime, under.EveryTime), over.at}
	if out.Command == nil {
		out.Command = under.Command
	}
	if out.Inputs == nil {
		out.Inputs = under.Inputs
	}
	return out
}

func overlayService(under, over serviceFix) serviceFix {
	out := serviceFix{LeaveOut: or(over.LeaveOut, under.LeaveOut), Runs: or(over.Runs, under.Runs),
		Kind: or(over.Kind, under.Kind), Command: over.Command, Folder: or(over.Folder,
			under.Folder), Port: or(over.Port, under.Port), Speaks: or(over.Speaks,
			under.Speaks), Env: map[string]string{},
		After: over.After, EveryTime: or(over.EveryTime,
			under.EveryTime), Restart: or(over.Restart, under.Restart), at: over.at}
	out.own = map[string]stack.Place{}
	if out.Command == nil {
		out.Command, out.own["command"] = under.Command, under.at
	}
	if out.After == nil {
		out.After, out.own["after"] = under.After, under.at
	}
	if over.Port == nil {
		out.own["port"] = under.at
	}
	if len(under.at.File) == 0 {
		out.own = nil
	}
	maps.Copy(out.Env, under.Env)
	maps.Copy(out.Env, over.Env)
	return out
}

func or[T any](a, b *T) *T {
	if a != nil {
		return a
	}
	return b
}

// correctionKeys are what the tables of the file may hold.
var correctionKeys = map[string][]string{
	"": {"project", "step", "service", "check", "cause"},
	"check": {"service", "method", "path", "headers", "body", "status", "contains", "json",
		"within", "retries"},
	"cause":   {"line", "says", "do"},
	"project": {"leave-out", "framework"},
	"step":    {"leave-out", "command", "inputs", "every-time"},
	"service": {"leave-out", "runs", "kind", "command", "folder", "port", "speaks", "env", "after",
		"every-time", "restart"},
}

func parseCorrections(name string, data []byte) (*corrections, error) {
	var c corrections
	if err := reading.TOML(data); err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
			At: stack.Place{File: name}, Text: "the file is not read: " +
				err.Error(), Remedy: "Leave out what corrects nothing."}
	}
	err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(&c)
	var strict *toml.StrictMissingError
	var wrong *toml.DecodeError
	lines := strings.Split(string(data), "\n")
	fault := func(line, column int, text, remedy string) *stack.Fault {
		f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
			At: stack.Place{File: name, Line: line}, Column: column, Text: text, Remedy: remedy}
		if line >= 1 && line <= len(lines) {
			f.Line = values.Excerpt(strings.TrimRight(lines[line-1], "\r"))
		}
		return f
	}
	switch {
	case errors.As(err, &strict):
		var faults stack.Faults
		for i := range strict.Errors {
			e := &strict.Errors[i]
			line, column := e.Position()
			key := e.Key()
			table := ""
			if len(key) > 2 {
				table = key[0]
			}
			last := key[len(key)-1]
			if len(key) == 1 || correctionKeys[key[0]] == nil {
				last, table = key[0], ""
			}
			known := correctionKeys[table]
			remedy := "Known here are: " + strings.Join(known, ", ") + "."
			if near := spelling.Nearest(last, known, 3); near != "" {
				remedy = fmt.Sprintf("Did you mean %s? %s", near, remedy)
			}
			faults = append(faults, fault(line, column,
				fmt.Sprintf("the key %s is not known", last), remedy))
		}
		return nil, faults
	case errors.As(err, &wrong):
		line, column := wrong.Position()
		return nil, fault(line, column,
			"the file is not right: "+strings.TrimPrefix(wrong.Error(), "toml: "),
			"Correct it at this place.")
	case err != nil:
		return nil, fault(1, 0, "the file is not right: "+strings.TrimPrefix(err.Error(),
			"toml: "), "Correct it.")
	}
	at := func(table, key string) stack.Place {
		for i, l := range lines {
			l = strings.ReplaceAll(strings.TrimSpace(l), " ", "")
			for _, form := range []string{"[" + table + "." + key + "]", `[` + table + `."` + key +
				`"]`, "[" + table + ".'" + key + "']", "[" + table + "." + key + "."} {
				if strings.HasPrefix(l, form) {
					return stack.Place{File: name, Line: i + 1}
				}
			}
		}
		return stack.Place{File: name, Line: 1}
	}
	for k, fix := range c.Project {
		fix.at = at("project", k)
		c.Project[k] = fix
	}
	for k, fix := range c.Step {
		fix.at = at("step", k)
		if _, err := wordsOf(fix.Command); err != nil {
			return nil, fault(fix.at.Line, 0, fmt.Sprintf("the command of the step %s %v", k, err),
				`Write it as a line, command = "npm run x", or as words, command = ["npm", "run", "x"].`)
		}
		c.Step[k] = fix
	}
	for k, fix := range c.Service {
		fix.at = at("service", k)
		var text, remedy string
		switch _, err := wordsOf(fix.Command); {
		case err != nil:
			text, remedy = fmt.Sprintf("the command of %s %v", k, err),
				`Write it as a line, command = "npm run x", or as words, command = ["npm", "run", "x"].`
		case fix.Runs != nil && *fix.Runs != stack.Native && *fix.Runs != stack.Container:
			text, remedy = fmt.Sprintf("%s can't run %q", k,
				*fix.Runs), `runs is "native" or "container".`
		case fix.Kind != nil && *fix.Kind != stack.Lasting && *fix.Kind != stack.Once:
			text, remedy = fmt.Sprintf("%s can't be of the kind %q", k,
				*fix.Kind), `kind is "lasting" or "once".`
		case fix.Port != nil && (*fix.Port < 1 || *fix.Port > 65535):
			text, remedy = fmt.Sprintf("%d is no port",
				*fix.Port), "A port is a number from 1 to 65535."
		case fix.Speaks != nil && !slices.Contains(protocol.Names(), *fix.Speaks):
			text, remedy = fmt.Sprintf("%s can't speak %q: that protocol is not known", k,
				*fix.Speaks),
				"Known are: "+strings.Join(protocol.Names(), ", ")+`. For any other: "tcp".`
		case fix.Folder != nil && (path.IsAbs(*fix.Folder) ||
			!fs.ValidPath(path.Clean(*fix.Folder))):
			text, remedy = fmt.Sprintf("the folder %s leaves the workspace", *fix.Folder),
				"Name a folder relative to the workspace."
		}
		for _, a := range fix.After {
			if _, _, err := afterOf(a); err != nil && text == "" {
				text, remedy = fmt.Sprintf("after: %v", err),
					`Write after = ["db", "setup finished"]: a service, and how far it must be: begun, answering or `+
						`finished.`
			}
		}
		if text != "" {
			return nil, fault(fix.at.Line, 0, text, remedy)
		}
		c.Service[k] = fix
	}
	for k, check := range c.Check {
		check.at = at("check", k)
		if text, remedy := check.wrong(k); text != "" {
			return nil, fault(check.at.Line, 0, text, remedy)
		}
		c.Check[k] = check
	}
	for k, cause := range c.Cause {
		cause.at = at("cause", k)
		var text, remedy string
		switch _, err := regexp.Compile(cause.Line); {
		case cause.Line == "" || cause.Says == "":
			text, remedy = fmt.Sprintf("the cause %s lacks its line or what it says", k),
				`Write line = "an expression for a line of a log" and says = "what it means".`
		case err != nil:
			text, remedy = fmt.Sprintf("the line of the cause %s is no expression: %v", k,
				err), "Correct it."
		}
		if text != "" {
			return nil, fault(cause.at.Line, 0, text, remedy)
		}
		c.Cause[k] = cause
	}
	return &c, nil
}

func wordsOf(command any) ([]string, error) {
	switch c := command.(type) {
	case nil:
		return nil, nil
	case string:
		if strings.TrimSpace(c) == "" {
			return nil, errors.New("is empty")
		}
		return shell.Words(c), nil
	case []any:
		var out []string
		for _, w := range c {
			s, ok := w.(string)
			if !ok {
				return nil, errors.New("holds something that is no text")
			}
			out = append(out, s)
		}
		if len(out) == 0 {
			return nil, errors.New("is empty")
		}
		return out, nil
	}
	return nil, errors.New("is neither a line nor a list of words")
}

func afterOf(text string) (string, stack.Until, error) {
	fields := strings.Fields(text)
	switch {
	case len(fields) == 1:
		return fields[0], stack.Answering, nil
	case len(fields) == 2 && stack.Until(fields[1]).Strength() > 0:
		return fields[0], stack.Until(fields[1]), nil
	}
	return "", "", fmt.Errorf("%q can't be read", text)
}

// correct applies the corrections to what was concluded.
func (s *surveyor) correct() {
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Service)) {
		s.correctService(name, s.corrections.Service[name])
	}
	for _, id := range slices.Sorted(maps.Keys(s.corrections.Step)) {
		s.correctStep(id, s.corrections.Step[id])
	}
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Project)) {
		fix := s.corrections.Project[name]
		i := slices.IndexFunc(s.Stack.Projects,
			func(p stack.Project) bool { return p.Path == name })
		if i < 0 {
			s.unknown("project", name, fix.at)
			continue
		}
		if fix.Framework != nil {
			s.Stack.Projects[i].Framework = *fix.Framework
		}
		if fix.LeaveOut != nil && *fix.LeaveOut {
			s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
				func(v stack.Service) bool { return v.Runs == stack.Native && v.Project == name })
			s.Stack.Projects = slices.Delete(s.Stack.Projects, i, i+1)
		}
	}
	s.questions()
}

func (s *surveyor) unknown(what, name string, at stack.Place) {
	s.Faults = append(s.Faults, &stack.Fault{Kind: stack.Unreadable,
		Code: stack.CodeCorrectionsUnknown, At: at,
		Text: fmt.Sprintf("there is no %s %q to correct", what,
			name), Remedy: "See what there is: nharbor survey"})
}

func (s *surveyor) correctStep(id string, fix stepFix) {
	words, _ := wordsOf(fix.Command)
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		k := slices.IndexFunc(p.Steps, func(st stack.Step) bool { return st.ID == id })
		if k < 0 {
			continue
		}
		if fix.LeaveOut != nil && *fix.LeaveOut {
			p.Steps = slices.Delete(p.Steps, k, k+1)
			return
		}
		st := &p.Steps[k]
		if words != nil {
			st.Command, st.At, st.Expands = words, fix.at, nil
		}
		if fix.Inputs != nil {
			st.Inputs = fix.Inputs
		}
		if fix.EveryTime != nil {
			st.EveryTime = *fix.EveryTime
		}
		return
	}
	// A step that survey didn't find: ROLE:FOLDER.
	role, dir, _ := strings.Cut(id, ":")
	if p := s.Stack.Project(dir, ""); p != nil && words != nil &&
		(stack.Role(role) == stack.Install || stack.Role(role).Rank() > 0) {
		p.Steps = append(p.Steps, stack.Step{ID: id, Role: stack.Role(role), Command: words,
			Env: map[string]string{},
			At:  fix.at, Inputs: fix.Inputs, EveryTime: fix.EveryTime != nil && *fix.EveryTime})
		slices.SortStableFunc(p.Steps,
			func(a, b stack.Step) int { return a.Role.Rank() - b.Role.Rank() })
		return
	}
	s.unknown("step", id, fix.at)
}

func (s *surveyor) correctService(name string, fix serviceFix) {
	words, _ := wordsOf(fix.Command)
	v := s.Stack.Service(name)
	if fix.LeaveOut != nil && *fix.LeaveOut {
		if v == nil {
			s.unknown("service", name, fix.at)
			return
		}
		s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
			func(v stack.Service) bool { return v.Name == name })
		for i := range s.Stack.Services {
			other := &s.Stack.Services[i]
			other.After = slices.DeleteFunc(slices.Clone(other.After),
				func(a stack.After) bool { return a.Service == name })
		}
		return
	}
	if v == nil {
		if words == nil {
			s.unknown("service", name, fix.at)
			return
		}
		s.Stack.Services = append(s.Stack.Services,
			stack.Service{Name: name, Source: stack.FromStackFile,
				Runs: stack.Native, Kind: stack.Lasting, Project: ".", Env: map[string]string{},
				At: fix.at})
		v = &s.Stack.Services[len(s.Stack.Services)-1]
	}
	if fix.Folder != nil {
		dir := path.Clean(*fix.Folder)
		if p := s.Stack.Project(dir, ""); p != nil {
			v.Project, v.Manager, v.Folder, v.Bin = dir, p.Manager, "", p.Bin
		} else {
			v.Folder = dir
		}
	}
	if fix.Runs != nil && *fix.Runs != v.Runs {
		switch {
		case *fix.Runs == stack.Native && (len(v.NativeCommand) > 0 || words != nil):
			v.Runs, v.Address = stack.Native, ""
			v.Command = v.NativeCommand
		case *fix.Runs == stack.Container && v.Container != nil:
			v.Runs, v.Address, v.Command = stack.Container, v.Name, nil
		default:
			s.Faults = append(s.Faults,
				&stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
					At:     fix.at,
					Text:   fmt.Sprintf("%s can't run %s: nothing here says how", name, *fix.Runs),
					Remedy: "Add its command, or a Dockerfile."})
		}
	}
	if words != nil {
		v.Command, v.Expands = words, nil
		if v.Runs == stack.Native {
			v.NativeCommand = words
		}
		v.At = fix.place("command")
	}
	if fix.Kind != nil {
		v.Kind = *fix.Kind
	}
	if fix.Restart != nil {
		v.Restart, v.RestartOnFailure, v.RestartTimes = *fix.Restart, false, 0
	}
	if fix.EveryTime != nil {
		v.Remembered = !*fix.EveryTime
	}
	if fix.Port != nil {
		if len(v.Ports) == 0 {
			v.Ports = []stack.Port{{Target: *fix.Port, Transport: "tcp", Speaks: "http"}}
		}
		v.Ports[0].Host, v.Ports[0].At = *fix.Port, fix.place("port")
		if v.Runs == stack.Native {
			v.Ports[0].Target = *fix.Port
		}
	}
	if fix.Speaks != nil && len(v.Ports) > 0 {
		v.Ports[0].Speaks = *fix.Speaks
	}
	for k, value := range fix.Env {
		if v.Env == nil {
			v.Env = map[string]string{}
		}
		v.Env[k] = value
		if v.EnvAt == nil {
			v.EnvAt = map[string]stack.Place{}
		}
		v.EnvAt[k] = fix.at
	}
	for _, text := range fix.After {
		other, until, _ := afterOf(text)
		if s.Stack.Service(other) == nil && s.corrections.Service[other].Command == nil {
			s.unknown("service", other, fix.at)
			continue
		}
		v.After = slices.DeleteFunc(slices.Clone(v.After),
			func(a stack.After) bool { return a.Service == other })
		v.After = append(v.After, stack.After{Service: other, Until: until, Because: stack.Declared,
			At: fix.place("after"), Reason: fix.place("after").File + " says so"})
	}
}

// Draft writes corrections that change nothing: every conclusion as a comment, to be taken out of
// it and altered.
func Draft(s *stack.Stack) string {
	var out strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	line("# What nharbor concluded about this workspace. Everything here is a comment and " +
		"changes nothing: take the # away")
	line("# from a table and the keys to correct. Commit the file; what is for you alone goes "+
		"into %s,", LocalCorrectionsFile)
	line("# which has the same form and goes on top.")
	quote := func(words []string) string {
		var list []string
		for _, w := range words {
			list = append(list, fmt.Sprintf("%q", w))
		}
		return "[" + strings.Join(list, ", ") + "]"
	}
	for _, p := range s.Projects {
		line("\n# %s, %s: %s", p.Path, p.Manager, p.Evidence[0].File)
		line("#[project.%q]", p.Path)
		line("#leave-out = false")
		for _, st := range p.Steps {
			line("#[step.%q]  # %s:%d", st.ID, st.At.File, st.At.Line)
			line("#command = %s", quote(st.Command))
			line("#every-time = %v", st.EveryTime)
		}
	}
	for _, v := range s.Services {
		line("\n# %s, known from %s:%d", v.Name, v.At.File, v.At.Line)
		line("#[service.%q]", v.Name)
		line("#leave-out = false")
		line("#runs = %q", v.Runs)
		line("#kind = %q", v.Kind)
		if v.Runs == stack.Native {
			line("#command = %s", quote(v.Command))
			line("#folder = %q", v.Dir())
		}
		if len(v.Ports) > 0 {
			port := v.Ports[0].Host
			if port == 0 {
				port = v.Ports[0].Target
			}
			line("#port = %d", port)
			line("#speaks = %q", v.Ports[0].Speaks)
		}
		var after []string
		for _, a := range v.After {
			after = append(after, a.Service+" "+string(a.Until))
		}
		line("#after = %s", quote(after))
	}
	return out.String()
}
