package consent

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// chain goes after what commands lead to in a checkout: the tasks and scripts that they call by
// name and theirs in turn, the files that they name, and those that their programs obey. It shows
// more rather than less: a word that names a file counts, whatever the command does with it.
type chain struct {
	fsys  fs.FS
	stack *stack.Stack
	seen  map[string]bool
	tells []string        // what is shown, in the order in which it was met
	runs  map[string]bool // scripts, by their contents
	obeys map[string]bool // files that a program obeys, by their contents
	names map[string]bool // source, as it is committed
	// sourced are settings that a shell is told to read as its own lines, by their contents but for
	// plain values.
	sourced map[string]bool

	// laid is where the checkout's files lie for what is followed; nil outside of containers, where
	// they lie where they are. place is then the folder of the container that the line runs in.
	laid  laid
	place string
}

const (
	// maxChain is how many lines are followed for one command, and maxChainDepth how far.
	maxChain      = 300
	maxChainDepth = 12
	// maxFollowed is how long a script may be, in bytes, whose lines are followed; its sum is shown
	// in any case.
	maxFollowed = 256 << 10
	// maxSummed is how long a file may be, in bytes, of which a sum is made.
	maxSummed = 64 << 20
)

// follow goes after all lines that a command consists of, each run in dir.
func follow(fsys fs.FS, s *stack.Stack, dir string, lines []string) *chain {
	c := &chain{fsys: fsys, stack: s, seen: map[string]bool{}, runs: map[string]bool{},
		obeys: map[string]bool{}, names: map[string]bool{}, sourced: map[string]bool{}}
	for _, line := range lines {
		if name, script, ok := strings.Cut(line, ": "); ok && scriptName.MatchString(name) {
			line = script // "dev: node server.js", as the lines of manifests are shown
		}
		c.line(line, dir, dir, 0)
	}
	return c
}

var scriptName = expr.New(`^[\w@./:-]+$`)

func (c *chain) tell(format string, args ...any) {
	text := value.Hide(fmt.Sprintf(format, args...))
	if !slices.Contains(c.tells, text) {
		c.tells = append(c.tells, text)
	}
}

// line follows the commands of a line that is run in cwd, and stands in a file of the folder home.
func (c *chain) line(line, cwd, home string, depth int) {
	key := cwd + "\x00" + line
	if c.seen[key] || strings.TrimSpace(line) == "" {
		return
	}
	if c.seen[key] = true; len(c.seen) > maxChain || depth > maxChainDepth {
		c.tell("and what that calls in turn, which is more than can be followed here")
		return
	}
	// Whatever can't be read as a shell would read it is still looked through for names of files.
	for word := range strings.FieldsFuncSeq(line, func(r rune) bool {
		return strings.ContainsRune(" \t\n;|&()\"'=<>`,", r)
	}) {
		c.file(word, cwd, home, depth)
	}
	for _, part := range shell.Everything(line) {
		if dir, ok := c.entered(cwd, part.Folder); ok {
			c.command(part, dir, home, depth)
		}
	}
}

// entered is the folder of the checkout that a line is in after its cd.
func (c *chain) entered(cwd, folder string) (string, bool) {
	switch {
	case folder == ".":
		return cwd, true
	case c.laid == nil:
		dir := path.Join(cwd, folder)
		return dir, filepath.IsLocal(dir) && !path.IsAbs(folder)
	}
	to := path.Join(c.place, folder)
	if path.IsAbs(folder) {
		to = folder
	}
	if dir, ok := c.laid.folder(to); ok && filepath.IsLocal(filepath.FromSlash(dir)) {
		return dir, true
	}
	return nowhere, true
}

func (c *chain) command(part shell.Command, cwd, home string, depth int) {
	words := part.Words
	for _, word := range words {
		if strings.ContainsAny(word, " \t\n") {
			c.line(word, cwd, home, depth+1) // a word can be a command: of sh -c, of what runs several at once
		} else if part.Folder != "." {
			c.file(word, cwd, home, depth)
		}
	}
	if len(words) == 0 {
		return
	}
	if (words[0] == "." || words[0] == "source") && len(words) > 1 {
		if name, ok := c.named(words[1], cwd); ok {
			c.sources(name, cwd, depth)
		}
	}
	called := words
	words, dir := ecosystem.InMember(c.stack.Projects, words, cwd, c.isFolder)
	for _, name := range slices.Concat(ecosystem.Obeyed(c.fsys, cwd, called), ecosystem.Obeyed(c.fsys, dir, called)) {
		c.obeys[name] = true
	}
	cwd = dir
	for _, called := range ecosystem.ScriptsCalled(c.stack.Projects, words, cwd) {
		for _, line := range called.Lines {
			c.tell("%s: %s", called.Name, line)
			c.line(line, called.Folder, called.Folder, depth+1)
		}
	}
	if ecosystem.ManagerNamed(words[0]).Tasks {
		c.tasks(words, cwd, depth)
	}
}

// tasks follows a call of a program that runs tasks of a file.
func (c *chain) tasks(words []string, cwd string, depth int) {
	cwd, file, called := command.Tasks(words, cwd)
	if !filepath.IsLocal(cwd) || file != "" && !filepath.IsLocal(path.Join(cwd, file)) {
		return
	}
	t := ecosystem.TasksOf(c.fsys, cwd, words[0], file)
	if len(t.Targets) > 0 && len(called) == 0 {
		called = []string{t.Targets[0].Name}
	}
	for _, name := range t.Files {
		c.obeys[name] = true
	}
	for _, name := range t.Unknown {
		c.tell("%s also reads %s, whose name only it can make out", words[0], name)
	}
	for _, line := range t.Runs {
		c.tell("%s runs whenever it reads %s: %s", words[0], t.Files[0], line)
		c.line(line, cwd, cwd, depth+1)
	}
	for _, target := range t.Targets {
		if !slices.Contains(called, target.Name) {
			continue
		}
		for _, line := range target.Lines {
			c.tell("%s %s: %s", words[0], target.Name, line)
			c.line(line, cwd, cwd, depth+1)
		}
	}
}

func (c *chain) isFolder(name string) bool {
	info, err := fs.Stat(c.fsys, name)
	return err == nil && info.IsDir()
}

var (
	// isScript are files that are run as they are, and isProcesses those that list what is run.
	isScript    = expr.New(`\.(sh|bash|zsh|fish|command|ps1|bat|cmd)$`)
	isProcesses = expr.New(`(^|/)Procfile(\.\w+)?$`)
	// isCode are files that hold a program, whatever they are called elsewhere.
	isCode = expr.New(`\.(sh|bash|zsh|fish|command|ps1|bat|cmd|[cm]?[jt]sx?|py|rb|ru|php|pl|lua|go|exs?|java|` +
		`kts?|groovy|gradle|cs|fsx?|rake)$`)
	// isSource are files that a program can be told to run, load or go by.
	isSource = expr.New(`\.([cm]?[jt]sx?|py|rb|ru|php|pl|lua|go|exs?|java|kts?|groovy|gradle|cs|fsx?|sql|txt|cfg|ini|` +
		`toml|ya?ml|json5?|xml|mk|prisma|conf|rake)$`)
)

// file takes note of a word that names a file of the checkout. What is run as it is counts by its
// content. Other files that a command names are those that one works on: they count as they are
// committed (names).
func (c *chain) file(word, cwd, home string, depth int) {
	if _, rest, ok := strings.Cut(word, "$"); ok { // "$here/up.sh"
		if _, word, ok = strings.Cut(rest, "/"); !ok {
			return
		}
		c.fileAt(path.Join(home, word), word, cwd, depth)
	}
	if name, ok := c.named(word, cwd); ok {
		c.fileAt(name, word, cwd, depth)
	}
}

// named is the path in the checkout of what a word names for what runs in cwd.
func (c *chain) named(word, cwd string) (string, bool) {
	if c.laid != nil && path.IsAbs(word) {
		return c.laid.source(word)
	}
	if c.laid != nil && cwd == nowhere {
		return c.laid.source(path.Join(c.place, word))
	}
	return path.Join(cwd, word), true
}

// sources follows a file whose lines a shell reads as its own.
func (c *chain) sources(name, cwd string, depth int) {
	info, err := fs.Stat(c.fsys, name)
	if !filepath.IsLocal(filepath.FromSlash(name)) || err != nil || !info.Mode().IsRegular() || c.sourced[name] ||
		c.runs[name] {
		return
	}
	if c.isSettings(name) { // its values may yet be filled
		c.sourced[name] = true
	} else {
		c.runs[name] = true
	}
	c.lines(name, cwd, info.Size(), depth)
}

func (c *chain) fileAt(name, word, cwd string, depth int) {
	if !filepath.IsLocal(filepath.FromSlash(name)) || c.runs[name] || c.names[name] {
		return
	}
	info, err := fs.Stat(c.fsys, name)
	if err != nil || !info.Mode().IsRegular() || c.isOutput(name) {
		return
	}
	asItIs := strings.Contains(word, "/") && info.Mode()&0o111 != 0 && !isSource.MatchString(word)
	switch {
	// What holds settings may be filled here, and what matters of it is told by loaders; but a file
	// counts by what it is used for, whatever else calls it settings.
	case c.isSettings(name) && !isCode.MatchString(name) && !asItIs:
	case isScript.MatchString(word), isProcesses.MatchString(word), asItIs:
		c.runs[name] = true
		c.lines(name, cwd, info.Size(), depth)
	case isSource.MatchString(word):
		c.names[name] = true
	}
}

// lines follows the lines of a script, or of a list of processes.
func (c *chain) lines(name, cwd string, size int64, depth int) {
	data, err := []byte(nil), error(nil)
	if size <= maxFollowed {
		data, err = fs.ReadFile(c.fsys, name)
	}
	text := string(data)
	if err != nil || strings.ContainsRune(text, 0) {
		return
	}
	if first, _, _ := strings.Cut(text, "\n"); strings.HasPrefix(first, "#!") && !shellLine.MatchString(first) {
		return // its lines are another language's
	}
	if isProcesses.MatchString(name) {
		for line := range strings.Lines(text) {
			if _, rest, ok := strings.Cut(strings.TrimSpace(line), ":"); ok && !strings.HasPrefix(line, "#") {
				c.tell("%s: %s", path.Base(name), strings.TrimSpace(line))
				c.line(strings.TrimSpace(rest), cwd, path.Dir(name), depth+1)
			}
		}
		return
	}
	for _, part := range shell.Everything(text) {
		c.line(part.Text, path.Join(cwd, part.Folder), path.Dir(name), depth+1)
	}
}

// shellLine is the first line of a script that a shell reads.
var shellLine = expr.New(`^#!.*\b(sh|bash|zsh|dash|ksh|ash)\b`)

// isSettings reports whether something calls a file settings.
func (c *chain) isSettings(name string) bool {
	return slices.ContainsFunc(c.stack.EnvFiles, func(e stack.EnvFile) bool { return e.Path == name })
}

// Committed tells of files of the workspace the names of their contents in the commits that are
// checked out, and which of them git would ignore.
type Committed func(files []string) (blobs map[string]string, ignored map[string]bool)

// isOutput reports whether a step makes a file: it counts as what it is made from.
func (c *chain) isOutput(name string) bool {
	for _, p := range c.stack.Projects {
		for _, st := range p.Steps {
			for _, o := range st.Outputs {
				if o == name || strings.HasPrefix(name, o+"/") {
					return true
				}
			}
		}
	}
	return false
}

// isBuilt reports whether a file that git ignores is a program as a build leaves it, and no text.
func (c *chain) isBuilt(name string, ignored map[string]bool) bool {
	if !ignored[name] {
		return false
	}
	f, err := c.fsys.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [512]byte
	n, _ := f.Read(head[:])
	return bytes.IndexByte(head[:n], 0) >= 0
}

// sums are the details that tell all files that were met, with sums of them.
func (c *chain) sums(blobs map[string]string, ignored map[string]bool) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(c.runs)) {
		if c.isBuilt(name, ignored) {
			continue
		}
		out = append(out, "runs the script "+name+" as it is now, sum "+sumOf(c.fsys, name))
	}
	for _, name := range slices.Sorted(maps.Keys(c.names)) {
		switch blob := blobs[name]; {
		case c.obeys[name], ignored[name], blob == "" && isMade(name):
		case blob != "":
			out = append(out, "names "+name+" as it is committed, "+blob[:min(len(blob), 12)])
		default:
			out = append(out, "names "+name+" as it is now, sum "+sumOf(c.fsys, name))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(c.sourced)) {
		out = append(out, "reads the settings of "+name+" as a shell's lines, sum "+activeSum(c.fsys, name))
	}
	var obeyed []string
	all := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(c.obeys)) {
		if info, err := fs.Stat(c.fsys, name); err == nil && info.Mode().IsRegular() {
			obeyed = append(obeyed, name)
			fmt.Fprintf(all, "%q %s\n", name, cmp.Or(blobs[name], sumOf(c.fsys, name)))
		}
	}
	if len(obeyed) > 0 {
		out = append(out, "goes by "+strings.Join(obeyed, ", ")+", sum "+hex.EncodeToString(all.Sum(nil)[:6]))
	}
	return out
}

// isMade reports whether a file lies in a folder that tools make.
func isMade(name string) bool {
	return slices.ContainsFunc(strings.Split(path.Dir(name), "/"), func(dir string) bool {
		return ecosystem.Made(dir, func(string) bool { return true })
	})
}

// plainValue is a line that gives a variable a value in which a shell finds nothing to do.
var plainValue = expr.New(`^\s*(?:export\s+)?([A-Za-z_]\w*)=(?:[\w@%+=:,./-]*|'[^']*'|"[^"$\x60\\]*")\s*(?:#.*)?$`)

// activeSum is a sum of what a shell would do with the lines of a settings file, whatever the
// values of variables are that are plain: those may be filled here.
func activeSum(fsys fs.FS, name string) string {
	data, err := fs.ReadFile(fsys, name)
	if err != nil {
		return "none, it can't be read"
	}
	h := sha256.New()
	for line := range strings.Lines(string(data)) {
		line = strings.TrimRight(line, "\r\n")
		if text := strings.TrimSpace(line); text == "" || text[0] == '#' || plainValue.MatchString(line) {
			continue
		}
		fmt.Fprintf(h, "%q\n", line)
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// sumOf is a short sum of a file's content.
func sumOf(fsys fs.FS, name string) string {
	if info, err := fs.Stat(fsys, name); err == nil && info.Size() > maxSummed {
		return fmt.Sprintf("none, of %d MB", info.Size()>>20)
	}
	data, err := fs.ReadFile(fsys, name)
	if err != nil {
		return "none, it can't be read"
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:6])
}
