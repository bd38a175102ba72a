// Package ecosystem knows the package managers: how a project of each is recognised, what it wants
// of the machine, and how it installs, builds, serves, migrates and tests. One file for each
// manager.
package ecosystem

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
)

// Folder is one folder of a workspace, with the names of the plain files and of the folders in it.
type Folder struct {
	FS      fs.FS
	Path    string // relative to FS, "." for its root
	Files   map[string]bool
	Folders []string

	// Roots are the findings so far that have members, those of the outer folders first.
	Roots []*Finding
	// Outer are all findings so far, those of the outer folders first.
	Outer []*Finding
	// System is the operating system that things are to run on, as Go names it; empty is taken for
	// linux.
	System string
	// Changed is when a file, relative to FS, was last committed; nil where nobody knows.
	Changed func(file string) time.Time
	// Told gives the commands that instructions have for the folder, those of its own READMEs
	// first; nil where nobody has read any. It is asked only where the files themselves leave a
	// choice.
	Told func() []Told
}

// Told is a command of instructions.
type Told struct {
	Words []string
	At    stack.Place
}

// Has reports whether the folder holds a file of that name.
func (f Folder) Has(name string) bool { return f.Files[name] }

// At is the place of a file of the folder.
func (f Folder) At(name string, line int) stack.Place {
	return stack.Place{File: path.Join(f.Path, name), Line: line}
}

const maxManifest = 8 << 20

// Read reads a file of the folder; a file of more than 8 MB is refused.
func (f Folder) Read(name string) ([]byte, error) {
	file := path.Join(f.Path, name)
	info, err := fs.Stat(f.FS, file)
	if err == nil && info.Size() > maxManifest {
		err = &reading.TooLarge{Size: info.Size(), Limit: maxManifest}
	}
	if err == nil && !info.Mode().IsRegular() {
		err = reading.ErrNotRegular
	}
	if files, ok := f.FS.(*reading.Files); ok {
		files.NoteUnread(file, err)
	}
	var data []byte
	if err == nil {
		if data, err = fs.ReadFile(f.FS, file); err == nil {
			return data, nil
		}
	}
	return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFileUnreadable,
		At: stack.Place{File: file}, Text: "the file can't be read: " +
			stack.Reason(err), Remedy: "Check its rights and its size.", Cause: err}
}

// Finding is what a manager's reader says of a folder.
type Finding struct {
	Project stack.Project
	Remarks []stack.Remark
	// Members are patterns of the folders, relative to the project's, that belong to it; one that
	// begins with ! takes some out.
	Members []string
	// Asks are the names of packages that the project asks for, by which members find each other.
	Asks []string
	// Within is the finding that this one is a member of; nil for a project of its own.
	Within *Finding

	node   *nodeProject         // nil for other ecosystems
	settle func(all []*Finding) // concludes what needs the others; nil for nothing
}

// Settle concludes what only all findings of a workspace together tell, such as what a script does
// that calls one of another member. Call it once, when all folders were read.
func Settle(all []*Finding) {
	for _, f := range slices.Backward(all) { // members before what they are members of
		if f.settle != nil {
			f.settle(all)
		}
	}
}

// remark adds a remark.
func (f *Finding) remark(level stack.Level, code stack.Code, at stack.Place, text, remedy string) {
	f.Remarks = append(f.Remarks,
		stack.Remark{Level: level, Code: code, Text: text, At: at, Remedy: remedy})
}

// Has reports whether the folder is a member of the project.
func (f *Finding) Has(folder string) bool {
	rel := folder
	if f.Project.Path != "." {
		var below bool
		if rel, below = strings.CutPrefix(folder, f.Project.Path+"/"); !below {
			return false
		}
	}
	in := false
	for _, p := range f.Members {
		out, isOut := strings.CutPrefix(p, "!")
		if isOut {
			p = out
		}
		if p = path.Clean(strings.TrimSuffix(p, "/")); MatchParts(strings.Split(p, "/"),
			strings.Split(rel, "/")) {
			in = !isOut
		}
	}
	return in
}

// MatchParts reports whether the parts of a path fit those of a pattern: ** fits any number of
// them, and each other part is matched as package path does.
func MatchParts(pattern, parts []string) bool {
	for i, p := range pattern {
		if p == "**" {
			for k := i; k <= len(parts); k++ {
				if MatchParts(pattern[i+1:], parts[k:]) {
					return true
				}
			}
			return false
		}
		if i >= len(parts) {
			return false
		}
		if ok, _ := path.Match(p, parts[i]); !ok {
			return false
		}
	}
	return len(pattern) == len(parts)
}

// within finds the project of the ecosystem that the folder is a member of, or nil.
func (f Folder) within(ecosystem string) *Finding {
	for _, r := range f.Roots {
		if r.Project.Ecosystem == ecosystem && r.Project.Path != f.Path && r.Has(f.Path) {
			return r
		}
	}
	return nil
}

// around finds the nearest project of the ecosystem in a folder above this one, or nil.
func (f Folder) around(ecosystem string) *Finding {
	for _, o := range slices.Backward(f.Outer) {
		if o.Project.Ecosystem == ecosystem && o.Project.Path != f.Path &&
			(o.Project.Path == "." || strings.HasPrefix(f.Path, o.Project.Path+"/")) {
			return o
		}
	}
	return nil
}

// finding begins what is said of a folder with this manifest.
func (f Folder) finding(ecosystem, manager, manifest, says string) *Finding {
	out := &Finding{Within: f.within(ecosystem),
		Project: stack.Project{Path: f.Path, Ecosystem: ecosystem, Manager: manager}}
	if out.Within != nil {
		out.Project.Manager = out.Within.Project.Manager
	}
	out.evidence(f.At(manifest, 1), says)
	return out
}

func (f *Finding) evidence(at stack.Place, says string) {
	f.Project.Evidence = append(f.Project.Evidence,
		stack.Evidence{File: at.File, Line: at.Line, Says: says})
}

// names adds an evidence that names the manager which takes care of the project.
func (f *Finding) names(manager string, at stack.Place, says string) {
	f.Project.Evidence = append(f.Project.Evidence,
		stack.Evidence{File: at.File, Line: at.Line, Says: says, Manager: manager})
}

// wants adds a tool that the project asks for.
func (f *Finding) wants(tool, constraint string, at stack.Place) {
	if constraint == "" {
		constraint = "*"
	}
	f.Project.Runtimes = append(f.Project.Runtimes,
		stack.Runtime{Tool: tool, Constraint: constraint, At: at})
}

// lockMissing warns that nothing pins the versions of what is installed.
func (f *Finding) lockMissing(lock string, at stack.Place) {
	f.remark(stack.Warning, stack.CodeLockMissing, at,
		"there is no "+lock+", so each machine may get other versions",
		"Commit the "+lock+" that the install makes.")
}

// compiles notes what it takes to install a package that is compiled on the way.
func (f *Finding) compiles(name string, takes []string, certain bool, at stack.Place) {
	for _, t := range takes {
		f.Project.Compiles = append(f.Project.Compiles,
			stack.Compile{Package: name, Takes: t, Certain: certain, At: at})
	}
}

// uses keeps which packages the folder asks for.
func (f *Finding) uses(name string, packages map[string]stack.Place) {
	f.Project.Parts = append(f.Project.Parts,
		stack.Part{Folder: f.Project.Path, Name: name, Uses: packages})
}

// scripts keeps what the manager runs by name in the folder, behind uses.
func (f *Finding) scripts(lines map[string][]string) {
	f.Project.Parts[len(f.Project.Parts)-1].Scripts = lines
}

// drop takes a role's steps away.
func (f *Finding) drop(role stack.Role) {
	f.Project.Steps = slices.DeleteFunc(f.Project.Steps,
		func(s stack.Step) bool { return s.Role == role })
}

// keepsToLock are words of installs that change nothing but what happens where the lock file is out
// of date.
var keepsToLock = []string{"--locked", "--frozen", "--check-locked", "--frozen-lockfile",
	"--immutable", "--locked-mode"}

// step adds a step. An install that makes the lock file and the one that keeps to it are remembered
// as the same.
func (f *Finding) step(s stack.Step) {
	if s.As == nil && s.Role == stack.Install {
		s.As = slices.DeleteFunc(slices.Clone(s.Command),
			func(w string) bool { return slices.Contains(keepsToLock, w) })
	}
	f.Project.Steps = append(f.Project.Steps, s)
}

// Reader recognises one manager's projects. It returns nil for a folder that is none, and a
// *stack.Fault for a manifest that can't be read.
type Reader func(Folder) (*Finding, error)

// named gives the names of the folder's files that match the pattern, sorted.
func (f Folder) named(pattern string) []string {
	var out []string
	for name := range f.Files {
		if ok, _ := path.Match(pattern, name); ok {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// first gives the first of the names that the folder has a file of, or nothing.
func (f Folder) first(names ...string) string {
	for _, n := range names {
		if f.exists(n) {
			return n
		}
	}
	return ""
}

// exists reports whether a file or folder lies at the path below the folder.
func (f Folder) exists(name string) bool {
	if !strings.Contains(name, "/") {
		return f.Files[name] || slices.Contains(f.Folders, name)
	}
	top, _, _ := strings.Cut(name, "/")
	if !slices.Contains(f.Folders, top) && !strings.HasPrefix(top, ".") && top != "vendor" {
		return false
	}
	_, err := fs.Stat(f.FS, path.Join(f.Path, name))
	return err == nil
}

// text reads a file of the folder that may be absent or too big: then it is empty.
func (f Folder) text(name string) string {
	if name == "" || !f.exists(name) {
		return ""
	}
	data, err := f.Read(name)
	if err != nil {
		return ""
	}
	return string(data)
}

// versionFile reads a file that holds nothing but a version, as version managers leave it.
func (f Folder) versionFile(out *Finding, tool, name string) {
	v := strings.TrimSpace(f.text(name))
	v, _, _ = strings.Cut(v, "\n")
	v = strings.TrimPrefix(strings.TrimPrefix(strings.TrimSpace(v), tool+"-"), "v")
	if v != "" && v[0] >= '0' && v[0] <= '9' {
		out.Project.Runtimes = append(out.Project.Runtimes, pins(tool, v, f.At(name, 1)))
	}
}

// pinned makes a constraint of a version that a file names: 20 allows 20.9, and 3.11.4 any 3.11,
// since a release that only mends others seldom makes a difference.
func pinned(v string) string {
	parts := strings.SplitN(v, ".", 3)
	if len(parts) == 1 {
		return "^" + v
	}
	return "~" + parts[0] + "." + parts[1]
}

// pins is the version that a file names: an exact one stays exact, and says which others are close
// to it.
func pins(tool, version string, at stack.Place) stack.Runtime {
	close := pinned(version)
	if tool == "node" {
		close = strings.Replace(close, "~", "^",
			1) // its later releases of the same number keep what worked
	}
	if strings.Count(version, ".") < 2 {
		return stack.Runtime{Tool: tool, Constraint: close, At: at}
	}
	return stack.Runtime{Tool: tool, Constraint: version, Close: close, At: at}
}

// step makes a step of a project in the folder.
func (f Folder) step(role stack.Role, at stack.Place, command ...string) stack.Step {
	return stack.Step{ID: string(role) + ":" + f.Path, Role: role, Command: command,
		Env: map[string]string{}, At: at}
}

// locked lists the files that an install depends on: those that are there, and the lock file that
// it may make.
func (f Folder) locked(lock string, names ...string) []string {
	out := f.in(names...)
	if lock = path.Join(f.Path, lock); !slices.Contains(out, lock) {
		out = append(out, lock)
	}
	return out
}

func (f Folder) in(names ...string) []string {
	var out []string
	for _, n := range names {
		if f.Has(n) {
			out = append(out, path.Join(f.Path, n))
		}
	}
	return out
}

// position tells line and column, both from 1, of an offset in a text.
func position(data []byte, offset int64) (line, column int) {
	before := data[:max(0, min(offset, int64(len(data))))]
	return 1 + bytes.Count(before, []byte("\n")), len(before) - bytes.LastIndexByte(before, '\n')
}

// parseJSON reads a JSON manifest into out, and tells on which line each key stands; keys of nested
// objects are joined with a dot.
func parseJSON(f Folder, name string, data []byte, out any) (map[string]int, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if err := json.Unmarshal(data, out); err != nil {
		offset := int64(0)
		text := err.Error()
		var syntax *json.SyntaxError
		var kind *json.UnmarshalTypeError
		switch {
		case errors.As(err, &syntax):
			offset = max(0, syntax.Offset-1)
			text = "not valid JSON: " + syntax.Error()
		case errors.As(err, &kind):
			offset = kind.Offset
			text = fmt.Sprintf("%s is %s where another kind of value is expected", kind.Field,
				kind.Value)
		}
		line, column := position(data, offset)
		lines := strings.Split(string(data), "\n")
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax,
			At: f.At(name, line), Column: column, Text: text,
			Line:   strings.TrimRight(lines[line-1], "\r"),
			Remedy: "Correct the file here or just above: often a comma too many or too few."}
	}
	return keyLines(data), nil
}

func keyLines(data []byte) map[string]int {
	lines := map[string]int{}
	d := json.NewDecoder(bytes.NewReader(data))
	seen, line := int64(0), 1 // each part is looked at once
	lineNow := func() int {
		now := min(d.InputOffset(), int64(len(data)))
		line += bytes.Count(data[seen:now], []byte("\n"))
		seen = now
		return line
	}
	var walk func(prefix string, depth int) bool
	walk = func(prefix string, depth int) bool {
		t, err := d.Token()
		if err != nil {
			return false
		}
		delim, ok := t.(json.Delim)
		if !ok {
			return true
		}
		for d.More() {
			at := prefix
			if delim == '{' {
				key, err := d.Token()
				if err != nil {
					return false
				}
				at = key.(string)
				if prefix != "" {
					at = prefix + "." + at
				}
				lines[at] = lineNow()
			}
			if !walk(at, depth+1) {
				return false
			}
		}
		_, err = d.Token()
		return err == nil
	}
	walk("", 0)
	return lines
}

// lineOf finds the first line, from 1, that contains the text; 0 if none does.
func lineOf(data []byte, text string) int {
	i := bytes.Index(data, []byte(text))
	if i < 0 {
		return 0
	}
	line, _ := position(data, int64(i))
	return line
}

// Read finds the projects of a folder. A task file is a project of its own where there is no other;
// beside one, its entries are the first one's. A manifest that can't be read hides no other: its
// *stack.Fault is in the errors.
func Read(f Folder) (found []*Finding, errs []error) {
	for _, e := range All {
		for _, read := range e.Readers {
			out, err := read(f)
			if err != nil {
				errs = append(errs, err)
			} else if out != nil {
				found = append(found, out)
			}
		}
	}
	if len(found) > 0 {
		_, _, found[0].Project.Targets = f.Targets()
	} else if out := readTasks(f); out != nil {
		found = append(found, out)
	}
	return found, errs
}

// rule is one of the ways in which a project P may be made, by name: when tells whether it is, and
// then draws the conclusions.
type rule[P any] struct {
	name string
	when func(P) bool
	then func(P)
}

// decide goes through rules in their order; the first that holds counts.
func decide[P any](rules []rule[P], p P) {
	for _, r := range rules {
		if r.when(p) {
			r.then(p)
			return
		}
	}
}
