package survey

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// toldToServe reports whether a command serves, by its own words or by those of the task that it
// is. A program of the project's packages does where the README has one address to look at; one
// that the project itself brings does there as well, and in a section about running it.
func (s *told) toldToServe(part shell.Command, cwd string, text *readme.Document, at int) bool {
	t := &toldCommand{told: s, part: part, words: ecosystem.Canonical(part.Words), cwd: cwd,
		text: text, at: at}
	t.role, t.of = ecosystem.Meaning(part.Words)
	r := rule.First(servingRules, t)
	return r != nil && r.Then(t)
}

// toldCommand is a command of a README, at a line of its text.
type toldCommand struct {
	*told
	part  shell.Command
	words []string // in the form that all managers' calls share
	cwd   string
	role  stack.Role
	of    *ecosystem.Ecosystem
	text  *readme.Document
	at    int
}

// servingRules tell by the kind of a command whether it serves something.
var servingRules = []rule.Rule[*toldCommand, func(*toldCommand) bool]{
	servesIf("a helper", func(t *toldCommand) bool { return ecosystem.RunsHelper(t.part.Words) },
		func(*toldCommand) bool { return false }),
	servesIf("a script that there isn't", func(t *toldCommand) bool {
		return !t.ofOwnTool(t.part.Words, t.cwd) && len(t.words) > 1 && t.words[0] == "script" &&
			!t.HasScript(t.words[1], t.cwd)
	}, func(*toldCommand) bool { return false }),
	servesIf("a task", func(t *toldCommand) bool {
		return ecosystem.ManagerNamed(t.part.Words[0]).Tasks
	}, func(t *toldCommand) bool {
		target := t.Commands.Target(t.part.Words, t.cwd)
		return target != nil && ecosystem.ServesTask(target)
	}),
	servesIf("a file of commands", func(t *toldCommand) bool {
		file := command.File(t.part.Words)
		return file != "" && t.Exists(path.Join(t.cwd, file))
	}, func(t *toldCommand) bool {
		data, err := t.Files.ReadFile(path.Join(t.cwd, command.File(t.part.Words)))
		return err == nil && len(data) <= command.MaxFile &&
			ecosystem.ServesTask(&stack.Target{Lines: strings.Split(string(data), "\n")})
	}),
	servesIf("a way to serve", func(t *toldCommand) bool { return t.role == ecosystem.Serves },
		func(t *toldCommand) bool {
			c := &demand.Call{Words: t.part.Words, Text: t.part.Text, Cwd: t.cwd, Of: t.of}
			return !t.cover.NamesBuilt(c) && t.fileServes(t.words, t.cwd, t.text, t.at) &&
				slices.ContainsFunc(t.Commands.Leaves(t.part, t.cwd), func(l command.Leaf) bool {
					return !ecosystem.OnlyWatches(strings.Join(l.Words, " "))
				})
		}),
	servesIf("a tool of its own", func(t *toldCommand) bool {
		return t.ofOwnTool(t.part.Words, t.cwd)
	}, func(*toldCommand) bool { return true }),
	servesIf("a program of its own", func(t *toldCommand) bool {
		return t.role == "" && t.ownProgram(t.part.Words, t.cwd)
	}, func(t *toldCommand) bool {
		_, line := t.text.OnlyPage()
		return line > 0 || runHead.MatchString(t.text.At(t.at).Head) ||
			runHead.MatchString(t.part.Text)
	}),
	servesIf("a program of the packages", func(t *toldCommand) bool { return t.role == "" },
		func(t *toldCommand) bool {
			_, line := t.text.OnlyPage()
			return line > 0 && t.OfPackages(t.part.Words, t.cwd) &&
				!slices.ContainsFunc(t.part.Words[1:], preparesByName)
		}),
}

func servesIf(name string, when, is func(*toldCommand) bool,
) rule.Rule[*toldCommand, func(*toldCommand) bool] {
	return rule.Rule[*toldCommand, func(*toldCommand) bool]{Name: name, When: when, Then: is}
}

// fileServes reports whether something says that a file which an interpreter runs serves: its name,
// the section or an address of the README, or its code. Commands that run no file are taken at
// their word.
func (s *told) fileServes(usual []string, cwd string, text *readme.Document, at int) bool {
	if len(usual) < 2 || path.Ext(usual[1]) == "" || !s.Exists(path.Join(cwd, usual[1])) {
		return true
	}
	if preparesByName(usual[1]) {
		return false
	}
	if _, line := text.OnlyPage(); line > 0 || serverFile.MatchString(path.Base(usual[1])) ||
		runHead.MatchString(text.At(at).Head) {
		return true
	}
	data, err := s.Files.ReadFile(path.Join(cwd, usual[1]))
	return err == nil && len(data) <= code.MaxSize && ecosystem.ListensByCode(string(data))
}

// serverFile is a name of a file in which a program that serves begins.
var serverFile = expr.New(`(?i)^(app(lication)?|main|index|server|serve|run|start|web|api|bot|worker|wsgi|asgi)\b`)

// serveVerb is by what tools are told to serve a project for work on it.
var serveVerb = expr.New(`^(dev|develop|serve|server|start|run|runserver|web|up|dashboard|daemon)$`)
