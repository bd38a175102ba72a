package demand

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/shell"
)

// lacking is a command that may go by a file which isn't in the checkout.
type lacking struct {
	*Coverage
	words, usual []string // usual in the form that all managers' calls share
	cwd          string
}

// lacks tells what a command can't do without that isn't in the checkout; empty if nothing is known
// to be missing.
func (d *Coverage) lacks(c shell.Command, cwd string) string {
	if len(c.Words) == 0 || !d.Commands.IsFolder(cwd) {
		return ""
	}
	l := &lacking{d, c.Words, ecosystem.Canonical(c.Words), cwd}
	if r := rule.First(lackRules, l); r != nil {
		if what := r.Then(l); what != "" {
			return "there is no " + what + " here"
		}
	}
	return ""
}

// lackRules tell by the kind of a command what it goes by and isn't there; empty if it is there.
var lackRules = []rule.Rule[*lacking, func(*lacking) string]{
	lackIf("a copy", func(l *lacking) bool {
		return Program("cp", "copy", "mv")(&Call{Words: l.words})
	}, (*lacking).copied),
	lackIf("an install by a list", func(l *lacking) bool { return l.list() != "" },
		func(l *lacking) string {
			if file := l.list(); !l.lies(path.Join(l.cwd, file)) {
				return file
			}
			return ""
		}),
	lackIf("a call of compose", func(l *lacking) bool {
		verb, _ := command.ComposeCall(l.words)
		return verb != "" && len(l.Stack.ComposeFiles) == 0
	}, func(*lacking) string { return "compose file" }),
	lackIf("a task", func(l *lacking) bool {
		return ecosystem.ManagerNamed(l.words[0]).Tasks
	}, func(l *lacking) string {
		if l.above(func(dir string) bool {
			tasks, _, _ := l.Tree.At(dir).Targets()
			return tasks != "" || l.Commands.Target(l.words, dir) != nil
		}) {
			return ""
		}
		return "file of tasks for " + l.words[0]
	}),
	lackIf("a script", func(l *lacking) bool {
		return len(l.usual) > 1 && l.usual[0] == "script" &&
			ecosystem.Of(l.words) == ecosystem.Named("node")
	}, func(l *lacking) string {
		if l.above(func(dir string) bool { return l.Exists(path.Join(dir, "package.json")) }) {
			return ""
		}
		return "package.json"
	}),
	lackIf("a program by its path", func(l *lacking) bool {
		return strings.HasPrefix(l.words[0], "./")
	}, func(l *lacking) string {
		if l.lies(path.Join(l.cwd, l.words[0])) || l.compiles() {
			return ""
		}
		return l.words[0]
	}),
}

func lackIf(name string, when func(*lacking) bool, what func(*lacking) string,
) rule.Rule[*lacking, func(*lacking) string] {
	return rule.Rule[*lacking, func(*lacking) string]{Name: name, When: when, Then: what}
}

// above reports whether the folder or one above has something: a part's instructions may speak of
// the whole.
func (l *lacking) above(has func(dir string) bool) bool {
	dir := l.cwd
	for ; dir != "." && !has(dir); dir = path.Dir(dir) {
	}
	return has(dir)
}

// list is the file with the names of what is to be installed; empty for another command.
func (l *lacking) list() string {
	for i, w := range l.usual {
		if (w == "-r" || w == "--requirement") && i+1 < len(l.usual) && l.usual[0] == "pip" {
			return l.usual[i+1]
		}
	}
	return ""
}

// copied is the file that is to be copied and isn't there; empty if nobody can tell.
func (l *lacking) copied() string {
	files := slices.DeleteFunc(slices.Clone(l.words[1:]),
		func(w string) bool { return strings.HasPrefix(w, "-") })
	if len(files) != 2 || strings.ContainsAny(files[0], "*?$~<{") || path.IsAbs(files[0]) ||
		l.lies(path.Join(l.cwd, files[0])) {
		return ""
	}
	return files[0]
}

// compiles reports whether a project of the folder makes its program by compiling it.
func (l *lacking) compiles() bool {
	p := l.ProjectAt(l.cwd, nil)
	if p == nil {
		return false
	}
	e := ecosystem.Named(p.Ecosystem)
	return e != nil && e.Compiled
}
