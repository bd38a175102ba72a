package survey

import (
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// composes reads the compose files that are meant, and makes services of them.
type composes struct {
	*facts.Facts
	homes    *homes
	composed []*compose.Project // those that are active
}

// compose reads the compose files that are active: those at the top of the workspace and of each
// checkout, or that its READMEs start; where there are none, the one that lies highest.
func (s *composes) compose() {
	sets := s.sets()
	active := map[string]bool{}
	by := "" // the file that starts other compose files
	for _, c := range sets {
		if c.named() {
			by = path.Base(c.at.File)
		}
		s.load(c, active)
	}
	listed := slices.Clone(s.Tree.Compose)
	for _, f := range slices.Sorted(maps.Keys(active)) {
		if !slices.Contains(listed, f) {
			listed = append(listed, f)
		}
	}
	for _, f := range listed {
		s.Stack.ComposeFiles = append(s.Stack.ComposeFiles,
			stack.ComposeFile{Path: f, Active: active[f]})
		if !active[f] {
			why, remedy := s.inactive(f, active, by)
			s.Remark(stack.Note, stack.CodeComposeNotActive, stack.Place{File: f}, why, remedy)
		}
	}
	for _, f := range s.composeFilesNamed() {
		if !slices.Contains(listed, f) && !active[f] {
			s.Stack.ComposeFiles = append(s.Stack.ComposeFiles, stack.ComposeFile{Path: f})
		}
	}
}

// sets are the compose files that are meant together: of each top or, where there are none, of the
// first folder whose own README starts them, else of the first that belongs to the application.
func (s *composes) sets() (sets []composeSet) {
	for _, top := range s.Tops() {
		if c, ok := s.chosen(top); ok &&
			!slices.ContainsFunc(sets, func(o composeSet) bool { return o.dir == c.dir }) {
			sets = append(sets, c)
		}
	}
	if len(sets) > 0 {
		return sets
	}
	for _, file := range s.Tree.Compose {
		dir := path.Dir(file)
		told := s.told(dir)
		if len(told) > 0 && !tree.Aside.MatchString(dir) && !s.isAnotherWay(told[0]) {
			return told[:1]
		}
	}
	for _, file := range s.Tree.Compose {
		dir := path.Dir(file)
		c := composeSet{dir: dir}
		if !ofDevContainer(file) && !tree.Aside.MatchString(dir) && s.HasCompose(dir) &&
			s.ofApplication(c) && !s.isAnotherWay(c) {
			return []composeSet{c}
		}
	}
	return nil
}

// isAnotherWay reports whether a set is the application once more, packed in a folder for that,
// while the instructions at a top serve it without containers: an alternative, and no addition.
func (s *composes) isAnotherWay(c composeSet) bool {
	p, _ := s.Compose(c.dir, c.files)
	if p == nil || !packing.MatchString(c.dir) || !slices.ContainsFunc(p.Services,
		func(v compose.Service) bool { return v.Active && v.Build != "" }) {
		return false
	}
	return slices.ContainsFunc(s.Demands, func(d facts.Demand) bool {
		return slices.Contains(s.Tops(), readme.SpokenOf(d.At.File)) && !s.BesideWork(d.At) &&
			slices.ContainsFunc(d.Parts, func(part shell.Command) bool {
				cwd := path.Join(d.Cwd, part.Folder)
				role, _ := ecosystem.Meaning(part.Words)
				own := len(part.Words) > 1 && s.Brings(part.Words[0], cwd) &&
					serveVerb.MatchString(part.Words[1])
				return own || role == ecosystem.Serves && s.Commands.IsFolder(cwd)
			})
	})
}

// load reads one set, and says which files are active by it.
func (s *composes) load(c composeSet, active map[string]bool) {
	if c.named() {
		s.Remark(stack.Note, stack.CodeComposeTold, c.at, fmt.Sprintf(
			"%s starts %s, and so does a launch", path.Base(c.at.File),
			strings.Join(c.files, " with ")),
			"For another one, name it in COMPOSE_FILE, in the shell or in the .env file beside it.")
	}
	p, err := s.Compose(c.dir, c.files)
	if err != nil {
		files := c.files
		if !c.named() {
			files = compose.Find(s.Files, c.dir, s.Lookup(c.dir))
		}
		for _, f := range files {
			active[f] = true
		}
		s.Faults = append(s.Faults, stack.AllFaults(err)...)
	}
	if p == nil {
		return
	}
	for _, u := range p.Unset {
		u.File = path.Join(c.dir, ".env")
		s.unset(u)
	}
	for _, f := range slices.Concat(p.Files, p.Included) {
		active[f] = true
	}
	s.composed = append(s.composed, p)
}

// unset keeps a variable that nothing gives yet, and says so once of one that is needed.
func (s *composes) unset(u stack.Variable) {
	if u.Required && !slices.ContainsFunc(s.Stack.Variables, func(o stack.Variable) bool {
		return o.Required && o.Name == u.Name && o.File == u.File
	}) {
		s.Remark(stack.Warning, stack.CodeComposeVariableRequired, u.At,
			fmt.Sprintf("this can't be used without %s, which nothing gives yet", u.Name),
			fmt.Sprintf("nharbor fill puts it into %s: it makes up secrets, and asks for what "+
				"only a person knows.", u.File))
	}
	s.Stack.Variables = append(s.Stack.Variables, u)
}

// composeFilesNamed are the files that READMEs and task files call the compose command with, by
// path.
func (s *composes) composeFilesNamed() []string {
	named := map[string]bool{}
	add := func(commands []shell.Command, cwd string) {
		for _, c := range commands {
			if verb, _ := command.ComposeCall(c.Words); verb == "" {
				continue
			}
			for _, f := range command.ComposeFiles(c.Words) {
				if f = path.Join(cwd, c.Folder, f); fs.ValidPath(f) && s.Exists(f) {
					named[f] = true
				}
			}
		}
	}
	for _, d := range s.Demands {
		add(d.Parts, d.Cwd)
	}
	for _, p := range s.Stack.Projects {
		for _, t := range p.Targets {
			add(command.Lines(t.Lines), p.Path)
		}
	}
	return slices.Sorted(maps.Keys(named))
}

// ofDevContainer reports whether a compose file belongs to the definition of a dev container.
func ofDevContainer(file string) bool {
	return slices.Contains(strings.Split(path.Dir(file), "/"), ".devcontainer")
}

// inactive tells why a compose file is not part of the launch, and how it would be; by is the file
// that starts others, if one does.
func (s *composes) inactive(file string, active map[string]bool, by string) (why, remedy string) {
	dir, beside := path.Dir(file), ""
	for _, name := range compose.FileNames {
		if active[path.Join(dir, name)] {
			beside = name
		}
	}
	name := path.Base(file)
	switch {
	case ofDevContainer(file) && len(active) == 0:
		return "this compose file is a dev container's: it says where one works, and not what " +
				"the application is",
			"To launch it anyway, start in its folder with -C."
	case beside == "" && by != "":
		return fmt.Sprintf("this compose file is not part of the launch: %s starts another one",
				by),
			"To use it, name it in COMPOSE_FILE."
	case beside == "" && len(active) > 0:
		files := slices.Sorted(maps.Keys(active))
		first := files[0]
		if i := slices.IndexFunc(files, func(f string) bool {
			return slices.Contains(compose.FileNames, path.Base(f))
		}); i >= 0 {
			first = files[i]
		}
		if strings.Count(first, "/") < strings.Count(file, "/") {
			first += " lies higher"
		} else {
			first = "that takes " + first
		}
		return "this compose file is not part of the launch: " + first,
			"To launch it, start in its folder with -C."
	case beside == "":
		return "this compose file is not part of the launch", "To use it, name it in COMPOSE_FILE."
	case slices.Contains(compose.FileNames, name):
		return fmt.Sprintf("this compose file is not part of the launch: %s beside it is the "+
				"preferred name", beside),
			"Remove one of the two, or name the one that counts in COMPOSE_FILE."
	}
	if data, err := s.Files.ReadFile(file); err == nil && compose.Whole(data) {
		return fmt.Sprintf("this compose file is whole by itself, and not part of the launch, "+
				"which "+
				"takes %s beside it", beside),
			fmt.Sprintf("To launch it instead: COMPOSE_FILE=%s, in the shell or in the .env file "+
				"beside it.", name)
	}
	return fmt.Sprintf("this is a variant of %s, which is not read by itself", beside),
		fmt.Sprintf("To use it: COMPOSE_FILE=%s:%s, in the shell or in the .env file beside it.",
			beside, name)
}

// adopt takes over what the active compose files describe.
func (s *composes) adopt() {
	for _, p := range s.composed {
		s.adoptFrom(p)
	}
	s.anyPorts()
	s.homes.settle()
}

// anyPorts gives a number to ports that a compose file publishes on whichever is free: the
// container's own, or 8000 more where that is one of an administrator's.
func (s *composes) anyPorts() {
	taken := map[int]bool{}
	each := func(f func(p *stack.Port)) {
		for i := range s.Stack.Services {
			for k := range s.Stack.Services[i].Ports {
				f(&s.Stack.Services[i].Ports[k])
			}
		}
	}
	each(func(p *stack.Port) { taken[p.Host] = true })
	each(func(p *stack.Port) {
		if p.Host != 0 || p.Transport != "tcp" {
			return
		}
		port := p.Target
		if port < firstFreeOfRights {
			port += 8000
		}
		for taken[port] {
			port++
		}
		p.Host, taken[port] = port, true
	})
}

func (s *composes) adoptFrom(p *compose.Project) {
	for name, n := range p.Networks {
		s.Stack.Networks[name] = n
	}
	for name, v := range p.Volumes {
		s.Stack.Volumes[name] = v
	}
	s.Stack.Remarks = append(s.Stack.Remarks, p.Remarks...)
	s.Stack.Secrets = append(s.Stack.Secrets, p.Secrets...)
	for i := range p.Services {
		svc := &p.Services[i]
		if told, stays := s.toldToRun(svc.Name); !svc.Active && told != nil {
			if !stays {
				svc.Kind = stack.Once
			}
			s.RemarkOn(stack.AboutService(svc.Name), stack.Note, stack.CodeServiceToldByReadme,
				told.At, fmt.Sprintf(
					"%s belongs to the profile %s, which is not active, but the README tells to "+
						"run it; it belongs "+
						"to the launch", svc.Name, strings.Join(svc.Profiles, ", ")), "")
		} else if !svc.Active && len(svc.Profiles) == 0 {
			continue // which package compose has said
		} else if !svc.Active {
			s.RemarkOn(stack.AboutService(svc.Name), stack.Note,
				stack.CodeServiceInInactiveProfile, svc.At,
				fmt.Sprintf("%s belongs to the profile %s, which is not active", svc.Name,
					strings.Join(svc.Profiles, ", ")),
				fmt.Sprintf("Set COMPOSE_PROFILES=%s to have it.", svc.Profiles[0]))
			continue
		}
		if at, only := s.onlyRun(p, &svc.Service); only {
			s.RemarkOn(stack.AboutService(svc.Name), stack.Note, stack.CodeServiceForTasks, svc.At,
				fmt.Sprintf(
					"%s is not part of the launch: the instructions start other services by "+
						"name, and it is only run for one task at a time (%s:%d)", svc.Name,
					at.File, at.Line), "Run the task when you need it.")
			continue
		}
		if other := s.Stack.Service(svc.Name); other != nil {
			s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeServiceTwice, svc.At,
				fmt.Sprintf("a second service is called %s; the first is at %s:%d", svc.Name,
					other.At.File, other.At.Line), "Rename one of the two; this one is left out.")
			continue
		}
		s.Stack.Services = append(s.Stack.Services, svc.Service)
	}
}

var setUpName = expr.New(`^(.*[-_])?(migrat(e|ions?)|seed(er)?|setup|set-up|init|bootstrap)$`)

// once finds the services that are expected to end.
func (s *composes) once() {
	for i := range s.Stack.Services {
		for _, a := range s.Stack.Services[i].After {
			if other := s.Stack.Service(a.Service); other != nil && a.Until == stack.Finished {
				other.Kind = stack.Once
			}
		}
	}
	for i := range s.Stack.Services {
		told, stays := s.toldToRun(s.Stack.Services[i].Name)
		if told != nil && !stays && s.Stack.Services[i].Kind == stack.Once {
			s.behind(&s.Stack.Services[i], told.At)
		}
	}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if s.endsByItself(svc) {
			svc.Kind = stack.Once
		}
		if svc.Kind == stack.Once {
			svc.Ports = nil // nobody waits for it there, whatever it has in common with a server
		}
	}
}

// endsByItself reports whether a service sets something up and ends: by its name, or by what its
// container runs. One that is started again whenever it ends does not.
func (s *composes) endsByItself(svc *stack.Service) bool {
	if svc.Restarts.Restart && !svc.RestartOnFailure {
		return false
	}
	if svc.Source == stack.FromCompose && s.migrates(svc) {
		s.behindMigration(svc)
		return true
	}
	if s.homes.runsNothing(svc) {
		return true
	}
	return len(svc.Ports) == 0 &&
		(setUpName.MatchString(svc.Name) || svc.Source == stack.FromCompose && s.tidies(svc))
}

// migration is a command that brings a database up to date, and then ends.
var migration = expr.New(
	`^(alembic upgrade|script (db:)?migrate\S*|prisma migrate deploy|prisma db push|knex migrate:latest|` +
		`python manage\.py migrate|rails db:\S*(migrate|prepare)|rake db:\S*migrate|php artisan migrate|` +
		`php bin/console doctrine:migrations:migrate|flask db upgrade|mix ecto\.migrate|goose .*up|migrate .*up|` +
		`diesel migration run|sqlx migrate run|flyway .*migrate|liquibase .*update|typeorm migration:run|` +
		`drizzle-kit migrate)\b`)

// tidying are programs that do one thing to files, and end.
var tidying = []string{"chmod", "chown", "mkdir", "cp", "mv", "rm", "ln", "touch", "echo", "true",
	"install", "tar"}

// tidies reports whether all that a container runs are such programs.
func (s *composes) tidies(svc *stack.Service) bool {
	commands := demand.CommandsOf(slices.Concat(demand.ContainerEntry(svc), svc.Command))
	return len(commands) > 0 && !slices.ContainsFunc(commands, func(c shell.Command) bool {
		return len(c.Words) == 0 || !slices.Contains(tidying, path.Base(c.Words[0]))
	})
}

// migrates reports whether the last thing that a container runs is a migration.
func (s *composes) migrates(svc *stack.Service) bool {
	commands := demand.CommandsOf(slices.Concat(demand.ContainerEntry(svc), svc.Command))
	if len(commands) == 0 {
		return false
	}
	last := ecosystem.Canonical(commands[len(commands)-1].Words)
	return migration.MatchString(strings.Join(last, " "))
}

// behindMigration lets what is built from the same place wait for a migration.
func (s *composes) behindMigration(job *stack.Service) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Name == job.Name || v.Kind == stack.Once || v.Build == "" || v.Build != job.Build ||
			slices.ContainsFunc(v.After,
				func(a stack.After) bool { return a.Service == job.Name }) ||
			slices.ContainsFunc(job.After,
				func(a stack.After) bool { return a.Service == v.Name }) || s.migrates(v) {
			continue
		}
		v.After = append(v.After, stack.After{Service: job.Name, Until: stack.Finished,
			Because: stack.Inferred, Sure: stack.Usual, At: job.At, Reason: fmt.Sprintf(
				"it brings the database up to date that both use, "+
					"%s:%d", job.At.File, job.At.Line)})
	}
}

// behind lets the services that use the same parts wait for a set-up job that the README tells to
// run.
func (s *composes) behind(job *stack.Service, at stack.Place) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Name == job.Name || v.Kind == stack.Once || slices.ContainsFunc(v.After,
			func(a stack.After) bool { return a.Service == job.Name }) ||
			slices.ContainsFunc(job.After,
				func(a stack.After) bool { return a.Service == v.Name }) {
			continue
		}
		if v.Build != "" && v.Build == job.Build ||
			slices.ContainsFunc(v.After, func(a stack.After) bool {
				return slices.ContainsFunc(job.After,
					func(b stack.After) bool { return a.Service == b.Service })
			}) {
			v.After = append(v.After, stack.After{Service: job.Name, Until: stack.Finished,
				Because: stack.Inferred,
				At:      at, Reason: "it sets up what both use, as the README tells"})
		}
	}
}

// toldToRun finds the demand that tells to run a compose service by its name, as a job or, with up,
// to stay.
func (s *composes) toldToRun(service string) (told *facts.Demand, stays bool) {
	for i := range s.Demands {
		d := &s.Demands[i]
		for _, part := range d.Parts {
			for _, l := range s.Commands.Leaves(part, d.Cwd) {
				verb, args := command.ComposeCall(l.Words)
				switch {
				case verb == "run" && len(args) > 0 && args[0] == service:
					return d, false
				case verb == "up" && slices.Contains(args, service):
					return d, true
				}
			}
		}
	}
	return nil, false
}
