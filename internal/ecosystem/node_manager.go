package ecosystem

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/stack"
)

// choose finds the manager: the one that the manifest names, else the one whose lock file is there.
func (n *nodeProject) choose() {
	p := &n.out.Project
	manager, why := "", ""
	if n.out.Within != nil {
		manager = n.out.Within.Project.Manager
	} else if named, _, _ := strings.Cut(n.pkg.PackageManager, "@"); slices.Contains([]string{"npm", "yarn", "pnpm",
		"bun"}, named) {
		manager, why = named, "the manifest's packageManager names it"
		n.out.names(named, n.at("packageManager"),
			"packageManager "+strings.Split(n.pkg.PackageManager, "+")[0])
	}
	var found []string
	lock := ""
	if manager == "" && n.locks() != 1 {
		if told, at := n.toldManager(node); told != "" {
			manager, why = told, "the README installs with it"
			n.out.names(told, at, "the README installs with "+told)
		}
	}
	if manager == "" && n.locks() > 1 {
		if told, at := n.toldByBuildServer(); told != "" {
			manager, why = told, fmt.Sprintf("the build server installs with it (%s:%d)", at.File,
				at.Line)
			n.out.names(told, at, "the build server installs with "+told)
		} else if newest := n.newestLock(); newest != "" {
			manager, why = newest, "its lock file was committed last"
		}
	}
	for _, l := range nodeLocks() {
		if !n.Has(l.file) {
			continue
		}
		found = append(found, l.file)
		if manager == "" {
			manager, why = l.manager,
				"of the managers whose lock files lie here it is the one that people turn to later"
		}
		if l.manager == manager && lock == "" {
			lock = l.file
			n.out.names(manager, n.At(l.file, 1), "lock file of "+manager)
		}
	}
	if len(found) > 1 {
		n.out.remark(stack.Warning, stack.CodeLockFilesSeveral, n.At(found[0], 1),
			fmt.Sprintf("there are %d lock files: %s; %s is used, since %s", len(found),
				strings.Join(found, ", "), manager, why),
			"Remove those that are out of date, or name the manager in packageManager.")
	} else if len(found) == 1 && lock == "" && n.out.Within == nil {
		n.out.remark(stack.Warning, stack.CodeLockFileForeign, n.At(found[0], 1),
			fmt.Sprintf("%s is not the lock file of %s, which packageManager names", found[0],
				manager), "Remove the one of the two that is wrong.")
	}
	for _, m := range node.Managers {
		if manager == "" && n.first(m.node.signs...) != "" {
			manager = m.Name
		}
	}
	if manager == "" {
		manager = npm.Name
	}
	p.Manager = manager
	n.tool = nodeTool{Manager: node.manager(manager), lock: lock}
	n.tool.nodeWays = n.tool.node.ways(n, lock)
}

// toldByBuildServer is the manager with which the build server's files of the checkout install
// first, and where; empty for none.
func (f Folder) toldByBuildServer() (string, stack.Place) {
	for dir := f.Path; ; dir = path.Dir(dir) {
		names := []string{path.Join(dir, ".gitlab-ci.yml")}
		workflows := path.Join(dir, ".github/workflows")
		entries, _ := fs.ReadDir(f.FS, workflows)
		for _, e := range entries {
			names = append(names, path.Join(workflows, e.Name()))
		}
		for _, name := range names {
			data, err := fs.ReadFile(f.FS, name)
			if err != nil || len(data) > maxManifest {
				continue
			}
			for i, line := range strings.Split(string(data), "\n") {
				line = strings.TrimSpace(strings.TrimLeft(strings.TrimSpace(line), "-|> "))
				words := strings.Fields(strings.TrimPrefix(line, "run:"))
				if len(words) == 0 || node.manager(words[0]) == nil {
					continue
				}
				if role, of := Meaning(words); role == stack.Install && of == node {
					return words[0], stack.Place{File: name, Line: i + 1}
				}
			}
		}
		if dir == "." {
			return "", stack.Place{}
		}
	}
}

// newestLock is the manager of the lock file that was committed last; empty where two are as new,
// or nobody knows.
func (n *nodeProject) newestLock() string {
	if n.Changed == nil {
		return ""
	}
	best, second, manager := time.Time{}, time.Time{}, ""
	for _, l := range nodeLocks() {
		if !n.Has(l.file) || l.manager == manager {
			continue
		}
		switch at := n.Changed(path.Join(n.Path, l.file)); {
		case at.After(best):
			best, second, manager = at, best, l.manager
		case at.After(second):
			second = at
		}
	}
	if best.Equal(second) {
		return ""
	}
	return manager
}

// locks counts the lock files of the folder.
func (n *nodeProject) locks() (count int) {
	for _, l := range nodeLocks() {
		if n.Has(l.file) {
			count++
		}
	}
	return count
}

// toldManager is the manager of an ecosystem with which instructions install first in the folder, and
// the place; empty for none.
func (f Folder) toldManager(of *Ecosystem) (string, stack.Place) {
	if f.Told == nil {
		return "", stack.Place{}
	}
	for _, t := range f.Told() {
		if len(t.Words) == 0 || of.manager(t.Words[0]) == nil {
			continue
		}
		if role, e := Meaning(t.Words); role == stack.Install && e == of {
			return t.Words[0], t.At
		}
	}
	return "", stack.Place{}
}
