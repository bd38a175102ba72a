// Package tree walks a workspace once: which folders have a manifest, which files count by their
// names, what git's ignore files leave out. It opens nothing but ignore files, and concludes
// nothing.
package tree

import (
	"io/fs"
	"path"
	"slices"
	"strings"
	"unicode/utf8"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/stack"
)

// maxDepth bounds how deep folders are entered.
const maxDepth = 60

// Tree is what one walk has found.
type Tree struct {
	fsys        fs.FS
	Folders     []ecosystem.Folder          // those with a manifest, the outer ones first
	ByPath      map[string]ecosystem.Folder // those that hold anything of interest
	Compose     []string                    // compose files, by path
	Dockerfiles []string
	Readmes     []string
	Workflows   []string
	Seeds       []string // files that sample data is made from
	Templates   []Template
	Dotenvs     []string
	Remarks     []stack.Remark
	Files       int
}

// Template is an example file and the file that is made from it.
type Template struct {
	Path, Target string
	// LocalOnly is true where git would keep the target, but not the file .env.local beside it.
	LocalOnly bool
}

var (
	templateName = expr.New(`^(.*?)[._-](example|sample|template|tmpl|dist|defaults?)(\.[A-Za-z0-9.]+)?$`)
	// A name with the word in front: example-config.php.
	frontName = expr.New(`^(?:example|sample|template)[._-](.+)$`)
	// Ends that only a file for copying has.
	copied = expr.New(`[._-](example|sample|dist|template|tmpl)$`)
	// What lies between a name and its ending makes a file for copying only where the name speaks
	// of settings.
	speaksOfSettings = expr.New(
		`(?i)(conf|settings?|database|secrets?|credentials|parameters|\blocal\b|application|appsettings|options)`)
	configEnding = expr.New(`^.+\.(jsonc?|ya?ml|toml|properties|php|rb|js|cjs|mjs|ts|py|ini|conf|cfg|exs)$`)
	// Programs are for copying only where their name speaks of settings.
	programEnding = expr.New(`\.(php|rb|js|cjs|mjs|ts|py|exs)$`)
	// What lies in such a folder belongs to a part that nobody may have switched on.
	addOn = expr.New(`(?i)(^|/)(plugins?|add-?ons?|extensions?|modules|themes|skins|contrib)(/|$)`)
	// What lies in such a folder is for copying as a whole, to begin something new with.
	scaffold = expr.New(`(?i)(^|[/_-])_?(templates?|scaffold(ing|s)?|skeletons?|boilerplates?|stubs?)_?(/|$)`)
	// Tools that read such a file themselves, whatever lies beside it.
	readsItself = expr.New(
		`(?i)^\.?(phpunit|phpstan|phpcs|php-cs-fixer|php_cs|psalm|behat|rector|infection|codeception|eslintrc|` +
			`prettierrc|editorconfig|docker-compose|compose|phpbench|deptrac)([.-]|$)|\.config\.[cm]?[jt]s$`)
)

// IsConfig reports whether a file of this name can hold settings, whatever else it is.
func IsConfig(name string) bool { return configEnding.MatchString(name) }

// envNames are what templates of env files are for, by what is left of their names.
var envNames = map[string]string{"env": ".env", "dotenv": ".env", ".env": ".env"}

// TemplateOf tells which settings file a template of this name is for; ok is false for any other
// name.
func TemplateOf(name string) (target string, ok bool) {
	switch name {
	case "example.env", "sample.env", "template.env", "default.env", "defaults.env":
		return ".env", true
	}
	if m := frontName.FindStringSubmatch(name); m != nil && speaksOfSettings.MatchString(m[1]) &&
		configEnding.MatchString(m[1]) && !readsItself.MatchString(m[1]) {
		return m[1], true
	}
	m := templateName.FindStringSubmatch(name)
	if m == nil {
		return "", false
	}
	target = m[1] + m[3]
	if env := envNames[target]; env != "" && strings.Contains(name, "env") {
		return env, true
	}
	switch {
	case strings.HasPrefix(target, ".env."), strings.HasSuffix(target, ".env"):
		return target, true
	case !configEnding.MatchString(target) || readsItself.MatchString(target) || m[1] == "",
		ecosystem.IsManifest(target), programEnding.MatchString(target) &&
			!speaksOfSettings.MatchString(m[1]),
		strings.HasPrefix(m[2], "t") && programEnding.MatchString(target) &&
			strings.Count(m[3], ".") > 1:
		return "", false
	case copied.MatchString(name), m[2] != "dist" && !strings.HasPrefix(m[2], "default") &&
		speaksOfSettings.MatchString(m[1]):
		return target, true
	}
	return "", false
}

// isDefaults is 1 for files of defaults, and 0 for others.
func isDefaults(file string) int {
	if strings.Contains(path.Base(file), "default") {
		return 1
	}
	return 0
}

// mayBeTemplate is a quick look at a name before TemplateOf: the words for a template but one have
// three letters in common.
func mayBeTemplate(name string) bool {
	return strings.Contains(name, "env") || strings.Contains(name, "mpl") ||
		strings.Contains(name, "dist")
}

var (
	seedName = expr.New(
		`(?i)^(.*[-_.])?(seeds?|seeders?|fixtures?|sample[-_]?data|initial[-_]?data|demo[-_]?data|` +
			`databaseseeder)([-_.].*)?\.(rb|js|ts|mjs|py|php|sql|json|ya?ml|exs|csv)$`)
)

type walker struct {
	fsys      fs.FS
	checkouts map[string]bool
	tree      *Tree
	source    func(dir, name string) // is told of every file of code, if not nil
}

// Walk reads the tree once. Folders that the ignore files leave out are not entered, save other
// checkouts; of the ignored files only settings and compose files count, which people keep out of
// git on purpose.
func Walk(fsys fs.FS, source func(dir, name string), checkouts ...stack.Checkout) (*Tree, error) {
	w := &walker{fsys: fsys, checkouts: map[string]bool{}, tree: &Tree{fsys: fsys,
		ByPath: map[string]ecosystem.Folder{}}, source: source}
	for _, c := range checkouts {
		w.checkouts[c.Path] = true
	}
	if err := w.visit(".", 0, nil); err != nil {
		return nil, err
	}
	t := w.tree
	slices.SortFunc(t.Compose, ByDepth)
	slices.SortFunc(t.Templates, func(a, b Template) int {
		// defaults may as well be read as they are: an example is the better template
		if a.Target == b.Target {
			if d := isDefaults(a.Path) - isDefaults(b.Path); d != 0 {
				return d
			}
		}
		return ByDepth(a.Path, b.Path)
	})
	slices.SortStableFunc(t.Folders, func(a, b ecosystem.Folder) int {
		return ByDepth(a.Path, b.Path)
	})
	for _, list := range []*[]string{&t.Dotenvs, &t.Dockerfiles, &t.Readmes, &t.Seeds} {
		slices.SortFunc(*list, ByDepth)
	}
	return t, nil
}

// At is a folder that counts or, for any other, one of which nothing is known but its path: a
// correction, a README or a compose file can name any.
func (t *Tree) At(dir string) ecosystem.Folder {
	if f, known := t.ByPath[dir]; known {
		return f
	}
	return ecosystem.Folder{FS: t.fsys, Path: dir, Files: map[string]bool{}}
}

func (w *walker) visit(dir string, depth int, rules *ignores) error {
	t := w.tree
	entries, err := w.read(dir)
	if err != nil && dir == "." {
		return err
	}
	if err != nil {
		t.Remarks = append(t.Remarks, stack.Remark{Level: stack.Warning,
			Code: stack.CodeFolderUnreadable, At: stack.Place{File: dir},
			Text:   "the folder can't be read: " + stack.Reason(err),
			Remedy: "Give yourself the right to read it, if it matters."})
		return nil
	}
	top := depth == 0 || w.checkouts[dir]
	if w.checkouts[dir] {
		rules = nil // each checkout has rules of its own
	}
	rules = w.ignoredIn(dir, entries, rules, top)
	below, here := w.folders(dir, entries, rules), w.files(dir, entries, rules)
	if here.manifest || here.kept || top {
		f := ecosystem.Folder{FS: w.fsys, Path: dir, Files: here.names(entries), Folders: below}
		t.ByPath[dir] = f
		if here.manifest {
			t.Folders = append(t.Folders, f)
		}
	}
	if depth >= maxDepth {
		if len(below) > 0 {
			t.Remarks = append(t.Remarks, stack.Remark{Level: stack.Note,
				Code: stack.CodeFolderTooDeep,
				At:   stack.Place{File: dir}, Text: "folders below this one are not looked at",
				Remedy: "Start nharbor further down with -C."})
		}
		return nil
	}
	for _, name := range below {
		if err := w.visit(path.Join(dir, name), depth+1, rules); err != nil {
			return err
		}
	}
	return nil
}

// ignoredIn adds the rules of a folder's own file of what git ignores. One at a top that ignores
// all is for something else.
func (w *walker) ignoredIn(dir string, entries []fs.DirEntry, rules *ignores, top bool) *ignores {
	for _, e := range entries {
		if e.Name() != ".gitignore" || !e.Type().IsRegular() {
			continue
		}
		data, err := fs.ReadFile(w.fsys, path.Join(dir, ".gitignore"))
		if err == nil && len(data) < 1<<20 && !(top && ignoresAll(string(data))) {
			rules = rules.with(dir, string(data))
		}
	}
	return rules
}

// ownDirs is a file system that lists folders more quickly than the standard's interface allows.
type ownDirs interface {
	ReadOwnDir(name string) ([]fs.DirEntry, error)
}

func (w *walker) read(dir string) ([]fs.DirEntry, error) {
	if own, ok := w.fsys.(ownDirs); ok {
		return own.ReadOwnDir(dir)
	}
	return fs.ReadDir(w.fsys, dir)
}

// folders lists the folders to enter, sorted.
func (w *walker) folders(dir string, entries []fs.DirEntry, rules *ignores) []string {
	var below []string
	beside := func(file string) bool {
		return slices.ContainsFunc(entries, func(e fs.DirEntry) bool { return e.Name() == file })
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		name := e.Name()
		if !utf8.ValidString(name) {
			w.tree.Remarks = append(w.tree.Remarks, stack.Remark{Level: stack.Note,
				Code: stack.CodeFolderNameInvalid, At: stack.Place{File: dir},
				Text:   "a folder here has a name that is not valid UTF-8; it is not looked at",
				Remedy: "Rename it, if it matters."})
			continue
		}
		if strings.Contains(name, "{{") {
			// of a scaffold: what is in it becomes a program only where the name is filled in
			continue
		}
		if !ecosystem.Made(name, beside) && !rules.ignored(dir, name, true) ||
			len(w.checkouts) > 0 && w.checkouts[path.Join(dir, name)] {
			below = append(below, name)
		}
	}
	slices.Sort(below)
	return below
}

// present is what of a folder's files counts.
type present struct {
	manifest, kept bool
	out            map[string]bool // files that don't count, though they are there
}

func (p present) names(entries []fs.DirEntry) map[string]bool {
	names := make(map[string]bool, len(entries))
	for _, e := range entries {
		if !e.IsDir() && !p.out[e.Name()] && utf8.ValidString(e.Name()) {
			names[e.Name()] = true
		}
	}
	return names
}

// files looks at the files of a folder and keeps those of interest.
func (w *walker) files(dir string, entries []fs.DirEntry, rules *ignores) present {
	here := present{out: map[string]bool{}}
	seeds := slices.Contains(seedFolders, path.Base(dir))
	for _, e := range entries {
		if e.IsDir() {
			continue
		}
		w.tree.Files++
		name := e.Name()
		if w.source != nil && e.Type().IsRegular() && ecosystem.OfCode(path.Ext(name)) != nil &&
			!rules.ignored(dir, name, false) {
			w.source(dir, name)
		}
		if !w.isFile(dir, e, seeds) {
			here.out[name] = true
			continue
		}
		what, isManifest := note(dir, name, seeds), ecosystem.IsManifest(name)
		if what == nothing && !isManifest {
			continue
		}
		if what != settingsFile && rules.ignored(dir, name, false) {
			here.out[name] = true
			continue
		}
		here.manifest = here.manifest || isManifest
		if what != nothing {
			here.kept = true
			w.keep(dir, name, what, rules)
		}
	}
	return here
}

// seedFolders are names of folders that hold what a store is filled with.
var seedFolders = []string{"seed", "seeds", "seeder", "seeders", "fixtures"}

// isFile reports whether an entry is a file, or a link to one inside the same folder tree; a link
// to a folder is never followed. Of anything else that would be read, it is said.
func (w *walker) isFile(dir string, e fs.DirEntry, seeds bool) bool {
	is := e.Type()
	if is&fs.ModeSymlink != 0 {
		info, err := fs.Stat(w.fsys, path.Join(dir, e.Name()))
		if err != nil {
			return false
		}
		is = info.Mode().Type()
	}
	if !is.IsRegular() {
		w.unread(dir, e.Name(), seeds, is)
	}
	return is.IsRegular()
}

// unread remembers a pipe or a device under a name that counts; sockets lie about where programs
// run.
func (w *walker) unread(dir, name string, seeds bool, is fs.FileMode) {
	counts := note(dir, name, seeds) != nothing || ecosystem.IsManifest(name) ||
		ecosystem.OfCode(path.Ext(name)) != nil
	if files, ok := w.fsys.(*reading.Files); ok && counts &&
		is&(fs.ModeNamedPipe|fs.ModeDevice) != 0 {
		files.NoteUnread(path.Join(dir, name), reading.ErrNotRegular)
	}
}

// What a file's name makes it.
type interest int

const (
	nothing interest = iota
	settingsFile
	instructions
	imageFile
	workflow
	seed
	processes
	versions
)

// note tells what a file is by its name alone; it is called for every file and must be quick.
func note(dir, name string, seeds bool) interest {
	switch name[0] {
	case '.':
		if strings.HasPrefix(name, ".env") {
			return settingsFile
		}
		if name == ".tool-versions" || name == ".mise.toml" || name == ".sdkmanrc" ||
			name == ".devcontainer.json" {
			return versions
		}
	case 'D', 'C':
		if strings.HasPrefix(name, "Dockerfile") || strings.HasPrefix(name, "Containerfile") {
			return imageFile
		}
	case 'P':
		if strings.HasPrefix(name, "Procfile") {
			return processes
		}
	}
	if name == "mise.toml" {
		return versions
	}
	if mayBeTemplate(name) {
		if target, ok := TemplateOf(name); ok && (strings.Contains(target, "env") ||
			!Aside.MatchString(dir) && !addOn.MatchString(dir)) {
			return settingsFile
		}
	}
	if readme.IsInstructions(name) {
		return instructions
	}
	switch path.Ext(name) {
	case ".yml", ".yaml":
		if compose.IsFileName(name) {
			return settingsFile
		}
		if strings.HasSuffix(dir, ".github/workflows") {
			return workflow
		}
		fallthrough
	case ".rb", ".js", ".ts", ".mjs", ".py", ".php", ".sql", ".json", ".exs", ".csv":
		if (strings.Contains(name, "eed") || strings.Contains(name, "ixture") ||
			strings.Contains(name, "data")) && seedName.MatchString(name) || seeds {
			return seed
		}
	}
	return nothing
}

func (w *walker) keep(dir, name string, what interest, rules *ignores) {
	t, full := w.tree, path.Join(dir, name)
	switch what {
	case settingsFile:
		w.keepSettings(dir, name, rules)
	case instructions:
		t.Readmes = append(t.Readmes, full)
	case imageFile:
		t.Dockerfiles = append(t.Dockerfiles, full)
	case workflow:
		t.Workflows = append(t.Workflows, full)
	case seed:
		t.Seeds = append(t.Seeds, full)
	}
}

// keepSettings keeps a file that may describe containers, be a template, or hold variables.
func (w *walker) keepSettings(dir, name string, rules *ignores) {
	t, full := w.tree, path.Join(dir, name)
	if compose.IsFileName(name) {
		if data, err := fs.ReadFile(w.fsys, full); err != nil || compose.Describes(name, data) {
			t.Compose = append(t.Compose, full)
		}
		return
	}
	target, ok := TemplateOf(name)
	ofWork := strings.Contains(target, "env") ||
		!scaffold.MatchString(dir) && !ofHosting.MatchString(dir)
	switch {
	case ok && ofWork && !OfTests.MatchString(dir+"/"):
		t.Templates = append(t.Templates, Template{full, path.Join(dir, target),
			target == ".env" && !rules.ignored(dir, ".env", false) &&
				rules.ignored(dir, ".env.local", false)})
	case name == ".env" || strings.HasPrefix(name, ".env."):
		t.Dotenvs = append(t.Dotenvs, full)
	}
}

// ByDepth orders paths: the outer ones first.
func ByDepth(a, b string) int {
	if a == "." || b == "." {
		return strings.Compare(a, b) // "." sorts before any name
	}
	if d := strings.Count(a, "/") - strings.Count(b, "/"); d != 0 {
		return d
	}
	return strings.Compare(a, b)
}

// Aside are folders whose projects are looked at but not launched.
var Aside = expr.New(
	`(?i)(^|/)(examples?|samples?|demos?|tests?|testdata|fixtures?|docs?|documentation|e2e|benchmarks?|storybook|` +
		`playground|_?templates?_?|[\w-]+[-_]templates?|stubs?|scaffold(ing|s)?|skeletons?|boilerplates?|` +
		`archive[ds]?|deprecated|legacy|tutorials?|` +
		`(reg|integration|acceptance|functional|load|stress|smoke|unit)[-_]?tests?|tests?[-_][\w-]+)(/|$)`)

// ofHosting are folders of what puts an application on somebody's machines: templates there are
// filled by what does that.
var ofHosting = expr.New(`(?i)(^|/)(infra(structure)?|terraform|helm|charts?|k8s|kubernetes|` +
	`ansible|\.platform|\.ebextensions)(/|$)`)

// OfTests are files of tests and of tools: they say nothing of what a launch needs.
var OfTests = expr.New(
	`(?i)(^|/)(tests?|testing|specs?|__tests__|_*mocks?_*|e2e|cypress|features|bench(marks?)?)/|` +
		`[._-](test|spec|stories)\.[a-z]+$|` +
		`(^|/)test_[^/]*\.py$|_test\.(go|rb|py|exs)$|(^|/)(conftest|testing|noxfile|fabfile)\.py$`)
