package demand

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// sameBuild are options of a build that change nothing of what it makes.
var sameBuild = expr.New(`^(-q|--quiet|-v|--verbose|-B|-U|-e|-ntp|--batch-mode|--no-transfer-progress|--stacktrace|` +
	`--no-daemon|--console=.*|-DskipTests(=true)?|-Dmaven\.test\.skip(=true)?|--no-restore|--if-present|--workspaces)$`)

// buildsOther reports whether a command asks for another build than the one for work on the
// project: of a profile, of a release, for another place.
func buildsOther(words []string) bool {
	return slices.ContainsFunc(words, func(w string) bool {
		return strings.HasPrefix(w, "-") && !sameBuild.MatchString(w)
	})
}

// otherManager reports whether a command is of another manager than the project's of the same
// ecosystem.
func (d *Coverage) otherManager(c *Call) bool {
	usual := ecosystem.Canonical(c.Words)
	if len(usual) == 0 || usual[0] == "script" {
		return false
	}
	m := ecosystem.ManagerOf(usual[0])
	return slices.ContainsFunc(d.Stack.Projects, func(p stack.Project) bool {
		return (p.Path == c.Cwd || slices.Contains(p.Members, c.Cwd)) && p.Ecosystem == c.Of.Name &&
			p.Manager != m.Name && slices.Contains(c.Of.Managers, m)
	})
}

// NamesBuilt reports whether a command runs a file that isn't in the checkout: a program that was
// built for it, and not what a launch serves.
func (d *Coverage) NamesBuilt(c *Call) bool {
	return slices.ContainsFunc(c.Words[1:], func(w string) bool {
		if strings.HasPrefix(w, "-") || strings.Contains(w, "://") || strings.HasPrefix(w, "/") {
			return false
		}
		if w = strings.TrimPrefix(w, "./"); !strings.Contains(w, "/") && path.Ext(w) != ".jar" &&
			ecosystem.OfCode(path.Ext(w)) == nil {
			return false
		}
		return !d.Exists(path.Join(c.Cwd, w)) && !d.Commands.IsFolder(path.Join(c.Cwd, w))
	})
}

// leadsToBuilt reports whether a command comes to running a file that was built for it, by the
// scripts that it calls.
func (d *Coverage) leadsToBuilt(c *Call) bool {
	return slices.ContainsFunc(d.Commands.Leaves(shell.Command{Words: c.Words, Folder: "."}, c.Cwd),
		func(l command.Leaf) bool { return d.NamesBuilt(&Call{Words: l.Words, Cwd: l.Cwd}) })
}

// scriptBy covers the name of a script, or of another list of commands, by what covers all of them.
func (d *Coverage) scriptBy(c *Call) stack.Doer {
	var names []string
	if usual := ecosystem.Canonical(c.Words); len(usual) > 1 && usual[0] == "script" {
		names = append(names, usual[1])
	} else {
		// composer NAME, composer run NAME
		names = append(names, c.Words[1:min(len(c.Words), 3)]...)
	}
	for i := range d.Stack.Projects {
		p := &d.Stack.Projects[i]
		for _, part := range p.Parts {
			if part.Folder != c.Cwd || c.Of != nil && c.Of.Name != p.Ecosystem ||
				c.Of == nil && ecosystem.ManagerOf(c.Words[0]).Name != p.Manager &&
					ecosystem.ScriptRun(c.Words) == "" {
				continue
			}
			for _, name := range names {
				if lines := part.Scripts[name]; len(lines) > 0 {
					return d.linesBy(command.Lines(lines), c.Cwd, c.depth)
				}
			}
		}
	}
	return ""
}

// linesBy covers commands by what covers each of them: the last that is.
func (d *Coverage) linesBy(commands []shell.Command, cwd string, depth int) (by stack.Doer) {
	for _, part := range commands {
		if len(d.Commands.Leaves(part, cwd)) == 0 {
			continue // a task that does nothing
		}
		if by = d.By(part, path.Join(cwd, part.Folder), depth+1); by == "" {
			return ""
		}
	}
	return by
}

// fileBy covers a file of commands by what covers all that it runs.
func (d *Coverage) fileBy(file string, c *Call) stack.Doer {
	commands, cwd, ok := d.Commands.In(file, c.Cwd)
	if !ok || c.depth >= command.Deepest {
		return ""
	}
	return d.linesBy(commands, cwd, c.depth)
}

// ImageBuilt is the image that a command of the engine builds, the folder that it is built from,
// and its Dockerfile.
func ImageBuilt(words []string, cwd string) (tag, dir, file string) {
	dir = cwd
	for i := 2; i < len(words); i++ {
		option, value, joined := strings.Cut(words[i], "=")
		switch {
		case option == "-t" || option == "--tag" || option == "-f" || option == "--file" ||
			option == "--target" || option == "--build-arg" || option == "--platform":
			if !joined {
				if i++; i >= len(words) {
					return tag, dir, file
				}
				value = words[i]
			}
			switch option {
			case "-t", "--tag":
				tag = value
			case "-f", "--file":
				file = path.Join(cwd, value)
			}
		case strings.HasPrefix(words[i], "-"):
		case words[i] != "build":
			dir = path.Join(cwd, words[i])
		}
	}
	if file == "" {
		file = path.Join(dir, "Dockerfile")
	}
	return tag, dir, file
}

// BuildOf is the folder that the image of a run command is built from, by the READMEs' word.
func (d *Coverage) BuildOf(run []string, cwd string) (string, bool) {
	for _, asked := range d.Demands {
		for _, part := range asked.Parts {
			if len(part.Words) < 3 || !Program("docker", "podman")(&Call{Words: part.Words}) ||
				!strings.HasPrefix(part.Words[1], "build") {
				continue
			}
			tag, dir, _ := ImageBuilt(part.Words, path.Join(asked.Cwd, part.Folder))
			if tag != "" && slices.Contains(run[2:], tag) {
				return dir, true
			}
		}
	}
	return "", false
}

// versioned is what names of packages carry for their version.
var versioned = expr.New(`([@=<>~^].*$)|[\d.]+`)

func unversioned(name string) string {
	if at := strings.LastIndexByte(name, '/'); at > 0 {
		name = name[at+1:] // of a module's path
	}
	return strings.Trim(versioned.ReplaceAllString(strings.ToLower(name), ""), "-")
}

// neededBy covers the setting up of a machine: if all that is installed is what the launch needs of
// it, needs says so; a server that a service of the stack is comes with the launch.
func (d *Coverage) neededBy(words []string) stack.Doer {
	for _, e := range ecosystem.All {
		if !slices.Contains(e.VersionManagers, words[0]) {
			continue
		}
		if slices.ContainsFunc(d.Stack.Projects,
			func(p stack.Project) bool { return p.Ecosystem == e.Name }) {
			return stack.ByNeeds
		}
		return ""
	}
	known, by, any := d.machineNames(), stack.ByNeeds, false
	for _, w := range words[1:] {
		if strings.HasPrefix(w, "-") || slices.Contains(installVerbs, w) {
			continue
		}
		any = true
		if spoken := protocol.OfPackage(unversioned(w)); spoken != nil {
			at := slices.IndexFunc(d.Stack.Services,
				func(v stack.Service) bool { return facts.Speaks(&v, spoken) })
			if at >= 0 {
				by = Service(d.Stack.Services[at].Name)
			} else if !slices.ContainsFunc(d.Stack.Servers,
				func(v stack.Server) bool { return v.Speaks == spoken.Name }) {
				return ""
			}
			continue
		}
		if !known[unversioned(w)] {
			return ""
		}
	}
	if !any {
		return "" // nothing is named
	}
	return by
}

var installVerbs = []string{"install", "add", "i", "get", "update", "upgrade", "global", "services",
	"start", "enable", "restart", "tool", "use", "local.hex", "local.rebar"}

// machineNames are the names, in lower case and without versions, of what the stack wants of this
// machine, and of the packages that bring it.
func (d *Coverage) machineNames() map[string]bool {
	out := map[string]bool{"git": true, "curl": true, "ca-certificates": true}
	add := func(tool string) {
		t := ecosystem.ToolNamed(tool)
		out[unversioned(tool)] = true
		names := slices.Concat(t.By, t.Called)
		for _, packages := range t.Packages {
			names = append(names, packages)
		}
		for _, name := range strings.Fields(strings.Join(names, " ")) {
			out[unversioned(name)] = true
		}
	}
	for _, p := range d.Stack.Projects {
		add(p.Manager)
		for _, r := range p.Runtimes {
			add(r.Tool)
		}
		for _, c := range p.Compiles {
			add(c.Takes)
		}
	}
	if slices.ContainsFunc(d.Stack.Services,
		func(v stack.Service) bool { return v.Runs == stack.Container }) {
		for _, name := range []string{"docker", "docker-ce", "docker.io", "docker-compose",
			"docker-compose-plugin", "podman"} {
			out[unversioned(name)] = true
		}
	}
	return out
}

// runsOther reports whether a command runs a file or a folder of the checkout that a native service
// does not.
func (d *Coverage) runsOther(c *Call, v *stack.Service) bool {
	runs := strings.Join(slices.Concat(v.Command, v.Expands), " ")
	if v.Runs != stack.Native {
		return d.runsOtherInside(c, v, runs)
	}
	for _, w := range c.Words[1:] {
		if strings.HasPrefix(w, "-") || strings.Contains(w, "://") {
			continue
		}
		w = path.Clean(strings.TrimPrefix(w, "./"))
		named := strings.Contains(w, "/") || path.Ext(w) != ""
		if !named || !d.lies(path.Join(c.Cwd, w)) {
			continue
		}
		root := path.Dir(w) == "." && strings.HasSuffix(runs, " .")
		of := c.Of != nil && c.Of.Compiled &&
			slices.Contains(strings.Fields(runs), "./"+path.Dir(w)) // a file of the package
		if !root && !of && !strings.Contains(runs, strings.TrimSuffix(w, path.Ext(w))) &&
			!strings.Contains(runs, path.Base(w)) && path.Join(c.Cwd, w) != v.Dir() {
			return true
		}
	}
	return false
}

// lies reports whether there is a file or a folder of that path.
func (d *Coverage) lies(name string) bool { return d.Exists(name) || d.Commands.IsFolder(name) }

// runsOtherInside reports whether a command runs a file of the checkout that neither a container's
// build and command speak of, nor the project's own way to serve.
func (d *Coverage) runsOtherInside(c *Call, v *stack.Service, runs string) bool {
	if _, file := d.DockerfileOf(v); file != "" {
		data, _ := d.Files.ReadFile(file)
		runs += string(data)
	}
	runs += strings.Join(ContainerEntry(v), " ")
	if p := d.ProjectAt(c.Cwd, c.Words); p != nil && p.Serve != nil {
		runs += strings.Join(slices.Concat(p.Serve.Command, p.Serve.Expands), " ")
	}
	return slices.ContainsFunc(c.Words[1:], func(w string) bool {
		stem := strings.TrimSuffix(path.Base(w), path.Ext(w))
		return ecosystem.OfCode(path.Ext(w)) != nil && d.Exists(path.Join(c.Cwd, w)) &&
			!strings.Contains(runs, stem)
	})
}
