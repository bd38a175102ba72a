package demand

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// composeBy tells what covers a call of the compose files.
func (d *Coverage) composeBy(c *Call, verb string, args []string) stack.Doer {
	if profile := command.Option(c.Words, "--profile"); profile != "" &&
		!slices.ContainsFunc(d.Stack.Services,
			func(v stack.Service) bool { return slices.Contains(v.Profiles, profile) }) {
		return ""
	}
	switch verb {
	case "up", "start", "build", "pull", "create", "restart":
		for _, a := range args {
			if d.Stack.Service(a) == nil {
				return ""
			}
		}
		if len(args) == 1 {
			return Service(args[0])
		}
		return stack.ByLaunch
	case "down", "stop", "rm", "kill":
		if c.has("-v", "--volumes", "--rmi") {
			return "" // stop keeps data and images
		}
		return stack.ByStop
	case "logs":
		return stack.ByLogs
	case "ps", "port", "top":
		return stack.ByCheck
	case "run", "exec":
		return d.runInside(args)
	}
	return ""
}

// runInside covers what runs in a container of a service: by the service itself, if that is all
// that it runs, or by another one that does the same.
func (d *Coverage) runInside(args []string) stack.Doer {
	if len(args) == 0 {
		return ""
	}
	v := d.Stack.Service(args[0])
	if v == nil {
		return ""
	}
	words := args[1:]
	if len(words) == 0 ||
		v.Kind == stack.Once && d.Commands.Key(words) == d.Commands.Key(v.Command) {
		return Service(v.Name)
	}
	return d.runBy(words, func(o *stack.Service) bool { return o == v || o.Kind == stack.Once })
}

// runBy finds the first of the services asked about, which may be all (nil), that runs the words in
// its container, among other things or alone.
func (d *Coverage) runBy(words []string, asked func(*stack.Service) bool) stack.Doer {
	key := d.Commands.Key(words)
	for i := range d.Stack.Services {
		v := &d.Stack.Services[i]
		if v.Runs != stack.Container || asked != nil && !asked(v) {
			continue
		}
		own := CommandsOf(slices.Concat(ContainerEntry(v), v.Command))
		for _, part := range append(own, d.entryFileRuns(v)...) {
			if len(part.Words) > 0 && d.Commands.Key(part.Words) == key {
				return Service(v.Name)
			}
		}
	}
	return ""
}

// FilesMeant are the compose files that a call goes by; none where neither the call nor its folder
// names one.
func (d *Coverage) FilesMeant(c *Call) []string {
	files := command.ComposeFiles(c.Words)
	if len(files) == 0 {
		files = compose.Find(d.Files, c.Cwd, d.Lookup(c.Cwd))
	} else {
		for i := range files {
			files[i] = path.Join(c.Cwd, files[i])
		}
	}
	return files
}

// CommandsOf lists what a list of words runs: itself, or what it gives to a shell.
func CommandsOf(words []string) []shell.Command {
	if script, ok := command.GivenToShell(words); ok {
		return shell.Parse(script)
	}
	return []shell.Command{{Words: words, Folder: "."}}
}

// ContainerEntry is the entry point that a compose file gives a container; nil where it gives none.
func ContainerEntry(v *stack.Service) []string {
	if v.Container == nil {
		return nil
	}
	return v.Container.Entrypoint
}

// entryFileRuns are the commands that the file at the entry of a service's image runs whatever
// happens: those at its margin. None where a compose file gives another entry, or the image has
// none of the checkout.
func (d *Coverage) entryFileRuns(v *stack.Service) (out []shell.Command) {
	img, _ := d.DockerfileOf(v)
	if img == nil || len(ContainerEntry(v)) > 0 || v.Build == "" {
		return nil
	}
	for _, w := range img.Entry {
		if path.Ext(w) != ".sh" {
			continue
		}
		data, err := d.Files.ReadFile(path.Join(v.Build, path.Base(w)))
		if err != nil || len(data) > command.MaxFile {
			return nil
		}
		for line := range strings.Lines(string(data)) {
			if !strings.HasPrefix(line, " ") && !strings.HasPrefix(line, "\t") {
				out = append(out, shell.Parse(strings.TrimSpace(line))...)
			}
		}
	}
	return out
}

// engineCalls covers calls of the engine's own command.
type engineCalls struct{ *Coverage }

func (d *Coverage) engineCalls() engineCalls { return engineCalls{d} }

// engineBy tells what covers a call of the engine itself.
func (d engineCalls) engineBy(verb string, words []string, cwd string) stack.Doer {
	switch verb {
	case "build", "buildx":
		return d.builtBy(words, cwd)
	case "run":
		return d.imageRunBy(words, cwd)
	case "pull":
		for _, w := range words[2:] {
			if by := d.imageBy(w); by != "" {
				return by
			}
		}
	case "network", "volume":
		name := words[len(words)-1]
		_, network := d.Stack.Networks[name]
		_, volume := d.Stack.Volumes[name]
		if len(words) > 3 && words[2] == "create" && (network || volume) {
			return stack.ByLaunch
		}
	}
	if slices.ContainsFunc(d.Stack.Services,
		func(v stack.Service) bool { return v.Runs == stack.Container }) {
		return ourVerbs[verb]
	}
	return ""
}

// ourVerbs are commands of ours, by the engine's that do the same for containers of a stack.
var ourVerbs = map[string]stack.Doer{"ps": stack.ByCheck, "logs": stack.ByLogs,
	"stop": stack.ByStop, "rm": stack.ByStop}

// builtBy is the service whose image is built from the same Dockerfile in the same folder.
func (d engineCalls) builtBy(words []string, cwd string) stack.Doer {
	_, dir, file := ImageBuilt(words, cwd)
	for i := range d.Stack.Services {
		if v := &d.Stack.Services[i]; v.Build == dir &&
			path.Join(dir, facts.Dockerfile(v)) == file {
			return Service(v.Name)
		}
	}
	return ""
}

// imageRunBy is the service that runs an image: one that was built here, one of the same program,
// or one that a Dockerfile here is.
func (d engineCalls) imageRunBy(words []string, cwd string) stack.Doer {
	if dir, ok := d.BuildOf(words, cwd); ok {
		return d.ContainerOf(dir)
	}
	for _, w := range words[2:] {
		if by := d.imageBy(w); by != "" {
			return by
		}
		if v := d.Stack.Service(protocol.ImageName(w)); v != nil &&
			v.Source == stack.FromDockerfile {
			return Service(v.Name)
		}
	}
	return ""
}

// imageBy finds the service that runs the program of an image.
func (d *Coverage) imageBy(image string) stack.Doer {
	want, spoken := protocol.ImageName(image), protocol.OfProgram(image)
	for _, v := range d.Stack.Services {
		if v.Image != "" && (protocol.ImageName(v.Image) == want || spoken != nil &&
			protocol.OfImage(v.Image) == spoken) {
			return Service(v.Name)
		}
	}
	return ""
}
