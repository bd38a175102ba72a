package command

import "strings"

// ComposeFiles are the files that a call of the compose command names.
func ComposeFiles(words []string) (files []string) {
	for i, w := range words {
		option, value, joined := strings.Cut(w, "=")
		if option != "-f" && option != "--file" {
			continue
		}
		if !joined {
			if i+1 == len(words) {
				break
			}
			value = words[i+1]
		}
		files = append(files, value)
		if verb, _ := ComposeCall(words[:i+1]); verb != "" {
			return files[:len(files)-1] // an option of the verb, such as logs -f
		}
	}
	return files
}

// ComposeCall splits a command that goes to the container engine's compose files: the verb, and the
// words after it without options.
func ComposeCall(words []string) (verb string, args []string) {
	switch {
	case len(words) > 2 && (words[0] == "docker" || words[0] == "podman") && words[1] == "compose":
		words = words[2:]
	case len(words) > 1 && (words[0] == "docker-compose" || words[0] == "podman-compose"):
		words = words[1:]
	default:
		return "", nil
	}
	takes := map[string]bool{"-f": true, "--file": true, "--profile": true, "-p": true,
		"--project-name": true,
		"--env-file":     true, "-e": true, "--env": true, "-u": true, "--user": true, "-w": true,
		"--workdir":    true,
		"--entrypoint": true, "-v": true, "--wait-timeout": true, "--timeout": true, "-t": true,
		"--scale": true, "--pull": true, "--exit-code-from": true}
	skip := false
	for _, w := range words {
		switch {
		case skip:
			skip = false
		case strings.HasPrefix(w, "-") && len(args) == 0:
			skip = takes[w]
		case verb == "":
			verb = w
		default:
			args = append(args, w)
		}
	}
	return verb, args
}
