package ecosystem

import (
	"cmp"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Called is a script of a manifest that a command runs by its name.
type Called struct {
	Folder, Name string
	Lines        []string
}

// ScriptsCalled lists the scripts of the projects that a command calls by name when it is run in
// cwd, those that the manager runs before and after them included. Where a name is a pattern, all
// that fit are called.
func ScriptsCalled(projects []stack.Project, words []string, cwd string) (out []Called) {
	names, members, byRunner := TaskRun(words)
	usual := Canonical(words)
	switch {
	case byRunner:
	case len(usual) > 1 && usual[0] == "script":
		names, members = usual[1:2], []string{cwd}
	case len(usual) > 1 && sideBySide[usual[0]].names, len(usual) > 1 && usual[0] == "concurrently":
		names, members = usual[1:], []string{cwd}
	default:
		if role, _ := Meaning(words); role != stack.Install {
			return nil
		}
		names, members = ManagerCalled(words).Hooks, []string{cwd}
	}
	for _, part := range PartsCalled(projects, members, cwd) {
		seen := map[string]bool{}
		for _, name := range sortedKeys(part.Scripts) {
			if !slices.ContainsFunc(names, func(n string) bool { return nameFits(n, name) }) {
				continue
			}
			for _, s := range []string{"pre" + name, name, "post" + name} {
				if lines := part.Scripts[s]; len(lines) > 0 && !seen[s] {
					seen[s] = true
					out = append(out, Called{part.Folder, s, lines})
				}
			}
		}
	}
	return out
}

// nameFits reports whether a script is meant by a word, which may stand behind the manager's name,
// and be a pattern.
func nameFits(word, script string) bool {
	if manager, name, ok := strings.Cut(word, ":"); ok && ManagerNamed(manager).Scripts != nil {
		word = name
	}
	ok, _ := path.Match(strings.ReplaceAll(word, ":", "/"), strings.ReplaceAll(script, ":", "/"))
	return ok
}

// PartsCalled lists the parts of the projects by their names or folders; without members, all below
// cwd.
func PartsCalled(projects []stack.Project, members []string, cwd string) (out []stack.Part) {
	for i := range projects {
		for _, part := range projects[i].Parts {
			named := slices.Contains(members, part.Name) || slices.Contains(members, part.Folder)
			if named || len(members) == 0 && part.Folder != cwd {
				out = append(out, part)
			}
		}
	}
	return out
}

// InMember follows the words by which a manager is told to work in a member of its workspace, or in
// another folder: the command without them, and the folder. There tells whether a folder is there.
func InMember(projects []stack.Project, words []string, cwd string,
	there func(string) bool) ([]string, string) {
	scripts := ManagerNamed(words[0]).Scripts
	if scripts == nil {
		return words, cwd
	}
	for i := 1; i < len(words); i++ {
		option, value, joined := strings.Cut(words[i], "=")
		if !slices.Contains(scripts.Member, option) {
			continue
		}
		last := i
		if !joined {
			if last++; last >= len(words) {
				break
			}
			value = words[last]
		}
		dir := path.Join(cwd, value)
		for _, part := range PartsCalled(projects, []string{value}, cwd) {
			if part.Name == value {
				dir = part.Folder
			}
		}
		if there(dir) {
			words, cwd = slices.Concat(words[:i], words[last+1:]), dir
		}
		break
	}
	return words, cwd
}

// Obeyed lists the files of a checkout by which the program of a command is told what to run or to
// load, in the folder that it is run in and in those above it.
func Obeyed(fsys fs.FS, dir string, words []string) (out []string) {
	m := ManagerCalled(words)
	for ; ; dir = path.Dir(dir) {
		for _, pattern := range m.Obeys {
			found, _ := fs.Glob(fsys, path.Join(dir, pattern))
			for _, name := range found {
				if info, err := fs.Stat(fsys, name); err == nil && info.Mode().IsRegular() {
					out = append(out, name)
				}
			}
		}
		if dir == "." || dir == "/" {
			return out
		}
	}
}

// ManagerCalled is the package manager that a command calls, itself or for what it runs; one of
// which nothing is known where it calls none.
func ManagerCalled(words []string) *Manager {
	if len(words) == 0 {
		return &Manager{}
	}
	for _, c := range calls() {
		for _, w := range c.wrappers {
			if w := strings.Fields(w); c.manager != nil && len(words) > len(w) &&
				slices.Equal(words[:len(w)], w) {
				return c.manager
			}
		}
	}
	if m := ManagerOf(words[0]); len(m.Obeys) > 0 {
		return m
	}
	if usual := Canonical(words); len(usual) > 0 {
		return ManagerOf(usual[0])
	}
	return &Manager{}
}

// taskInclude is how a file of tasks brings in others, and taskRuns what is run as soon as it is
// read.
var (
	taskInclude = map[string]*expr.Expr{
		"make": expr.New(`(?m)^ *[-s]?include[ \t]+([^#\r\n]+)`),
		"just": expr.New(`(?m)^(?:import\??|mod\??[ \t]+[\w-]+)[ \t]+['"]([^'"]+)['"]`),
		"task": expr.New(`(?m)^[ \t]+(?:taskfile|[\w-]+):[ \t]*['"]?([\w./-]+\.ya?ml)\b`),
	}
	taskRuns = map[string]*expr.Expr{
		"make": expr.New(`(?m)\$[({]shell[ \t]+(.+)|^ *[\w.-]+[ \t]*!=[ \t]*(.+)`),
		"just": expr.New("(?m)^[^#\t \r\n].*?`([^`]+)`"),
		"task": expr.New(`(?m)^[ \t]*(?:-[ \t]+)?sh:[ \t]*(.+)`),
	}
)

// TaskFile is a file of tasks as a program reads it.
type TaskFile struct {
	// Files are it and those that it brings in.
	Files []string
	// Unknown are names of others which only the program can make out.
	Unknown []string
	// Runs are the commands that are run whenever it is read, whatever task is called.
	Runs    []string
	Targets []stack.Target
}

// TasksOf reads the file of tasks that a program finds in a folder; file is the one that it is told
// to use, or empty.
func TasksOf(fsys fs.FS, dir, program, file string) (out TaskFile) {
	f := taskFolder{FolderAt(fsys, dir)}
	file = cmp.Or(file, f.taskFile(program))
	data, err := f.Read(file)
	if file == "" || err != nil {
		return out
	}
	out.Targets = f.targetsIn(program, file, data)
	for queue := []string{path.Join(dir, file)}; len(queue) > 0 && len(out.Files) < maxIncludes; queue = queue[1:] {
		if slices.Contains(out.Files, queue[0]) {
			continue
		}
		data, err := fs.ReadFile(fsys, queue[0])
		if err != nil || len(data) > maxManifest {
			continue
		}
		out.Files = append(out.Files, queue[0])
		from := path.Dir(queue[0])
		if program == "make" {
			from = dir // where it runs; the others look beside the file
		}
		text := strings.ReplaceAll(string(data), "\\\n", " ")
		for _, m := range taskRuns[program].FindAllStringSubmatch(text, -1) {
			out.Runs = append(out.Runs, balanced(strings.Join(m[1:], "")))
		}
		for _, m := range taskInclude[program].FindAllStringSubmatch(text, -1) {
			for word := range strings.FieldsSeq(m[1]) {
				if strings.ContainsAny(word, "$%") {
					out.Unknown = append(out.Unknown, word)
					continue
				}
				found, _ := fs.Glob(fsys, path.Join(from, word))
				queue = append(queue, found...)
			}
		}
	}
	return out
}

// taskFile is the folder's file of tasks that a program reads unasked; empty if there is none.
func (f taskFolder) taskFile(program string) string {
	for _, t := range taskFiles {
		if t.program == program && f.Has(t.file) {
			return t.file
		}
	}
	return ""
}

// balanced is a text up to the bracket that closes more than was opened.
func balanced(text string) string {
	depth := 0
	for i, r := range text {
		switch r {
		case '(', '{':
			depth++
		case ')', '}':
			if depth--; depth < 0 {
				return strings.TrimSpace(text[:i])
			}
		}
	}
	return strings.TrimSpace(text)
}

// FolderAt is a folder as it lies in fsys, with nothing known of what lies above it.
func FolderAt(fsys fs.FS, dir string) Folder {
	f := Folder{FS: fsys, Path: dir, Files: map[string]bool{}}
	entries, _ := fs.ReadDir(fsys, dir)
	for _, e := range entries {
		if e.IsDir() {
			f.Folders = append(f.Folders, e.Name())
		} else {
			f.Files[e.Name()] = true
		}
	}
	return f
}
