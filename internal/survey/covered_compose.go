package survey

import (
	"path"
	"slices"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// composeBy tells what covers a call of the compose files.
func (s *surveyor) composeBy(c *covering, verb string, args []string) string {
	if profile := valueOf(c.words, "--profile"); profile != "" && !slices.ContainsFunc(s.Stack.Services,
		func(v stack.Service) bool { return slices.Contains(v.Profiles, profile) }) {
		return ""
	}
	switch verb {
	case "up", "start", "build", "pull", "create", "restart":
		for _, a := range args {
			if s.Stack.Service(a) == nil {
				return ""
			}
		}
		if len(args) == 1 {
			return service(args[0])
		}
		return "launch"
	case "down", "stop", "rm", "kill":
		if c.has("-v", "--volumes", "--rmi") {
			return "" // stop keeps data and images
		}
		return "stop"
	case "logs":
		return "logs"
	case "ps", "port", "top":
		return "check"
	case "run", "exec":
		if len(args) == 0 {
			return ""
		}
		v := s.Stack.Service(args[0])
		if v == nil {
			return ""
		}
		if len(args) == 1 || v.Kind == stack.Once &&
			(len(args) < 2 || s.Commands.Key(args[1:]) == s.Commands.Key(v.Command)) {
			return service(v.Name)
		}
		return s.runBy(args[1:], func(o *stack.Service) bool { return o == v || o.Kind == stack.Once })
	}
	return ""
}

// runBy finds the first of the services asked about, which may be all (nil), that runs the words in its container,
// among other things or alone.
func (s *surveyor) runBy(words []string, asked func(*stack.Service) bool) string {
	key := s.Commands.Key(words)
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Runs != stack.Container || asked != nil && !asked(v) {
			continue
		}
		for _, part := range commandsOf(slices.Concat(containerEntry(v), v.Command)) {
			if len(part.Words) > 0 && s.Commands.Key(part.Words) == key {
				return service(v.Name)
			}
		}
	}
	return ""
}

// filesMeant are the compose files that a call goes by; none where neither the call nor its folder names one.
func (s *surveyor) filesMeant(c *covering) []string {
	files := composeFiles(c.words)
	if len(files) == 0 {
		files = compose.Find(s.Files, c.cwd, s.Lookup(c.cwd))
	} else {
		for i := range files {
			files[i] = path.Join(c.cwd, files[i])
		}
	}
	return files
}

// isActive reports whether a compose file is one of those that a launch goes by, or all of its services are taken from
// it by one of those.
func (s *surveyor) isActive(file string) bool {
	if slices.ContainsFunc(s.Stack.ComposeFiles,
		func(f stack.ComposeFile) bool { return f.Path == file && f.Active }) {
		return true
	}
	if !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool { return v.At.File == file }) {
		return false
	}
	p, _ := s.loadSet(composeSet{dir: path.Dir(file), files: []string{file}})
	return p != nil && !slices.ContainsFunc(p.Services, func(c compose.Service) bool {
		return c.Active && !slices.ContainsFunc(s.Stack.Services,
			func(v stack.Service) bool { return v.Name == c.Name && v.At.File == file })
	})
}

// commandsOf lists what a list of words runs: itself, or what it gives to a shell.
func commandsOf(words []string) []shell.Command {
	if script, ok := command.GivenToShell(words); ok {
		return shell.Parse(script)
	}
	return []shell.Command{{Words: words, Folder: "."}}
}

func containerEntry(v *stack.Service) []string {
	if v.Container == nil {
		return nil
	}
	return v.Container.Entrypoint
}

// engineBy tells what covers a call of the engine itself.
func (s *surveyor) engineBy(verb string, words []string, cwd string) string {
	switch verb {
	case "build", "buildx":
		_, dir, file := imageBuilt(words, cwd)
		for i := range s.Stack.Services {
			if v := &s.Stack.Services[i]; v.Build == dir && path.Join(dir, dockerfileName(v)) == file {
				return service(v.Name)
			}
		}
		return ""
	case "run":
		if dir, ok := s.buildOf(words, cwd); ok {
			return s.containerOf(dir)
		}
		for _, w := range words[2:] {
			if by := s.imageBy(w); by != "" {
				return by
			}
			if v := s.Stack.Service(protocol.ImageName(w)); v != nil && v.Source == stack.FromDockerfile {
				return service(v.Name)
			}
		}
	case "pull":
		for _, w := range words[2:] {
			if by := s.imageBy(w); by != "" {
				return by
			}
		}
	case "network", "volume":
		name := words[len(words)-1]
		_, network := s.Stack.Networks[name]
		_, volume := s.Stack.Volumes[name]
		if len(words) > 3 && words[2] == "create" && (network || volume) {
			return "launch"
		}
	case "ps", "logs", "stop", "rm":
		if slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool { return v.Runs == stack.Container }) {
			return map[string]string{"ps": "check", "logs": "logs", "stop": "stop", "rm": "stop"}[verb]
		}
	}
	return ""
}

// imageBy finds the service that runs the program of an image.
func (s *surveyor) imageBy(image string) string {
	want, spoken := protocol.ImageName(image), protocol.OfProgram(image)
	for _, v := range s.Stack.Services {
		if v.Image != "" && (protocol.ImageName(v.Image) == want || spoken != nil &&
			protocol.OfImage(v.Image) == spoken) {
			return service(v.Name)
		}
	}
	return ""
}
