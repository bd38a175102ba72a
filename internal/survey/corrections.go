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
	"nimbleharbor/internal/rule"
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
	name      string
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

// wrong tells what is wrong with a cause, and what to do; both empty if nothing is.
func (cause *ownCause) wrong(name string) (text, remedy string) {
	if cause.Line == "" || cause.Says == "" {
		return fmt.Sprintf("the cause %s lacks its line or what it says", name),
			`Write line = "an expression for a line of a log" and says = "what it means".`
	}
	if _, err := regexp.Compile(cause.Line); err != nil {
		return fmt.Sprintf("the line of the cause %s is no expression: %v", name, err), "Correct it."
	}
	return "", ""
}

func parseCorrections(name string, data []byte) (*corrections, error) {
	var c corrections
	if err := reading.TOML(data); err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
			At: stack.Place{File: name}, Text: "the file is not read: " + err.Error(),
			Remedy: "Leave out what corrects nothing."}
	}
	file := &correctionsFile{name: name, lines: strings.Split(string(data), "\n")}
	err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(&c)
	if err != nil {
		return nil, file.notRead(err)
	}
	for k, fix := range c.Project {
		fix.at = file.at("project", k)
		c.Project[k] = fix
	}
	for k, fix := range c.Step {
		fix.at = file.at("step", k)
		if _, err := wordsOf(fix.Command); err != nil {
			return nil, file.fault(fix.at.Line, 0,
				fmt.Sprintf("the command of the step %s %v", k, err), writeCommand)
		}
		c.Step[k] = fix
	}
	for k, fix := range c.Service {
		fix.at = file.at("service", k)
		fix.name = k
		if r := rule.First(serviceFaults, &fix); r != nil {
			text, remedy := r.Then(&fix)
			return nil, file.fault(fix.at.Line, 0, text, remedy)
		}
		c.Service[k] = fix
	}
	for k, check := range c.Check {
		check.at = file.at("check", k)
		if text, remedy := check.wrong(k); text != "" {
			return nil, file.fault(check.at.Line, 0, text, remedy)
		}
		c.Check[k] = check
	}
	for k, cause := range c.Cause {
		cause.at = file.at("cause", k)
		if text, remedy := cause.wrong(k); text != "" {
			return nil, file.fault(cause.at.Line, 0, text, remedy)
		}
		c.Cause[k] = cause
	}
	return &c, nil
}

// correctionsFile is one while it is read.
type correctionsFile struct {
	name  string
	lines []string
}

// fault is what is wrong in a line of the file.
func (c *correctionsFile) fault(line, column int, text, remedy string) *stack.Fault {
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
		At: stack.Place{File: c.name, Line: line}, Column: column, Text: text, Remedy: remedy}
	if line >= 1 && line <= len(c.lines) {
		f.Line = values.Excerpt(strings.TrimRight(c.lines[line-1], "\r"))
	}
	return f
}

// at is the place of a table of a key.
func (c *correctionsFile) at(table, key string) stack.Place {
	forms := []string{"[" + table + "." + key + "]", `[` + table + `."` + key + `"]`,
		"[" + table + ".'" + key + "']", "[" + table + "." + key + "."}
	for i, l := range c.lines {
		l = strings.ReplaceAll(strings.TrimSpace(l), " ", "")
		if slices.ContainsFunc(forms, func(form string) bool { return strings.HasPrefix(l, form) }) {
			return stack.Place{File: c.name, Line: i + 1}
		}
	}
	return stack.Place{File: c.name, Line: 1}
}

// notRead tells what is wrong with a file that can't be decoded: each key that is not known, or the
// first place that is no TOML.
func (c *correctionsFile) notRead(err error) error {
	var strict *toml.StrictMissingError
	var wrong *toml.DecodeError
	text := "the file is not right: " + strings.TrimPrefix(err.Error(), "toml: ")
	switch {
	case errors.As(err, &strict):
		var faults stack.Faults
		for i := range strict.Errors {
			faults = append(faults, c.unknownKey(&strict.Errors[i]))
		}
		return faults
	case errors.As(err, &wrong):
		line, column := wrong.Position()
		return c.fault(line, column, text, "Correct it at this place.")
	}
	return c.fault(1, 0, text, "Correct it.")
}

// unknownKey tells of a key that is not known which ones are, and the nearest of them.
func (c *correctionsFile) unknownKey(e *toml.DecodeError) *stack.Fault {
	line, column := e.Position()
	key, table := e.Key(), ""
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
	return c.fault(line, column, fmt.Sprintf("the key %s is not known", last), remedy)
}

const writeCommand = `Write it as a line, command = "npm run x", or as words, ` +
	`command = ["npm", "run", "x"].`

// serviceFaults are what can be wrong with a service that somebody corrects, and what is said then.
var serviceFaults = []rule.Rule[*serviceFix, func(*serviceFix) (text, remedy string)]{
	faultIf("command", func(f *serviceFix) bool { _, err := wordsOf(f.Command); return err != nil },
		func(f *serviceFix) (string, string) {
			_, err := wordsOf(f.Command)
			return fmt.Sprintf("the command of %s %v", f.name, err), writeCommand
		}),
	faultIf("runs", func(f *serviceFix) bool {
		return f.Runs != nil && *f.Runs != stack.Native && *f.Runs != stack.Container
	}, func(f *serviceFix) (string, string) {
		return fmt.Sprintf("%s can't run %q", f.name, *f.Runs),
			`runs is "native" or "container".`
	}),
	faultIf("kind", func(f *serviceFix) bool {
		return f.Kind != nil && *f.Kind != stack.Lasting && *f.Kind != stack.Once
	}, func(f *serviceFix) (string, string) {
		return fmt.Sprintf("%s can't be of the kind %q", f.name, *f.Kind),
			`kind is "lasting" or "once".`
	}),
	faultIf("port", func(f *serviceFix) bool {
		return f.Port != nil && (*f.Port < 1 || *f.Port > 65535)
	}, func(f *serviceFix) (string, string) {
		return fmt.Sprintf("%d is no port", *f.Port), "A port is a number from 1 to 65535."
	}),
	faultIf("speaks", func(f *serviceFix) bool {
		return f.Speaks != nil && !slices.Contains(protocol.Names(), *f.Speaks)
	}, func(f *serviceFix) (string, string) {
		return fmt.Sprintf("%s can't speak %q: that protocol is not known", f.name, *f.Speaks),
			"Known are: " + strings.Join(protocol.Names(), ", ") + `. For any other: "tcp".`
	}),
	faultIf("folder", func(f *serviceFix) bool {
		return f.Folder != nil && (path.IsAbs(*f.Folder) || !fs.ValidPath(path.Clean(*f.Folder)))
	}, func(f *serviceFix) (string, string) {
		return fmt.Sprintf("the folder %s leaves the workspace", *f.Folder),
			"Name a folder relative to the workspace."
	}),
	faultIf("after", func(f *serviceFix) bool { return f.wrongAfter() != nil },
		func(f *serviceFix) (string, string) {
			return fmt.Sprintf("after: %v", f.wrongAfter()), `Write after = ["db", "setup finished"]: ` +
				`a service, and how far it must be: begun, answering or finished.`
		}),
}

func faultIf(name string, when func(*serviceFix) bool,
	then func(*serviceFix) (text, remedy string),
) rule.Rule[*serviceFix, func(*serviceFix) (text, remedy string)] {
	return rule.Rule[*serviceFix, func(*serviceFix) (text, remedy string)]{Name: name, When: when,
		Then: then}
}

// wrongAfter is what is wrong with the first wait that is; nil if none is.
func (fix *serviceFix) wrongAfter() error {
	for _, a := range fix.After {
		if _, _, err := afterOf(a); err != nil {
			return err
		}
	}
	return nil
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
	leaves := fix.LeaveOut != nil && *fix.LeaveOut
	switch {
	case v == nil && (leaves || words == nil):
		s.unknown("service", name, fix.at)
		return
	case leaves:
		s.leaveOut(name)
		return
	case v == nil:
		s.Stack.Services = append(s.Stack.Services,
			stack.Service{Name: name, Source: stack.FromStackFile, Runs: stack.Native,
				Kind: stack.Lasting, Project: ".", Env: map[string]string{}, At: fix.at})
		v = &s.Stack.Services[len(s.Stack.Services)-1]
	}
	if fix.Folder != nil {
		s.moveTo(v, path.Clean(*fix.Folder))
	}
	if fix.Runs != nil && *fix.Runs != v.Runs && !runsAs(v, *fix.Runs, words) {
		s.Faults = append(s.Faults, &stack.Fault{Kind: stack.Unreadable,
			Code: stack.CodeCorrectionsWrong, At: fix.at,
			Text:   fmt.Sprintf("%s can't run %s: nothing here says how", name, *fix.Runs),
			Remedy: "Add its command, or a Dockerfile."})
	}
	fix.correctWords(v, words)
	fix.correctPort(v)
	fix.correctEnv(v)
	s.correctWaits(v, fix)
}

// leaveOut takes a service away, and what waits for it.
func (s *surveyor) leaveOut(name string) {
	s.Stack.Services = slices.DeleteFunc(s.Stack.Services,
		func(v stack.Service) bool { return v.Name == name })
	for i := range s.Stack.Services {
		other := &s.Stack.Services[i]
		other.After = slices.DeleteFunc(slices.Clone(other.After),
			func(a stack.After) bool { return a.Service == name })
	}
}

// moveTo gives a service the folder that it runs in, and the project there.
func (s *surveyor) moveTo(v *stack.Service, dir string) {
	if p := s.Stack.Project(dir, ""); p != nil {
		v.Project, v.Manager, v.Folder, v.Bin = dir, p.Manager, "", p.Bin
	} else {
		v.Folder = dir
	}
}

// runsAs has a service run in the other way, if that is known.
func runsAs(v *stack.Service, way stack.Way, words []string) bool {
	switch {
	case way == stack.Native && (len(v.NativeCommand) > 0 || words != nil):
		v.Runs, v.Address, v.Command = stack.Native, "", v.NativeCommand
	case way == stack.Container && v.Container != nil:
		v.Runs, v.Address, v.Command = stack.Container, v.Name, nil
	default:
		return false
	}
	return true
}

// correctWords corrects what a service runs, and whether it does so for ever.
func (fix *serviceFix) correctWords(v *stack.Service, words []string) {
	if words != nil {
		v.Command, v.Expands, v.At = words, nil, fix.place("command")
		if v.Runs == stack.Native {
			v.NativeCommand = words
		}
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
}

// correctPort corrects where a service listens, and what it speaks there.
func (fix *serviceFix) correctPort(v *stack.Service) {
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
}

// correctEnv adds variables to those that a service gets.
func (fix *serviceFix) correctEnv(v *stack.Service) {
	if len(fix.Env) == 0 {
		return
	}
	if v.Env == nil {
		v.Env = map[string]string{}
	}
	if v.EnvAt == nil {
		v.EnvAt = map[string]stack.Place{}
	}
	for k, value := range fix.Env {
		v.Env[k], v.EnvAt[k] = value, fix.at
	}
}

// correctWaits has a service wait for others.
func (s *surveyor) correctWaits(v *stack.Service, fix serviceFix) {
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
