package ecosystem

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/stack"
)

// choosing finds the manager of a project, and its lock file.
type choosing struct{ *nodeProject }

func (n *nodeProject) choosing() choosing { return choosing{n} }

// choose finds the manager: the one that the manifest names, else the one whose lock file is there.
func (n choosing) choose() {
	p := &n.out.Project
	found := n.lockFiles()
	manager, why := "", ""
	if n.out.Within != nil {
		manager = n.out.Within.Project.Manager
	} else if best, ok := claim.Judge(claim.OfManager, n.namers(found)...).Counts(); ok {
		manager, why = best.Value.manager, best.Value.why
		if says := best.Value.says; says != "" {
			n.out.names(manager, best.At, says)
		}
	}
	lock := ""
	for _, l := range found {
		if l.manager == manager && lock == "" {
			lock = l.file
			n.out.names(manager, n.At(l.file, 1), "lock file of "+manager)
		}
	}
	n.otherLocks(found, lock, manager, why)
	p.Manager = manager
	n.tool = nodeTool{Manager: node.manager(manager), lock: lock}
	n.tool.nodeWays = n.tool.node.ways(n.nodeProject, lock)
}

// named is a manager, why it is the one, and what is told of that as evidence; empty for nothing.
type named struct{ manager, why, says string }

// namers are who says which manager the project's is: the manifest, the one lock file,
// instructions, the build server, which lock file was committed last; what is usual comes behind
// all of them. What takes reading is asked only where it counts.
func (n choosing) namers(found []nodeLock) (out []claim.Claim[named]) {
	add := func(w stack.Witness, at stack.Place, manager, why, says string) {
		out = append(out, claim.Claim[named]{Value: named{manager, why, says}, Witness: w, At: at})
	}
	written, _, _ := strings.Cut(n.pkg.PackageManager, "@")
	if slices.Contains([]string{"npm", "yarn", "pnpm", "bun"}, written) {
		add(claim.Manifest, n.at("packageManager"), written,
			"the manifest's packageManager names it",
			"packageManager "+strings.Split(n.pkg.PackageManager, "+")[0])
		return out
	}
	if len(found) == 1 {
		add(claim.Lock, n.At(found[0].file, 1), found[0].manager, "its lock file is there", "")
		return out
	}
	if told, at := n.toldManager(node); told != "" {
		add(claim.Readme, at, told, "the README installs with it", "the README's install")
		return out
	}
	if len(found) > 1 {
		if told, at := n.toldByBuildServer(); told != "" {
			add(claim.Workflow, at, told,
				fmt.Sprintf("the build server installs with it (%s:%d)", at.File, at.Line),
				"the build server's install")
		} else if newest := n.newestLock(); newest != "" {
			add(claim.History, stack.Place{}, newest, "its lock file was committed last", "")
		}
		add(claim.Usage, stack.Place{}, found[0].manager,
			"of the managers whose lock files lie here it is the one that people turn to later", "")
	}
	for _, m := range node.Managers {
		if n.first(m.node.signs...) != "" {
			add(claim.Usage, stack.Place{}, m.Name, "", "")
		}
	}
	add(claim.Usage, stack.Place{}, npm.Name, "", "")
	return out
}

// otherLocks says that there are lock files of other managers than the project's.
func (n choosing) otherLocks(found []nodeLock, lock, manager, why string) {
	switch {
	case len(found) > 1:
		var names []string
		for _, l := range found {
			names = append(names, l.file)
		}
		n.out.remark(stack.Warning, stack.CodeLockFilesSeveral, n.At(names[0], 1),
			fmt.Sprintf("there are %d lock files: %s; %s is used, since %s", len(names),
				strings.Join(names, ", "), manager, why),
			"Remove those that are out of date, or name the manager in packageManager.")
	case len(found) == 1 && lock == "" && n.out.Within == nil:
		n.out.remark(stack.Warning, stack.CodeLockFileForeign, n.At(found[0].file, 1),
			fmt.Sprintf("%s is not the lock file of %s, which packageManager names", found[0].file,
				manager), "Remove the one of the two that is wrong.")
	}
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
func (n choosing) newestLock() string {
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

// lockFiles are those of the folder, in the order of their managers.
func (n choosing) lockFiles() (out []nodeLock) {
	for _, l := range nodeLocks() {
		if n.Has(l.file) {
			out = append(out, l)
		}
	}
	return out
}

// callsFor reports whether instructions for the folder have a command of a program.
func (f Folder) callsFor(program string) bool {
	return f.Told != nil && slices.ContainsFunc(f.Told(), func(t Told) bool {
		return len(t.Words) > 0 && t.Words[0] == program
	})
}

// toldManager is the manager of an ecosystem with which instructions install first in the folder,
// and the place; empty for none.
func (f Folder) toldManager(of *Ecosystem) (string, stack.Place) {
	if f.Told == nil {
		return "", stack.Place{}
	}
	for _, t := range f.Told() {
		if len(t.Words) == 0 || of.manager(t.Words[0]) == nil {
			continue
		}
		if len(t.Words) > 1 && t.Words[1] == "tool" {
			continue // it is installed for the person, and not into the folder
		}
		if role, e := Meaning(t.Words); role == stack.Install && e == of {
			return t.Words[0], t.At
		}
	}
	return "", stack.Place{}
}
