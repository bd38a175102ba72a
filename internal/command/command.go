// Package command finds out what a line comes to in the end. A line of a README, of a task or of a
// compose file often only calls something of the checkout by a name: a script of a manifest, also
// of a member of its manager's workspace, an entry of a task file, a file of commands. What those
// call in turn ends in leaves: programs with their words, each in a folder. Who wants to know what
// a line does asks for its leaves, and reads no line on his own.
//
// Two leaves that are the same command, whatever they are called by, have the same Key.
package command

import (
	"encoding/json"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// Leaf is a command that calls no other by a name of the checkout's, and the folder that it is run
// in.
type Leaf struct {
	shell.Command
	Cwd string
}

// Deepest is how deep what is called by name may call others.
const Deepest = 8

// MaxFile is how long a file of commands may be that is read, in bytes.
const MaxFile = 64 << 10

// Resolver knows what of a checkout has a name that commands can call. It reads the projects of a
// stack, which may grow meanwhile, and belongs to one goroutine.
type Resolver struct {
	files   fs.FS
	stack   *stack.Stack
	known   func(dir string) bool // folders that somebody has walked; nil for none
	keys    map[string]string
	targets map[targetsKey]map[string]int // the places of targets, by their names
}

// New makes a resolver of a checkout. Known tells quickly of a folder that it is there; it may be
// nil.
func New(files fs.FS, s *stack.Stack, known func(dir string) bool) *Resolver {
	return &Resolver{files: files, stack: s, known: known, keys: map[string]string{},
		targets: map[targetsKey]map[string]int{}}
}

// Leaves lists what a command comes to, in its order; itself, where it calls nothing by name. A
// task without lines comes to nothing.
func (r *Resolver) Leaves(part shell.Command, cwd string) []Leaf { return r.below(part, cwd, 0) }

func (r *Resolver) below(part shell.Command, cwd string, depth int) (out []Leaf) {
	if len(part.Words) == 0 {
		return nil
	}
	cwd = r.Folder(path.Join(cwd, part.Folder))
	inner, ok := r.Calls(r.Member(part.Words, cwd))
	if !ok || depth > Deepest {
		part.Folder = "."
		return []Leaf{{part, cwd}}
	}
	for _, c := range inner {
		out = append(out, r.below(c.Command, c.Cwd, depth+1)...)
	}
	return out
}

// Calls are the commands of what the words call by a name, each with the folder that it is run in;
// ok is false where they call nothing by name.
func (r *Resolver) Calls(words []string, cwd string) (inner []Leaf, ok bool) {
	in := func(dir string, commands []shell.Command) {
		for _, c := range commands {
			inner = append(inner, Leaf{c, dir})
		}
		ok = true
	}
	if file := File(words); file != "" {
		if commands, dir, there := r.In(file, cwd); there {
			in(dir, commands)
		}
		return inner, ok
	}
	if ecosystem.ManagerNamed(words[0]).Tasks {
		for _, t := range r.Targets(words, cwd) {
			in(tasksFolder(words, cwd), Lines(t.Lines))
		}
		return inner, ok
	}
	lines := given(words)
	if len(words) == 1 && words[0] == "nodemon" {
		lines = r.nodemonRuns(cwd)
	}
	if len(lines) > 0 {
		in(cwd, Lines(lines))
		return inner, ok
	}
	if name, given, either := ecosystem.EitherRun(words); either {
		for _, part := range ecosystem.PartsCalled(r.stack.Projects, []string{cwd}, cwd) {
			if lines := part.Scripts[name]; len(lines) > 0 {
				in(part.Folder, Lines(withWords(lines, given)))
			}
		}
		return inner, ok
	}
	scripts, members, byRunner := ecosystem.TaskRun(words)
	if usual := ecosystem.Canonical(words); len(usual) > 1 && usual[0] == "script" {
		scripts, members = usual[1:2], []string{cwd}
	} else if !byRunner {
		return nil, false
	}
	for _, part := range ecosystem.PartsCalled(r.stack.Projects, members, cwd) {
		for _, name := range scripts {
			if lines := part.Scripts[name]; len(lines) > 0 {
				in(part.Folder, Lines(lines))
			}
		}
	}
	return inner, ok
}

// nodemonRuns is the line that nodemon is told to run by its file in a folder.
func (r *Resolver) nodemonRuns(cwd string) []string {
	var settings struct{ Exec string }
	data, err := fs.ReadFile(r.files, path.Join(cwd, "nodemon.json"))
	if err != nil || len(data) > MaxFile || json.Unmarshal(data, &settings) != nil ||
		settings.Exec == "" {
		return nil
	}
	return []string{settings.Exec}
}

// withWords puts words that a script is given where its line has a place for them, else behind the
// one line that it has.
func withWords(lines, given []string) (out []string) {
	words := strings.Join(given, " ")
	for _, line := range lines {
		with := strings.ReplaceAll(line, "{args}", words)
		if with == line && len(lines) == 1 && words != "" {
			with += " " + words
		}
		out = append(out, with)
	}
	return out
}

// given are the lines that a program which runs others is given as words: each that has a blank, or
// names a script, of those that run several at once; the one behind an option of those that run it
// again.
func given(words []string) (lines []string) {
	switch words[0] {
	case "concurrently", "conc":
		for _, w := range words[1:] {
			if script, named := strings.CutPrefix(w, "npm:"); named {
				lines = append(lines, "npm run "+script)
			} else if strings.Contains(w, " ") && !strings.HasPrefix(w, "-") {
				lines = append(lines, w)
			}
		}
	case "nodemon":
		for _, option := range []string{"--exec", "-x"} {
			if line := Option(words, option); strings.Contains(line, " ") {
				lines = append(lines, line)
			}
		}
	}
	return lines
}

// Member follows the words by which a manager is told to work in a member of its workspace, or in
// another folder: the command without them, and the folder.
func (r *Resolver) Member(words []string, cwd string) ([]string, string) {
	if len(words) == 0 {
		return words, cwd
	}
	if name := Option(words, "--package"); name != "" {
		for _, p := range r.stack.Projects {
			for _, part := range p.Parts {
				if part.Name == name {
					cwd = part.Folder
				}
			}
		}
	}
	return ecosystem.InMember(r.stack.Projects, words, cwd, r.IsFolder)
}

// Option is the value that words give to an option; empty where they give none.
func Option(words []string, name string) string {
	for i, w := range words {
		if value, joined := strings.CutPrefix(w, name+"="); joined {
			return value
		}
		if w == name && i+1 < len(words) {
			return words[i+1]
		}
	}
	return ""
}

// IsFolder reports whether the checkout has a folder.
func (r *Resolver) IsFolder(dir string) bool {
	if dir == "." || r.known != nil && r.known(dir) {
		return true
	}
	info, err := fs.Stat(r.files, dir)
	return err == nil && info.IsDir()
}

// Folder is a folder that instructions name, as it is here: there the checkout's own name is often
// the first part.
func (r *Resolver) Folder(cwd string) string {
	for rest := cwd; rest != "" && rest != "."; {
		if r.IsFolder(rest) {
			return rest
		}
		_, after, more := strings.Cut(rest, "/")
		if !more {
			break
		}
		rest = after
	}
	return "."
}

// Key is what is the same of a command however it is called: its program by its usual name, and its
// words.
func (r *Resolver) Key(words []string) string {
	text := strings.Join(words, "\x00")
	known, ok := r.keys[text]
	if !ok {
		known = ecosystem.Key(words)
		r.keys[text] = known
	}
	return known
}

// File is the file of commands that words run; empty if they run none.
func File(words []string) string {
	switch {
	case path.Ext(words[0]) == ".sh":
		return words[0]
	case len(words) > 1 && slices.Contains([]string{"sh", "bash", "zsh"}, words[0]) &&
		path.Ext(words[1]) == ".sh":
		return words[1]
	}
	return ""
}

// ownFolderIs is how a file of commands goes to a place beside itself.
var ownFolderIs = expr.New(`(?m)^\s*cd "?\$\(dirname (?:-- )?"?(?:\$0|\$\{BASH_SOURCE(?:\[0\])?\})"?\)(/[./\w-]*)?"?`)

// In are the commands in a file of commands, and the folder that it works in; ok is false where it
// isn't here.
func (r *Resolver) In(file, cwd string) (inner []shell.Command, dir string, ok bool) {
	full := path.Join(cwd, file)
	info, err := fs.Stat(r.files, full)
	if err != nil || !info.Mode().IsRegular() || info.Size() > MaxFile {
		return nil, cwd, false
	}
	data, err := fs.ReadFile(r.files, full)
	if err != nil {
		return nil, cwd, false
	}
	if m := ownFolderIs.FindSubmatch(data); m != nil {
		cwd = path.Join(path.Dir(full), string(m[1]))
	}
	return Saying(shell.Parse(string(data))), cwd, true
}

// Lines are the commands of the lines of something that has a name.
func Lines(lines []string) (out []shell.Command) {
	for _, line := range lines {
		out = append(out, shell.Parse(line)...)
	}
	return Saying(out)
}

// saysNothing are commands that print, wait or steer a script, and prepare nothing.
var saysNothing = strings.Fields("echo cd set trap exit true sleep printf wait kill pushd popd " +
	"local return shift [ test clear tput")

// SaysNothing reports whether a program only prints, waits or steers a script.
func SaysNothing(program string) bool { return slices.Contains(saysNothing, program) }

// Saying leaves out the commands that prepare and start nothing, and opens those that are given to
// a shell.
func Saying(commands []shell.Command) (out []shell.Command) {
	for _, c := range commands {
		if len(c.Words) == 0 || SaysNothing(c.Words[0]) {
			continue
		}
		if script, ok := GivenToShell(c.Words); ok {
			for _, inner := range Saying(shell.Parse(script)) {
				inner.Folder, inner.Set = path.Join(c.Folder, inner.Folder), slices.Concat(c.Set,
					inner.Set)
				out = append(out, inner)
			}
			continue
		}
		out = append(out, c)
	}
	return out
}

// GivenToShell is the script that words give to a shell, sh -c SCRIPT.
func GivenToShell(words []string) (script string, ok bool) {
	if len(words) > 2 && slices.Contains([]string{"sh", "bash", "/bin/sh", "/bin/bash"},
		words[0]) && strings.HasPrefix(words[1], "-") && strings.Contains(words[1], "c") {
		return words[2], true
	}
	return "", false
}
