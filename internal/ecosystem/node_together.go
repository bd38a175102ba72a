package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// piece is one of several things that a line starts side by side: a script of the package or, where
// that is empty, a command.
type piece struct {
	script string
	line   string // what it runs
}

// sideBySide are programs that run several commands at once; in their arguments stand commands, or
// names of scripts.
var sideBySide = map[string]struct{ names bool }{
	"concurrently": {false}, "conc": {false}, "run-p": {true}, "npm-run-all": {true},
	"npm-run-all2": {true},
}

// sideBySideValues are their options that take a value.
var sideBySideValues = []string{"-n", "--names", "-c", "--prefix-colors", "-p", "--prefix", "-m",
	"--max-processes",
	"-s", "--success", "--restart-tries", "--restart-after", "--kill-signal", "-l",
	"--prefix-length", "-t",
	"--timestamp-format", "--name-separator", "--default-input-target", "--max-parallel"}

// together finds what a script starts side by side.
type together struct{ serving }

func (n *nodeProject) together() together { return together{n.serving()} }

// pieces lists what a line starts side by side; nil for a line that starts one thing, and for what
// runs scripts of members.
func (n together) pieces(line string) (out []piece) {
	commands := shell.Parse(line)
	background := slices.ContainsFunc(commands, func(c shell.Command) bool { return c.Background })
	for _, c := range commands {
		words := unwrapped(c.Words)
		if len(words) == 0 {
			continue
		}
		runner, known := sideBySide[words[0]]
		switch {
		case !known && background && c.Folder == "." && words[0] != "wait" && words[0] != "cd":
			out = append(out, n.pieceOf(c.Text, false)...)
		case known:
			for i := 1; i < len(words); i++ {
				w := words[i]
				switch {
				case slices.Contains(sideBySideValues, w) && !runner.names:
					i++
				case strings.HasPrefix(w, "-"):
				default:
					out = append(out, n.pieceOf(w, runner.names)...)
				}
			}
		}
	}
	return out
}

// pieceOf reads one argument of such a program.
func (n together) pieceOf(text string, isName bool) (out []piece) {
	for _, m := range Managers() {
		if name, ok := strings.CutPrefix(text, m.Name+":"); ok && m.Scripts != nil {
			text, isName = name, true
		}
	}
	if !isName {
		commands := shell.Parse(text)
		if len(commands) == 1 && len(commands[0].Set) == 0 {
			if in, name := n.called(commands[0], nil); in == n.nodeProject &&
				n.pkg.Scripts[name] != "" {
				return []piece{{name, n.pkg.Scripts[name]}}
			}
		}
		return []piece{{"", text}}
	}
	for _, name := range sortedKeys(n.pkg.Scripts) {
		if ok, _ := path.Match(strings.ReplaceAll(text, ":", "/"),
			strings.ReplaceAll(name, ":", "/")); ok {
			out = append(out, piece{name, n.pkg.Scripts[name]})
		}
	}
	return out
}

// ownPieces are those of the things started by a line that are the project's own, those that they
// start in turn included, the server first; what goes into another folder is that one's own matter.
func (n together) ownPieces(line string, depth int) (out []piece) {
	for _, p := range n.pieces(line) {
		looks := otherWatch.MatchString(strings.ReplaceAll(p.line, "tsc-watch",
			"")) // which runs what it has made
		switch {
		case depth < maxPieces && len(n.pieces(p.line)) > 0:
			out = append(out, n.ownPieces(p.line, depth+1)...)
		case n.isMembers(p.line):
		case !goesBelow.MatchString(p.line) && !entersPart.MatchString(p.line) && !looks:
			out = append(out, p)
		}
	}
	slices.SortStableFunc(out, func(a, b piece) int {
		switch wa, wb := n.watches(a), n.watches(b); {
		case wa == wb:
			return 0
		case wa:
			return 1
		}
		return -1
	})
	return out
}

// isMembers reports whether a line has a runner of tasks run scripts of members: what those serve
// is theirs.
func (n together) isMembers(line string) bool {
	commands := shell.Parse(line)
	if len(commands) != 1 || len(n.out.Members) == 0 {
		return false
	}
	_, _, ok := TaskRun(commands[0].Words)
	return ok
}

// maxPieces is how deeply lines are followed that start others.
const maxPieces = 4

// watches reports whether a piece makes files anew, and serves nothing.
func (n together) watches(p piece) bool {
	return watcherName.MatchString(p.script) || OnlyWatches(p.line) || n.onlyBuilds(p.line)
}

// pieceServed is how a piece runs.
func (n together) pieceServed(p piece, at stack.Place) stack.Serve {
	if p.script != "" {
		return n.process(p.script)
	}
	v := stack.Serve{At: at, Command: []string{"sh", "-c", p.line}}
	if c := shell.Parse(p.line); len(c) == 1 && len(c[0].Set) == 0 && !c[0].Expands &&
		!c[0].Plumbed && c[0].Folder == "." {
		if v.Command = c[0].Words; v.Command[0] != "node" {
			v.Command = n.tool.call(slices.Concat(n.tool.exec, v.Command)...)
		}
	}
	return v
}

// scriptAsName is a script's name as a part of a service's.
func scriptAsName(script string) string { return strings.ReplaceAll(script, ":", "-") }

// nameOfLine is what tells a command from the project's others: the program that it runs.
func nameOfLine(line string) string {
	if words := unwrapped(shell.Words(line)); len(words) > 0 {
		return path.Base(words[0])
	}
	return ""
}
