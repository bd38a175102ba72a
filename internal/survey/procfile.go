package survey

import (
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// processesAlone makes services of Procfiles in folders without any project. A line that goes into
// a project's folder and serves it there is that project's own service.
func (s *natives) processesAlone() {
	for _, dir := range slices.Sorted(maps.Keys(s.Tree.ByPath)) {
		p, f := &stack.Project{Path: dir}, s.Tree.At(dir)
		if len(f.Procfile()) == 0 || s.Stack.Project(dir, "") != nil || s.asideWhy(dir) != "" ||
			len(ecosystem.PartsCalled(s.Stack.Projects, []string{dir}, dir)) > 0 {
			continue
		}
		processes, _ := s.procfile(p)
		for _, v := range processes {
			commands := command.Saying(shell.Parse(strings.Join(v.Command[len(v.Command)-1:], "")))
			if s.servesElsewhere(commands, dir) {
				continue
			}
			if len(commands) == 1 && commands[0].Folder != "." {
				at := path.Join(dir, commands[0].Folder)
				if own := s.ProjectAt(at, commands[0].Words); own != nil {
					v.Command, v.Folder = s.cover.Told(own, commands[0]), at
					s.native(own, v, at)
					continue
				}
			}
			s.native(p, v, dir)
		}
	}
}

// servesElsewhere reports whether commands run in dir do nothing but serve services that run in
// other folders.
func (s *natives) servesElsewhere(commands []shell.Command, dir string) bool {
	serves := false
	for _, c := range commands {
		at := path.Join(dir, c.Folder)
		role, _ := ecosystem.Meaning(c.Words)
		here := slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
			same := len(v.Command) > 0 && ecosystem.Key(v.Command) == ecosystem.Key(c.Words)
			return at != dir && (v.Dir() == at || v.Home == at) &&
				(role == ecosystem.Serves || same || v.Home == at)
		})
		if !here {
			return false
		}
		serves = true
	}
	return serves
}

// procfile makes processes of the Procfile in the project's folder. hosted is true where the
// project's own way takes the place of one of its lines.
func (s *natives) procfile(p *stack.Project) (out []stack.Serve, hosted bool) {
	for _, proc := range s.Tree.At(p.Path).Procfile() {
		if own := s.ProjectAt(p.Path, firstWords(proc.Line)); own != nil && own != p &&
			own.Path == p.Path {
			continue // it is of the other project of the folder
		}
		if s.hostsServe(p, proc) {
			hosted = true
			continue
		}
		if proc.Name == "release" {
			if !slices.ContainsFunc(p.Steps,
				func(st stack.Step) bool { return st.Role == stack.Migrate }) {
				p.Steps = append(p.Steps, stack.Step{ID: "migrate:" + p.Path, Role: stack.Migrate,
					Command: shell.Words(proc.Line), Env: map[string]string{}, At: proc.At})
			}
			continue
		}
		if missing := s.runnable(p, proc.Line); missing != "" && !s.ownWay(p, proc, missing) {
			continue
		}
		out = append(out, s.processOf(p, proc))
	}
	return out, hosted
}

// processOf is the process that a line of a Procfile starts. The one called web is told its port.
func (s *natives) processOf(p *stack.Project, proc ecosystem.Process) stack.Serve {
	v := stack.Serve{Name: proc.Name, Command: shell.Words(proc.Line), At: proc.At,
		Source: stack.FromProcfile, PortBy: stack.PortBy{Env: "PORT"}}
	if p.Serve != nil {
		v.Env = p.Serve.Env
	}
	if proc.Name != "web" {
		v.Ports = s.listens(p, proc)
		v.Watches = len(v.Ports) == 0 && watchesFiles.MatchString(proc.Line)
		return v
	}
	setting, settingAt := s.Tree.At(p.Path).PortSetting()
	inLine := ecosystem.PortIn(proc.Line)
	switch told := strings.Contains(proc.Line, "$PORT") || strings.Contains(proc.Line, "${PORT"); {
	case inLine > 0:
		v.Ports = webPort(inLine, proc.At)
	case setting > 0:
		v.Ports = webPort(setting, settingAt)
	case p.Serve != nil && (len(p.Serve.Ports) > 0 || !told):
		v.Ports = p.Serve.Ports
	case told:
		v.Ports = webPort(5000, proc.At)
	}
	if strings.Contains(proc.Line, "$PORT") || strings.Contains(proc.Line, "${PORT") {
		env := map[string]string{"PORT": strconv.Itoa(v.Ports[0].Host)}
		maps.Copy(env, v.Env)
		v.Env = env
	}
	return v
}

func webPort(port int, at stack.Place) []stack.Port {
	return []stack.Port{{Host: port, Target: port, Transport: "tcp", Speaks: "http", At: at}}
}

// watchesFiles are lines of processes that only make files anew when others change.
var watchesFiles = expr.New(`(:|--|\s)watch(\s|$|=)`)

// firstWords are those of the first command of a line that does something.
func firstWords(line string) []string {
	for _, c := range shell.Parse(line) {
		if len(c.Words) > 0 && !command.SaysNothing(c.Words[0]) {
			return c.Words
		}
	}
	return nil
}

// hostsServe reports whether a Procfile's line is how a host of applications serves a project that
// is served otherwise in work on it: the README says so, and the file is not one for work.
func (s *natives) hostsServe(p *stack.Project, proc ecosystem.Process) bool {
	if proc.Name != "web" || p.Serve == nil || path.Base(proc.At.File) != "Procfile" {
		return false
	}
	_, of := ecosystem.Meaning(p.Serve.Command)
	return of != nil && slices.ContainsFunc(s.Demands, func(d facts.Demand) bool {
		return slices.ContainsFunc(d.Parts, func(c shell.Command) bool {
			role, told := ecosystem.Meaning(c.Words)
			return role == ecosystem.Serves && told == of && path.Join(d.Cwd, c.Folder) == p.Path &&
				ecosystem.Key(c.Words) == ecosystem.Key(slices.DeleteFunc(slices.Clone(p.Serve.Command),
					func(w string) bool { return address.PortOf(w) > 0 }))
		})
	})
}

// listens are the ports that a process's line tells it to listen on, or the file of code that it
// runs.
func (s *natives) listens(p *stack.Project, proc ecosystem.Process) (out []stack.Port) {
	add := func(port int, speaks string, at stack.Place) {
		out = append(out, stack.Port{Host: port, Target: port, Transport: "tcp", Speaks: speaks,
			At: at})
	}
	ports, web := ecosystem.Listens(proc.Line)
	for i, port := range ports {
		speaks := protocol.Plain
		if web[i] {
			speaks = "http"
		}
		add(port, speaks, proc.At)
	}
	if port := ecosystem.ListensOn(proc.Line); len(out) == 0 && port > 0 {
		add(port, protocol.Plain, proc.At)
	}
	if len(out) == 0 {
		if port, at := s.Tree.At(p.Path).ListensIn(shell.Words(proc.Line)); port > 0 {
			add(port, "http", at)
		}
	}
	return out
}

var unfit = expr.New(`[^A-Za-z0-9._-]+`)
