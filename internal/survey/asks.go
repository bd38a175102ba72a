package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// asks lists the commands of READMEs that ask a person something, each once: of what is served here, and of what runs
// in a container of the stack.
func (s *surveyor) asks() {
	seen := map[string]bool{}
	for _, d := range s.Demands {
		if !slices.Contains(s.Instructions, d.At.File) || strings.ContainsAny(d.Command, "<>") ||
			madeUpPath.MatchString(d.Command) {
			continue
		}
		for _, part := range d.Parts {
			if len(part.Words) == 0 || !asksSomebody(part) || part.Plumbed || part.Background {
				continue
			}
			a := s.askOf(part, path.Join(d.Cwd, part.Folder))
			if a == nil {
				continue
			}
			a.At = d.At
			if key := a.Service + "\x00" + s.Commands.Key(a.Command); seen[key] {
				continue
			} else {
				seen[key] = true
			}
			s.Stack.Asks = append(s.Stack.Asks, *a)
			where := "in " + folderWords(a.Folder)
			if a.Service != "" {
				where = "in the container of " + a.Service
			}
			s.Remark(stack.Note, stack.CodeAsksPerson, d.At,
				fmt.Sprintf("%s asks for something that only a person knows", strings.Join(a.Command, " ")),
				fmt.Sprintf("A launch offers it on the terminal once everything is up, and runs it %s.", where))
		}
	}
}

// asksSomebody reports whether a command asks a person something, by its words; the values that it gives are none.
func asksSomebody(part shell.Command) bool {
	return asksPerson.MatchString(strings.Join(slices.DeleteFunc(slices.Clone(part.Words),
		func(w string) bool { return strings.Contains(w, "=") }), " "))
}

// askOf is a command that asks a person something as it is run here; nil if it isn't the stack's.
func (s *surveyor) askOf(part shell.Command, cwd string) *stack.Ask {
	if verb, args := composeCall(part.Words); verb != "" {
		if verb != "exec" && verb != "run" || len(args) < 2 {
			return nil
		}
		v := s.Stack.Service(args[0])
		if v == nil || v.Runs != stack.Container || v.Kind == stack.Once {
			return nil
		}
		return &stack.Ask{Command: args[1:], Service: v.Name}
	}
	if !s.Commands.IsFolder(cwd) {
		cwd = s.Commands.Folder(cwd)
	}
	p := s.ProjectAt(cwd, part.Words)
	if p == nil {
		return nil
	}
	if !s.UsesSteps(p) {
		return nil // its container is told by the words of the compose command
	}
	a := &stack.Ask{Command: s.toldCommand(p, part), Folder: cwd, Project: p.Path, Manager: p.Manager}
	if len(part.Set) > 0 {
		a.Env = map[string]string{}
	}
	for _, set := range part.Set {
		key, value, _ := strings.Cut(set, "=")
		a.Env[key] = value
	}
	return a
}

// callsIt is a line that calls an address for its answer, and so names no page for people.
var callsIt = expr.New(`(?i)\b(curl|wget|http|POST|PUT|PATCH|DELETE|webhooks?|callbacks?|redirect)\b[^:]`)

// maxPages bounds how many pages of one service are kept.
const maxPages = 3

// namedPages collects the pages beyond the first one that READMEs name on ports of the stack.
func (s *surveyor) namedPages() {
	for _, file := range s.Instructions {
		text := s.ReadmeOf(file)
		for _, a := range text.Addresses {
			page := a.Scheme == "http" || a.Scheme == "https"
			if page && a.Path != "" && a.Path != "/" && !callsIt.MatchString(text.Line(a.Line)) {
				s.namePage(a.Port, a.Path, stack.Place{File: file, Line: a.Line})
			}
		}
	}
}

func (s *surveyor) namePage(port int, page string, at stack.Place) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if len(v.Pages) >= maxPages || port == 0 ||
			!slices.ContainsFunc(v.Ports, func(p stack.Port) bool { return p.Host == port && p.Speaks == "http" }) ||
			slices.ContainsFunc(v.Pages, func(p stack.Page) bool { return p.Port == port && p.Path == page }) {
			continue
		}
		v.Pages = append(v.Pages, stack.Page{Port: port, Path: page, At: at})
		return
	}
}
