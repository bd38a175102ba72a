package demand

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// Asks lists the commands of READMEs that ask a person something, each once: of what is served
// here, and of what runs in a container of the stack.
func (d *Coverage) Asks() {
	seen := map[string]bool{}
	for _, asked := range d.Demands {
		if !slices.Contains(d.Instructions, asked.At.File) ||
			d.ReadmeOf(asked.At.File).SetsServerUp() ||
			strings.ContainsAny(asked.Command, "<>") || MadeUp.MatchString(asked.Command) {
			continue
		}
		for _, part := range asked.Parts {
			if len(part.Words) == 0 || part.Words[0] == "sudo" || part.Plumbed || part.Background {
				continue // there is nobody to answer, or it is about the machine
			}
			if !AsksSomebody(part) {
				continue
			}
			a := d.askOf(part, path.Join(asked.Cwd, part.Folder))
			if a == nil {
				continue
			}
			a.At = asked.At
			if key := a.Service + "\x00" + d.Commands.Key(a.Command); seen[key] {
				continue
			} else {
				seen[key] = true
			}
			d.Stack.Asks = append(d.Stack.Asks, *a)
			where := "in " + facts.Words(a.Folder)
			if a.Service != "" {
				where = "in the container of " + a.Service
			}
			d.Remark(stack.Note, stack.CodeAsksPerson, asked.At,
				fmt.Sprintf("%s usually asks for something that only a person knows",
					strings.Join(a.Command, " ")),
				fmt.Sprintf("A launch offers it on the terminal once everything is up, and runs "+
					"it %s.", where))
		}
	}
}

// AsksSomebody reports whether a command asks a person something, by its words; the values that it
// gives are none.
func AsksSomebody(part shell.Command) bool {
	return asksPerson.MatchString(strings.Join(slices.DeleteFunc(slices.Clone(part.Words),
		func(w string) bool { return strings.Contains(w, "=") }), " "))
}

// askOf is a command that asks a person something as it is run here; nil if it isn't the stack'd.
func (d *Coverage) askOf(part shell.Command, cwd string) *stack.Ask {
	if verb, args := command.ComposeCall(part.Words); verb != "" {
		if verb != "exec" && verb != "run" || len(args) < 2 {
			return nil
		}
		v := d.Stack.Service(args[0])
		if v == nil || v.Runs != stack.Container || v.Kind == stack.Once {
			return nil
		}
		return &stack.Ask{Command: args[1:], Service: v.Name}
	}
	if !d.Commands.IsFolder(cwd) {
		cwd = d.Commands.Folder(cwd)
	}
	p := d.ProjectAt(cwd, part.Words)
	if p == nil {
		return nil
	}
	if !d.UsesSteps(p) {
		return nil // its container is told by the words of the compose command
	}
	if otherSetUp(part) {
		return nil
	}
	a := &stack.Ask{Command: d.Told(p, part), Folder: cwd, Project: p.Path, Manager: p.Manager}
	if len(part.Set) > 0 {
		a.Env = map[string]string{}
	}
	for _, set := range part.Set {
		key, value, _ := strings.Cut(set, "=")
		a.Env[key] = value
	}
	return a
}

// otherSetUp reports whether a command is for an application that was set up in another way than by
// the launch: in a container that the engine's own command starts, or by files outside of the
// checkout.
func otherSetUp(part shell.Command) bool {
	return Program("docker", "podman")(&Call{Words: part.Words}) ||
		slices.ContainsFunc(part.Words[1:], path.IsAbs)
}

// Told is a README's command as the project runs it.
func (d *Coverage) Told(p *stack.Project, part shell.Command) []string {
	if part.Expands || part.Plumbed {
		return []string{"sh", "-c", part.Text}
	}
	words := part.Words
	if by := ecosystem.WrappedBy(words); by != nil && by.Name == p.Ecosystem &&
		by.Compiled == false && ecosystem.ManagerOf(words[0]).Name != p.Manager && len(p.Bin) > 0 {
		usual := ecosystem.Canonical(words)
		if own := len(words) - len(usual); usual[0] != "script" && own >= 0 {
			if own > 1 && words[own-1] == "-m" {
				own -= 2 // a module that the interpreter runs is no program of that name
			}
			words = words[own:] // what another manager would run, out of the project's own folder
		}
	}
	if len(p.Prefix) > 0 && words[0] != p.Prefix[0] && d.OfPackages(words, p.Path) {
		words = slices.Concat(p.Prefix, words)
	}
	return words
}

// asksPerson are commands that ask somebody for a name and a password.
var asksPerson = expr.New(
	`(?i)\b(createsuperuser|create[-_:]?(super)?(user|admin)|add[-_:]?(user|admin)|make[-_:]?admin|` +
		`new[-_:]?admin)\b`)
