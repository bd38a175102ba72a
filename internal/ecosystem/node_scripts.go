package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// A script is what its line does, whatever its name says: generate may make code, write a migration
// into the checkout or render a whole site.

// nodeAsides are commands that people run while they work on an application, or to publish it. A
// script that runs one prepares nothing for a launch.
var nodeAsides = []string{
	// They write a migration into the checkout; some ask for its name.
	"prisma migrate dev|reset|diff", "drizzle-kit generate*|drop", "knex " +
		"migrate:make", "typeorm migration:generate",
	"typeorm migration:create", "sequelize-cli|sequelize " +
		"migration:generate|migration:create|model:generate",
	"mikro-orm migration:create",
	// They render a site.
	"nuxt|nuxi generate", "next export", "gatsby build", "vuepress build", "eleventy",
}

// nodeApplies are commands that apply the migrations that lie in the checkout, and do nothing where
// there are none.
var nodeApplies = []string{
	"prisma migrate deploy", "drizzle-kit migrate", "knex migrate:latest|migrate:up", "typeorm " +
		"migration:run",
	"sequelize-cli|sequelize db:migrate", "mikro-orm migration:up",
}

// nodeBrings are commands that bring a database to what the checkout says, each tool's as good as
// another of it.
var nodeBrings = []string{
	"prisma migrate dev|deploy", "prisma db push", "drizzle-kit migrate|push",
	"knex migrate:latest|migrate:up", "typeorm migration:run|schema:sync",
	"sequelize-cli|sequelize db:migrate", "mikro-orm migration:up|schema:update",
}

// BringsDatabase reports whether a command brings a database to what the checkout of an application
// says: what the project's own step for that does too. One for developing a migration asks for its
// name, and is not run unasked.
func BringsDatabase(words []string) bool {
	usual := Canonical(words)
	return slices.ContainsFunc(nodeBrings, func(p string) bool { return fits(p, usual) })
}

// ran is a command that a script leads to, with the project in whose folder it runs.
type ran struct {
	words []string // as Canonical gives them
	in    *nodeProject
}

// maxScripts is how many scripts are followed from one.
const maxScripts = 50

// runs follows a script to the commands that do the work, through scripts that it calls and those
// of other members.
func (n *nodeProject) runs(script string, all []*Finding) []ran {
	var out []ran
	seen := map[string]bool{}
	var follow func(n *nodeProject, script string)
	follow = func(n *nodeProject, script string) {
		key := n.Path + "\x00" + script
		if seen[key] || len(seen) > maxScripts {
			return
		}
		seen[key] = true
		for _, c := range shell.Parse(n.pkg.Scripts[script]) {
			in, name := n.called(c, all)
			by := byRunner(c, all)
			switch {
			case in != nil && strings.TrimSpace(in.pkg.Scripts[name]) != "":
				follow(in, name)
			case len(by) > 0:
				for _, call := range by {
					follow(call.in, call.script)
				}
			case len(c.Words) > 0 && c.Words[0] != "cd":
				out = append(out, ran{Canonical(c.Words), n})
			}
		}
	}
	follow(n, script)
	return out
}

// scriptCall is a script of one of the projects of a workspace.
type scriptCall struct {
	in     *nodeProject
	script string
}

// taskRunner is a program that runs scripts of the members of a workspace.
type taskRunner struct {
	run    []string // words between the program and the script, of which any may be absent
	member []string // options that name the member; without one, all members that have the script
	joined bool     // whether MEMBER:SCRIPT names both
}

var taskRunners = map[string]taskRunner{
	"turbo": {run: []string{"run"}, member: []string{"-F", "--filter"}},
	"lerna": {run: []string{"run"}, member: []string{"--scope"}},
	"nx": {run: []string{"run", "run-many"}, member: []string{"-p", "--projects", "--project"},
		joined: true},
}

// TaskRun is what a command runs through a program that runs scripts of a workspace's members: the
// scripts, and the names or folders of the members, none for all; ok is false for other commands.
func TaskRun(words []string) (scripts, members []string, ok bool) {
	words = unwrapped(words)
	if len(words) == 0 {
		return nil, nil, false
	}
	r, known := taskRunners[words[0]]
	if !known {
		return nil, nil, false
	}
	for i := 1; i < len(words); i++ {
		option, value, joined := strings.Cut(words[i], "=")
		switch {
		case slices.Contains(r.member, option) || option == "-t" || option == "--target" ||
			option == "--targets":
			if !joined {
				if i++; i >= len(words) {
					return nil, nil, false
				}
				value = words[i]
			}
			if slices.Contains(r.member, option) {
				members = append(members, strings.Split(value, ",")...)
			} else {
				scripts = append(scripts, strings.Split(value, ",")...)
			}
		case words[i] == "--":
			i = len(words)
		case strings.HasPrefix(words[i], "-"), len(scripts) == 0 &&
			slices.Contains(r.run, words[i]):
		case r.joined && strings.Contains(words[i], ":") && len(scripts) == 0:
			name, script, _ := strings.Cut(words[i], ":")
			members, scripts = append(members, name), append(scripts, script)
		default:
			scripts = append(scripts, words[i])
		}
	}
	return scripts, members, len(scripts) > 0
}

// byRunner lists the scripts that a command runs through such a program; none if it doesn't, or if
// one of the members isn't known here.
func byRunner(c shell.Command, all []*Finding) (out []scriptCall) {
	scripts, members, ok := TaskRun(c.Words)
	if !ok {
		return nil
	}
	for _, name := range members {
		in := member(name, strings.TrimPrefix(name, "./"), all)
		if in == nil {
			return nil
		}
		for _, script := range scripts {
			out = append(out, scriptCall{in, script})
		}
	}
	if len(members) > 0 {
		return out
	}
	for _, f := range all {
		for _, script := range scripts {
			if f.node != nil && f.Within != nil &&
				strings.TrimSpace(f.node.pkg.Scripts[script]) != "" {
				out = append(out, scriptCall{f.node, script})
			}
		}
	}
	return out
}

// called is the script that a command runs, and the project that has it; nil if it runs none.
func (n *nodeProject) called(c shell.Command, all []*Finding) (*nodeProject, string) {
	if len(c.Words) == 0 {
		return nil, ""
	}
	m := ManagerNamed(c.Words[0])
	if m.Scripts == nil {
		return nil, ""
	}
	in, words := n, []string{c.Words[0]}
	if c.Folder != "" && c.Folder != "." {
		in = member("", path.Join(n.Path, c.Folder), all)
	}
	for i := 1; i < len(c.Words); i++ {
		option, value, joined := strings.Cut(c.Words[i], "=")
		if !slices.Contains(m.Scripts.Member, option) {
			words = append(words, c.Words[i])
			continue
		}
		if !joined {
			if i++; i >= len(c.Words) {
				return nil, ""
			}
			value = c.Words[i]
		}
		in = member(value, path.Join(n.Path, value), all)
	}
	name := scriptIn(words)
	if in == nil || name == "" {
		return nil, ""
	}
	return in, name
}

// member is the project of that name or, where there is none, in that folder; nil if there is
// neither.
func member(name, folder string, all []*Finding) (found *nodeProject) {
	for _, f := range all {
		switch {
		case f.node == nil:
		case name != "" && f.Project.Name == name:
			return f.node
		case f.Project.Path == folder:
			found = f.node
		}
	}
	return found
}

// prepares reports whether a script does something of the role for a launch.
func (n *nodeProject) prepares(role stack.Role, script string, all []*Finding) bool {
	for _, r := range n.runs(script, all) {
		if slices.ContainsFunc(nodeAsides, func(p string) bool { return fits(p, r.words) }) {
			return false
		}
		if role == stack.Generate && makesForOne.MatchString(strings.Join(r.words, " ")) {
			return false
		}
		if role == stack.Migrate && slices.ContainsFunc(nodeApplies,
			func(p string) bool { return fits(p, r.words) }) {
			if m := nodeMigration(r.in); m != nil && m.folder == "" {
				return false // there is nothing to apply
			}
		}
	}
	return role != stack.Test || !emptyTest.MatchString(n.pkg.Scripts[script])
}

// makesForOne is a line that generates what one person asks for: an account, a key, a new part of
// the code. What a script is called is no proof that all need it.
var makesForOne = expr.New(`(?i)(account|wallet|secret|passw|[^a-z]keys?([^a-z]|$)|component|` +
	`scaffold|plop|changelog|report)`)

// drizzleOut is where drizzle-kit's configuration says that migrations lie.
var drizzleOut = expr.New(`\bout\s*:\s*['"\x60](?:\./)?([^'"\x60]+)['"\x60]`)

// drizzleFolder is the folder of the migrations, relative to the project; empty if there is none.
func (n *nodeProject) drizzleFolder(config string) string {
	folder := "drizzle"
	if m := drizzleOut.FindStringSubmatch(n.text(config)); m != nil {
		folder = path.Clean(m[1])
	}
	return n.first(folder)
}
