// Package survey reads a workspace and says what it consists of, with evidence for each conclusion.
package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/connect"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// Options are what a survey is told about the workspace.
type Options struct {
	Root      string           // the workspace's absolute path, for names and for the answer
	Checkouts []stack.Checkout // their paths relative to the root
	Env       dotenv.Lookup    // the shell's variables; nil for none
	ReadCode  bool             // look for the environment variables that the code reads
	Seen      map[string]Sight // by service, the port that it opened when it was launched last; nil for none
	System    string           // the operating system, as Go names it; empty is taken for linux
	// Changed is when a file, relative to the root, was last committed; nil where nobody knows. It is asked where
	// several files contradict each other only.
	Changed func(file string) time.Time
}

// Sight is a port that a service was seen to listen on, where another one was said, or none (0).
type Sight struct {
	Port, Said int
	Speaks     string
}

// Survey reads the workspace in fsys. A file that can't be read hides nothing else: its fault is in
// the error (stack.Faults), and the stack holds all the rest. Where nothing at all is recognised the
// error is a *stack.Fault with the code nothing-found.
func Survey(fsys fs.FS, opt Options) (*stack.Stack, error) {
	s := newSurveyor(fsys, opt)
	if err := s.look(); err != nil {
		return s.Stack, err
	}
	if len(s.Stack.Projects) == 0 && len(s.Stack.ComposeFiles) == 0 && len(s.Stack.Services) == 0 &&
		len(s.faults) == 0 {
		return s.Stack, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNothingFound, At: stack.Place{File: opt.Root},
			Text: "nothing that nharbor knows was found here; files looked at: " + fmt.Sprint(s.Tree.Files),
			Remedy: fmt.Sprintf("Looked for: compose files (%s), Dockerfiles and package manifests (%s).",
				strings.Join(compose.FileNames, ", "), ecosystem.Usual())}
	}
	if len(s.faults) > 0 {
		// A settings file is read for itself and for the compose file beside it; its fault is one.
		seen := map[string]bool{}
		s.faults = slices.DeleteFunc(s.faults, func(f *stack.Fault) bool {
			twice := seen[f.Error()]
			seen[f.Error()] = true
			return twice
		})
		return s.Stack, s.faults
	}
	return s.Stack, nil
}

func newSurveyor(fsys fs.FS, opt Options) *surveyor {
	if opt.Env == nil {
		opt.Env = func(string) (string, bool) { return "", false }
	}
	files := reading.Of(fsys)
	s := &surveyor{
		Facts: &facts.Facts{Files: files, Root: opt.Root, Env: opt.Env, Documents: map[string]*readme.Document{},
			Stack: &stack.Stack{Schema: "nharbor.survey/1", Root: opt.Root, Checkouts: opt.Checkouts,
				Networks: map[string]stack.Network{}, Volumes: map[string]stack.Volume{}}},
		passes:    passes,
		opt:       opt,
		portless:  map[string]stack.Remark{},
		toldAfter: map[int]stack.Role{}, toldWith: map[int]string{},
	}
	s.cover, s.connects = &demand.Coverage{Facts: s.Facts}, &connect.Connections{Facts: s.Facts}
	s.Mentions = code.Mentions{Files: s.Files}
	s.Commands = command.New(s.Files, s.Stack, func(dir string) bool {
		if s.Tree == nil {
			return false
		}
		_, walked := s.Tree.ByPath[dir]
		return walked
	})
	return s
}

// surveyor holds what the passes have found so far.
type surveyor struct {
	*facts.Facts
	cover    *demand.Coverage
	connects *connect.Connections
	passes   []pass
	opt      Options
	faults   stack.Faults

	code      *code.Reader           // nil if the code is not asked
	composed  []*compose.Project     // the active compose files
	homes     map[string]bool        // the folders of projects and their members; for the reading of code
	retired   map[string]retired     // folders out of use; nil as long as nobody asked
	builtInto map[string]stack.Place // folders that are built into the program of another project
	// toldAfter is, by the number of a demand, what the README does before it.
	toldAfter map[int]stack.Role
	// toldIn is the step of the install that a README's commands come after; toldWith the same for each of them.
	toldIn   string
	toldWith map[int]string
	// portsTold are the ports that READMEs' commands give to services; nil as long as nobody asked.
	portsTold   map[string][]toldPort
	portless    map[string]stack.Remark // what is said of a service as long as no port of it is found
	rivals      []string                // services of several applications that want the same port
	corrections corrections
}

// compose reads the compose files that are active: those at the top of the workspace and of each
// checkout, or that its READMEs start; where there are none, the one that lies highest.
func (s *surveyor) compose() {
	var sets []composeSet
	for _, top := range s.Tops() {
		if c, ok := s.chosen(top); ok &&
			!slices.ContainsFunc(sets, func(o composeSet) bool { return o.dir == c.dir }) {
			sets = append(sets, c)
		}
	}
	if len(sets) == 0 {
		for _, file := range s.Tree.Compose { // its own README may start it
			if told := s.told(path.Dir(file)); len(told) > 0 && !tree.Aside.MatchString(path.Dir(file)) {
				sets = append(sets, told[0])
				break
			}
		}
	}
	if len(sets) == 0 && len(s.Tree.Compose) > 0 {
		for _, file := range s.Tree.Compose {
			dir := path.Dir(file)
			if c := (composeSet{dir: dir}); !ofDevContainer(file) && !tree.Aside.MatchString(dir) &&
				s.HasCompose(dir) &&
				s.ofApplication(c) {
				sets = append(sets, c)
				break
			}
		}
	}
	active := map[string]bool{}
	for _, c := range sets {
		dir := c.dir
		if c.named() {
			s.Remark(
				stack.Note,
				stack.CodeComposeTold,
				c.at,
				fmt.Sprintf(
					"%s starts %s, and so does a launch",
					path.Base(c.at.File),
					strings.Join(c.files, " with "),
				),
				"For another one, name it in COMPOSE_FILE, in the shell or in the .env file beside it.",
			)
		}
		p, err := s.Compose(c.dir, c.files)
		if err != nil {
			files := c.files
			if !c.named() {
				files = compose.Find(s.Files, dir, s.Lookup(dir))
			}
			for _, f := range files {
				active[f] = true
			}
			s.faults = append(s.faults, stack.AllFaults(err)...)
			if p == nil {
				continue
			}
		}
		for _, u := range p.Unset {
			u.File = path.Join(dir, ".env")
			if u.Required && !slices.ContainsFunc(s.Stack.Variables, func(o stack.Variable) bool {
				return o.Required && o.Name == u.Name && o.File == u.File
			}) {
				s.Remark(
					stack.Warning,
					stack.CodeComposeVariableRequired,
					u.At,
					fmt.Sprintf("this can't be used without %s, which nothing gives yet", u.Name),
					fmt.Sprintf(
						"nharbor fill puts it into %s: it makes up secrets, and asks for what only a person knows.",
						u.File,
					),
				)
			}
			s.Stack.Variables = append(s.Stack.Variables, u)
		}
		for _, f := range slices.Concat(p.Files, p.Included) {
			active[f] = true
		}
		s.composed = append(s.composed, p)
	}
	listed := slices.Clone(s.Tree.Compose)
	by := "" // the file that starts other compose files
	for _, c := range sets {
		if c.named() {
			by = path.Base(c.at.File)
		}
	}
	for _, f := range slices.Sorted(maps.Keys(active)) {
		if !slices.Contains(listed, f) {
			listed = append(listed, f)
		}
	}
	for _, f := range listed {
		s.Stack.ComposeFiles = append(s.Stack.ComposeFiles, stack.ComposeFile{Path: f, Active: active[f]})
		if !active[f] {
			why, remedy := inactive(f, active, by)
			s.Remark(stack.Note, stack.CodeComposeNotActive, stack.Place{File: f}, why, remedy)
		}
	}
	for _, f := range s.composeFilesNamed() {
		if !slices.Contains(listed, f) && !active[f] {
			s.Stack.ComposeFiles = append(s.Stack.ComposeFiles, stack.ComposeFile{Path: f})
		}
	}
}

// composeFilesNamed are the files that READMEs and task files call the compose command with, by path.
func (s *surveyor) composeFilesNamed() []string {
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

// inactive tells why a compose file is not part of the launch, and how it would be; by is the file that starts others,
// if one does.
func inactive(file string, active map[string]bool, by string) (why, remedy string) {
	dir, beside := path.Dir(file), ""
	for _, name := range compose.FileNames {
		if active[path.Join(dir, name)] {
			beside = name
		}
	}
	name := path.Base(file)
	switch {
	case ofDevContainer(file) && len(active) == 0:
		return "this compose file is a dev container's: it says where one works, and not what the application is",
			"To launch it anyway, start in its folder with -C."
	case beside == "" && by != "":
		return fmt.Sprintf("this compose file is not part of the launch: %s starts another one", by),
			"To use it, name it in COMPOSE_FILE."
	case beside == "" && len(active) > 0:
		return "this compose file is not part of the launch: another one lies higher",
			"To launch it, start in its folder with -C."
	case beside == "":
		return "this compose file is not part of the launch", "To use it, name it in COMPOSE_FILE."
	case slices.Contains(compose.FileNames, name):
		return fmt.Sprintf("this compose file is not part of the launch: %s beside it is the preferred name", beside),
			"Remove one of the two, or name the one that counts in COMPOSE_FILE."
	}
	return fmt.Sprintf("this is a variant of %s, which is not read by itself", beside),
		fmt.Sprintf("To use it: COMPOSE_FILE=%s:%s, in the shell or in the .env file beside it.", beside, name)
}

// Compose reads the active compose files of the workspace, as Survey does.
func Compose(fsys fs.FS, opt Options) ([]*compose.Project, error) {
	s := newSurveyor(fsys, opt)
	if err := s.look("settings", "readmes"); err != nil {
		return nil, err
	}
	s.faults = nil // of settings files, which are not asked for here
	s.compose()
	if len(s.faults) > 0 {
		return s.composed, s.faults
	}
	return s.composed, nil
}

// adopt takes over what the active compose files describe.
func (s *surveyor) adopt() {
	for _, p := range s.composed {
		s.adoptFrom(p)
	}
	s.anyPorts()
	s.settle()
}

// anyPorts gives a number to ports that a compose file publishes on whichever is free: the container's own, or 8000
// more where that is one of an administrator's.
func (s *surveyor) anyPorts() {
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

func (s *surveyor) adoptFrom(p *compose.Project) {
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
			s.RemarkOn(stack.AboutService(svc.Name), stack.Note, stack.CodeServiceToldByReadme, told.At,
				fmt.Sprintf(
					"%s belongs to the profile %s, which is not active, but the README tells to run it; it belongs "+
						"to the launch", svc.Name, strings.Join(svc.Profiles, ", ")), "")
		} else if !svc.Active && len(svc.Profiles) == 0 {
			continue // which package compose has said
		} else if !svc.Active {
			s.RemarkOn(stack.AboutService(svc.Name), stack.Note, stack.CodeServiceInInactiveProfile, svc.At,
				fmt.Sprintf("%s belongs to the profile %s, which is not active", svc.Name,
					strings.Join(svc.Profiles, ", ")),
				fmt.Sprintf("Set COMPOSE_PROFILES=%s to have it.", svc.Profiles[0]))
			continue
		}
		if at, only := s.onlyRun(p, &svc.Service); only {
			s.RemarkOn(
				stack.AboutService(svc.Name), stack.Note,
				stack.CodeServiceForTasks,
				svc.At,
				fmt.Sprintf(
					"%s is not part of the launch: the instructions start other services by name, and it is only "+
						"run for one task at a time (%s:%d)",
					svc.Name,
					at.File,
					at.Line,
				),
				"Run the task when you need it.",
			)
			continue
		}
		if other := s.Stack.Service(svc.Name); other != nil {
			s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeServiceTwice, svc.At,
				fmt.Sprintf("a second service is called %s; the first is at %s:%d", svc.Name, other.At.File,
					other.At.Line), "Rename one of the two; this one is left out.")
			continue
		}
		s.Stack.Services = append(s.Stack.Services, svc.Service)
	}
}

var setUpName = expr.New(`^(.*[-_])?(migrat(e|ions?)|seed(er)?|setup|set-up|init|bootstrap)$`)

// once finds the services that are expected to end.
func (s *surveyor) once() {
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
		again := svc.Restarts.Restart && !svc.RestartOnFailure
		if len(svc.Ports) == 0 && !again && setUpName.MatchString(svc.Name) {
			svc.Kind = stack.Once
		}
		if svc.Source == stack.FromCompose && !again && len(svc.Ports) == 0 && s.tidies(svc) {
			svc.Kind = stack.Once
		}
		if svc.Source == stack.FromCompose && !again && s.migrates(svc) {
			svc.Kind = stack.Once
			s.behindMigration(svc)
		}
		if svc.Kind == stack.Once {
			svc.Ports = nil // nobody waits for it there, whatever it has in common with a server
		}
	}
}

// migration is a command that brings a database up to date, and then ends.
var migration = expr.New(
	`^(alembic upgrade|script (db:)?migrate\S*|prisma migrate deploy|prisma db push|knex migrate:latest|` +
		`python manage\.py migrate|rails db:\S*(migrate|prepare)|rake db:\S*migrate|php artisan migrate|` +
		`php bin/console doctrine:migrations:migrate|flask db upgrade|mix ecto\.migrate|goose .*up|migrate .*up|` +
		`diesel migration run|sqlx migrate run|flyway .*migrate|liquibase .*update|typeorm migration:run|` +
		`drizzle-kit migrate)\b`,
)

// tidying are programs that do one thing to files, and end.
var tidying = []string{"chmod", "chown", "mkdir", "cp", "mv", "rm", "ln", "touch", "echo", "true", "install", "tar"}

// tidies reports whether all that a container runs are such programs.
func (s *surveyor) tidies(svc *stack.Service) bool {
	commands := demand.CommandsOf(slices.Concat(demand.ContainerEntry(svc), svc.Command))
	return len(commands) > 0 && !slices.ContainsFunc(commands, func(c shell.Command) bool {
		return len(c.Words) == 0 || !slices.Contains(tidying, path.Base(c.Words[0]))
	})
}

// migrates reports whether the last thing that a container runs is a migration.
func (s *surveyor) migrates(svc *stack.Service) bool {
	commands := demand.CommandsOf(slices.Concat(demand.ContainerEntry(svc), svc.Command))
	if len(commands) == 0 {
		return false
	}
	last := ecosystem.Canonical(commands[len(commands)-1].Words)
	return migration.MatchString(strings.Join(last, " "))
}

// behindMigration lets what is built from the same place wait for a migration.
func (s *surveyor) behindMigration(job *stack.Service) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Name == job.Name || v.Kind == stack.Once || v.Build == "" || v.Build != job.Build ||
			slices.ContainsFunc(v.After, func(a stack.After) bool { return a.Service == job.Name }) ||
			slices.ContainsFunc(job.After, func(a stack.After) bool { return a.Service == v.Name }) || s.migrates(v) {
			continue
		}
		v.After = append(v.After, stack.After{Service: job.Name, Until: stack.Finished, Because: stack.Inferred,
			Sure: stack.Usual, At: job.At, Reason: fmt.Sprintf(
				"it brings the database up to date that both use, %s:%d", job.At.File, job.At.Line)})
	}
}

// behind lets the services that use the same parts wait for a set-up job that the README tells to run.
func (s *surveyor) behind(job *stack.Service, at stack.Place) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Name == job.Name || v.Kind == stack.Once ||
			slices.ContainsFunc(v.After, func(a stack.After) bool { return a.Service == job.Name }) ||
			slices.ContainsFunc(job.After, func(a stack.After) bool { return a.Service == v.Name }) {
			continue
		}
		if v.Build != "" && v.Build == job.Build || slices.ContainsFunc(v.After, func(a stack.After) bool {
			return slices.ContainsFunc(job.After, func(b stack.After) bool { return a.Service == b.Service })
		}) {
			v.After = append(v.After, stack.After{Service: job.Name, Until: stack.Finished, Because: stack.Inferred,
				At: at, Reason: "it sets up what both use, as the README tells"})
		}
	}
}

// inspect adds remarks that need the whole picture.
func (s *surveyor) inspect() {
	if len(s.Stack.Services) == 0 && len(s.Stack.Projects) > 0 {
		s.Remark(
			stack.Warning,
			stack.CodeNothingToLaunch,
			s.Stack.Projects[0].Evidence[0].Place(),
			"no way to serve anything was found: no serve script, nothing that a framework starts, no compose service",
			"If you know the command, name it in "+
				CorrectionsFile+": [service.NAME] with command = \"…\" and port = ….",
		)
	}
	taken := map[int]*stack.Service{}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		for _, p := range svc.Ports {
			if p.Host == 0 || svc.Kind == stack.Once {
				continue
			}
			// Package compose compares the services of one compose file.
			if other := taken[p.Host]; other != nil && other != svc &&
				!(slices.Contains(s.rivals, svc.Name) && slices.Contains(s.rivals, other.Name)) &&
				(other.At.File != svc.At.File || svc.Source != stack.FromCompose) {
				s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodePortTwice, p.At,
					fmt.Sprintf("%s and %s both want port %d of this machine",
						other.Name, svc.Name, p.Host), "Change one of the two published ports.")
			}
			taken[p.Host] = svc
		}
		if svc.Build != "" && svc.Container != nil && svc.Container.Inline == "" &&
			!strings.Contains(svc.Build, "://") {
			file := path.Join(svc.Build, svc.Container.Dockerfile)
			if _, err := fs.Stat(s.Files, file); err != nil && !s.isMade(svc, file) {
				s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeBuildFileMissing, svc.At,
					fmt.Sprintf("%s is built from %s, which doesn't exist", svc.Name, file),
					"Correct the build context, or bring in the checkout or submodule that it lies in.")
			}
		}
		for _, ref := range svc.EnvFiles {
			known := slices.ContainsFunc(s.Stack.EnvFiles,
				func(e stack.EnvFile) bool { return e.Path == ref.Path && (e.WantedAt.IsZero() || e.Wants != nil) })
			if _, err := fs.Stat(s.Files, ref.Path); errors.Is(err, fs.ErrNotExist) && ref.Required && !known {
				remedy := "Ask who made the application what belongs in it; if it may be empty: touch " + ref.Path
				if svc.Build != "" || protocol.MustHave(svc.Image, svc.Env) != "" {
					remedy = "nharbor fill makes it with what is known to be read; look at what else belongs in it."
				}
				s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeEnvFileMissing, ref.At,
					fmt.Sprintf("%s wants the file %s, which doesn't exist and has no template", svc.Name, ref.Path),
					remedy)
			}
		}
	}
	s.takesWhatIsThere()
	s.Stack.Remarks = slices.DeleteFunc(s.Stack.Remarks, s.ofUnusedProject)
	for _, c := range s.Stack.Checkouts {
		for _, m := range c.Submodules {
			if !m.Present {
				s.Remark(
					stack.Problem,
					stack.CodeSubmoduleMissing,
					stack.Place{File: path.Join(c.Path, ".gitmodules")},
					fmt.Sprintf("the submodule %s is empty", m.Path),
					"Bring it in: git submodule update --init --recursive",
				)
			}
		}
	}
}

// ofUnusedProject reports whether a remark is about the lock file of a project that no service runs, such as one that
// only formats code: nobody has to do anything about it.
func (s *surveyor) ofUnusedProject(r stack.Remark) bool {
	if r.Code != stack.CodeLockMissing {
		return false
	}
	return !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		return r.About == stack.AboutProject(v.Project, v.Manager)
	})
}
