// Package corrections reads the files by which people correct what a survey concludes:
// nharbor.toml, and nharbor.local.toml on top.
package corrections

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
	"time"

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
	File      = "nharbor.toml"
	LocalFile = "nharbor.local.toml"
)

// Corrections are what the files say. A key that is absent leaves what survey concluded.
type Corrections struct {
	Project map[string]ProjectFix `toml:"project"`
	Step    map[string]StepFix    `toml:"step"`
	Service map[string]ServiceFix `toml:"service"`
	Check   map[string]Check      `toml:"check"`
	Cause   map[string]Cause      `toml:"cause"`
}

type ProjectFix struct {
	LeaveOut  *bool   `toml:"leave-out"`
	Framework *string `toml:"framework"`
	At        stack.Place
}

type StepFix struct {
	LeaveOut  *bool    `toml:"leave-out"`
	Command   any      `toml:"command"` // a line, or a list of words
	Inputs    []string `toml:"inputs"`
	EveryTime *bool    `toml:"every-time"`
	At        stack.Place
}

type ServiceFix struct {
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
	At        stack.Place
	own       map[string]stack.Place // where the keys stand that the lower of two files says
}

// Place is where a key of the table was read.
func (f *ServiceFix) Place(key string) stack.Place {
	if at, ok := f.own[key]; ok {
		return at
	}
	return f.At
}

// Read reads the files. Unlike a manifest's, a mistake in them ends a survey: a correction that is
// not understood would be worse than none.
func Read(files fs.FS) (*Corrections, error) {
	all := &Corrections{Project: map[string]ProjectFix{}, Step: map[string]StepFix{},
		Service: map[string]ServiceFix{}, Check: map[string]Check{}, Cause: map[string]Cause{}}
	for _, name := range []string{File, LocalFile} {
		data, err := fs.ReadFile(files, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsUnreadable,
				At: stack.Place{File: name}, Text: "the file can't be read: " + stack.Reason(err),
				Remedy: "Check its rights.", Cause: err}
		}
		c, err := parse(name, data)
		if err != nil {
			return nil, err
		}
		maps.Copy(all.Project, c.Project)
		maps.Copy(all.Check, c.Check)
		maps.Copy(all.Cause, c.Cause)
		for id, fix := range c.Step {
			all.Step[id] = overlay(all.Step[id], fix)
		}
		for id, fix := range c.Service {
			all.Service[id] = overlayService(all.Service[id], fix)
		}
	}
	return all, nil
}

func overlay(under, over StepFix) StepFix {
	out := StepFix{or(over.LeaveOut, under.LeaveOut), over.Command, over.Inputs,
		or(over.EveryTime, under.EveryTime), over.At}
	if out.Command == nil {
		out.Command = under.Command
	}
	if out.Inputs == nil {
		out.Inputs = under.Inputs
	}
	return out
}

func overlayService(under, over ServiceFix) ServiceFix {
	out := ServiceFix{LeaveOut: or(over.LeaveOut, under.LeaveOut), Runs: or(over.Runs, under.Runs),
		Kind: or(over.Kind, under.Kind), Command: over.Command, Folder: or(over.Folder,
			under.Folder), Port: or(over.Port, under.Port), Speaks: or(over.Speaks,
			under.Speaks), Env: map[string]string{},
		After: over.After, EveryTime: or(over.EveryTime,
			under.EveryTime), Restart: or(over.Restart, under.Restart), At: over.At}
	out.own = map[string]stack.Place{}
	if out.Command == nil {
		out.Command, out.own["command"] = under.Command, under.At
	}
	if out.After == nil {
		out.After, out.own["after"] = under.After, under.At
	}
	if over.Port == nil {
		out.own["port"] = under.At
	}
	if len(under.At.File) == 0 {
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
func (cause *Cause) wrong(name string) (text, remedy string) {
	if cause.Line == "" || cause.Says == "" {
		return fmt.Sprintf("the cause %s lacks its line or what it says", name),
			`Write line = "an expression for a line of a log" and says = "what it means".`
	}
	if _, err := regexp.Compile(cause.Line); err != nil {
		return fmt.Sprintf("the line of the cause %s is no expression: %v", name, err),
			"Correct it."
	}
	return "", ""
}

func parse(name string, data []byte) (*Corrections, error) {
	var c Corrections
	if err := reading.TOML(data); err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
			At: stack.Place{File: name}, Text: "the file is not read: " + err.Error(),
			Remedy: "Leave out what corrects nothing."}
	}
	file := &source{name: name, lines: strings.Split(string(data), "\n")}
	err := toml.NewDecoder(bytes.NewReader(data)).DisallowUnknownFields().Decode(&c)
	if err != nil {
		return nil, file.notRead(err)
	}
	for k, fix := range c.Project {
		fix.At = file.at("project", k)
		c.Project[k] = fix
	}
	for k, fix := range c.Step {
		fix.At = file.at("step", k)
		if _, err := WordsOf(fix.Command); err != nil {
			return nil, file.fault(fix.At.Line, 0,
				fmt.Sprintf("the command of the step %s %v", k, err), writeCommand)
		}
		c.Step[k] = fix
	}
	for k, fix := range c.Service {
		fix.At = file.at("service", k)
		fix.name = k
		if r := rule.First(serviceFaults, &fix); r != nil {
			text, remedy := r.Then(&fix)
			return nil, file.fault(fix.At.Line, 0, text, remedy)
		}
		c.Service[k] = fix
	}
	for k, check := range c.Check {
		check.At = file.at("check", k)
		if text, remedy := check.wrong(k); text != "" {
			return nil, file.fault(check.At.Line, 0, text, remedy)
		}
		c.Check[k] = check
	}
	for k, cause := range c.Cause {
		cause.At = file.at("cause", k)
		if text, remedy := cause.wrong(k); text != "" {
			return nil, file.fault(cause.At.Line, 0, text, remedy)
		}
		c.Cause[k] = cause
	}
	return &c, nil
}

// source is one while it is read.
type source struct {
	name  string
	lines []string
}

// fault is what is wrong in a line of the file.
func (c *source) fault(line, column int, text, remedy string) *stack.Fault {
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCorrectionsWrong,
		At: stack.Place{File: c.name, Line: line}, Column: column, Text: text, Remedy: remedy}
	if line >= 1 && line <= len(c.lines) {
		f.Line = values.Excerpt(strings.TrimRight(c.lines[line-1], "\r"))
	}
	return f
}

// at is the place of a table of a key.
func (c *source) at(table, key string) stack.Place {
	forms := []string{"[" + table + "." + key + "]", `[` + table + `."` + key + `"]`,
		"[" + table + ".'" + key + "']", "[" + table + "." + key + "."}
	for i, l := range c.lines {
		l = strings.ReplaceAll(strings.TrimSpace(l), " ", "")
		if slices.ContainsFunc(forms,
			func(form string) bool { return strings.HasPrefix(l, form) }) {
			return stack.Place{File: c.name, Line: i + 1}
		}
	}
	return stack.Place{File: c.name, Line: 1}
}

// notRead tells what is wrong with a file that can't be decoded: each key that is not known, or the
// first place that is no TOML.
func (c *source) notRead(err error) error {
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
func (c *source) unknownKey(e *toml.DecodeError) *stack.Fault {
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
var serviceFaults = []rule.Rule[*ServiceFix, func(*ServiceFix) (text, remedy string)]{
	faultIf("command", func(f *ServiceFix) bool { _, err := WordsOf(f.Command); return err != nil },
		func(f *ServiceFix) (string, string) {
			_, err := WordsOf(f.Command)
			return fmt.Sprintf("the command of %s %v", f.name, err), writeCommand
		}),
	faultIf("runs", func(f *ServiceFix) bool {
		return f.Runs != nil && *f.Runs != stack.Native && *f.Runs != stack.Container
	}, func(f *ServiceFix) (string, string) {
		return fmt.Sprintf("%s can't run %q", f.name, *f.Runs),
			`runs is "native" or "container".`
	}),
	faultIf("kind", func(f *ServiceFix) bool {
		return f.Kind != nil && *f.Kind != stack.Lasting && *f.Kind != stack.Once
	}, func(f *ServiceFix) (string, string) {
		return fmt.Sprintf("%s can't be of the kind %q", f.name, *f.Kind),
			`kind is "lasting" or "once".`
	}),
	faultIf("port", func(f *ServiceFix) bool {
		return f.Port != nil && (*f.Port < 1 || *f.Port > 65535)
	}, func(f *ServiceFix) (string, string) {
		return fmt.Sprintf("%d is no port", *f.Port), "A port is a number from 1 to 65535."
	}),
	faultIf("speaks", func(f *ServiceFix) bool {
		return f.Speaks != nil && !slices.Contains(protocol.Names(), *f.Speaks)
	}, func(f *ServiceFix) (string, string) {
		return fmt.Sprintf("%s can't speak %q: that protocol is not known", f.name, *f.Speaks),
			"Known are: " + strings.Join(protocol.Names(), ", ") + `. For any other: "tcp".`
	}),
	faultIf("folder", func(f *ServiceFix) bool {
		return f.Folder != nil && (path.IsAbs(*f.Folder) || !fs.ValidPath(path.Clean(*f.Folder)))
	}, func(f *ServiceFix) (string, string) {
		return fmt.Sprintf("the folder %s leaves the workspace", *f.Folder),
			"Name a folder relative to the workspace."
	}),
	faultIf("after", func(f *ServiceFix) bool { return f.wrongAfter() != nil },
		func(f *ServiceFix) (string, string) {
			return fmt.Sprintf("after: %v",
					f.wrongAfter()), `Write after = ["db", "setup finished"]: ` +
					`a service, and how far it must be: begun, answering or finished.`
		}),
}

func faultIf(name string, when func(*ServiceFix) bool, then func(*ServiceFix) (text, remedy string),
) rule.Rule[*ServiceFix, func(*ServiceFix) (text, remedy string)] {
	return rule.Rule[*ServiceFix, func(*ServiceFix) (text, remedy string)]{Name: name, When: when,
		Then: then}
}

// wrongAfter is what is wrong with the first wait that is; nil if none is.
func (fix *ServiceFix) wrongAfter() error {
	for _, a := range fix.After {
		if _, _, err := AfterOf(a); err != nil {
			return err
		}
	}
	return nil
}

func WordsOf(command any) ([]string, error) {
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

func AfterOf(text string) (string, stack.Until, error) {
	fields := strings.Fields(text)
	switch {
	case len(fields) == 1:
		return fields[0], stack.Answering, nil
	case len(fields) == 2 && stack.Until(fields[1]).Strength() > 0:
		return fields[0], stack.Until(fields[1]), nil
	}
	return "", "", fmt.Errorf("%q can't be read", text)
}

// Check is a question that the workspace asks of its own; see stack.OwnCheck.
type Check struct {
	Service  string            `toml:"service"`
	Method   string            `toml:"method"`
	Path     string            `toml:"path"`
	Headers  map[string]string `toml:"headers"`
	Body     string            `toml:"body"`
	Status   int               `toml:"status"`
	Contains string            `toml:"contains"`
	JSON     map[string]any    `toml:"json"`
	Within   string            `toml:"within"`
	Retries  int               `toml:"retries"`
	At       stack.Place
	Limit    time.Duration // what Within says
}

// Cause is a cause that the workspace knows by a line of a log; see stack.OwnCause.
type Cause struct {
	Line string `toml:"line"`
	Says string `toml:"says"`
	Do   string `toml:"do"`
	At   stack.Place
}

// wrong tells what is wrong with a check, and gives those of its values that may be left out.
func (c *Check) wrong(name string) (text, remedy string) {
	if c.Method == "" {
		c.Method = "GET"
	}
	if c.Path == "" {
		c.Path = "/"
	}
	var err error
	switch {
	case c.Service == "":
		return fmt.Sprintf("the check %s does not say which service is asked",
			name), `Write service = "NAME".`
	case !strings.HasPrefix(c.Path, "/"):
		return fmt.Sprintf("the path of the check %s does not begin with a slash", name),
			"A check asks its own service alone: write a path, not an address."
	case c.Status != 0 && (c.Status < 100 || c.Status > 599):
		return fmt.Sprintf("%d is no status", c.Status), "A status is a number from 100 to 599."
	case c.Retries < 0 || c.Retries > 100:
		return fmt.Sprintf("%d is no number of retries", c.Retries), "It is a number from 0 to 100."
	case c.Within != "":
		if c.Limit, err = time.ParseDuration(c.Within); err != nil || c.Limit <= 0 {
			return fmt.Sprintf("%q is no time",
				c.Within), `Write it with its unit, within = "200ms" or "2s".`
		}
	}
	return "", ""
}
