package survey

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// The witnesses, by the kind of place that they speak from.
const (
	byCorrection stack.Witness = "correction" // nharbor.toml
	bySight      stack.Witness = "launch"     // what an earlier launch has seen
	byCompose    stack.Witness = "compose file"
	byProcfile   stack.Witness = "Procfile"
	bySetting    stack.Witness = "settings"
	byTask       stack.Witness = "task file"
	byManifest   stack.Witness = "manifest"
	byLock       stack.Witness = "lock file"
	byFramework  stack.Witness = "framework file"
	byCode       stack.Witness = "code"
	byReadme     stack.Witness = "README"
	byDockerfile stack.Witness = "Dockerfile"
	byDevelop    stack.Witness = "dev container"
	byWorkflow   stack.Witness = "CI"
	byUsage      stack.Witness = "what is usual"
)

// forRunning is the order for what runs a service: what is written for just that before what the tools of its language
// would do.
var forRunning = []stack.Witness{
	byCorrection,
	byCompose,
	byProcfile,
	byManifest,
	byFramework,
	byTask,
	byCode,
	byReadme,
	byDockerfile,
}

// order says, for each thing that is concluded, which witness counts before which. A witness that is not in its list
// has no say in it.
var order = map[string][]stack.Witness{
	"service": forRunning,
	"command": forRunning,
	// Where it listens: what was seen before what is said, and what the program is told before what people write of it.
	"port": {
		byCorrection,
		bySight,
		byCompose,
		bySetting,
		byProcfile,
		byTask,
		byManifest,
		byFramework,
		byCode,
		byReadme,
		byDevelop,
		byDockerfile,
		byUsage,
	},
	"protocol": {byCorrection, bySight, byCompose, byManifest, byFramework, byCode, byReadme, byUsage},
	// What it needs: what asks for it by itself before what others use.
	"version": {byManifest, byFramework, byLock, byCode, byDockerfile, byDevelop, byWorkflow},
	"manager": {byCorrection, byManifest, byLock, byReadme, byUsage},
	"waits":   {byCorrection, byCompose, bySetting, byFramework, byProcfile, byReadme, byManifest, byCode},
	// A setting: what fails without it before what only names it.
	"setting": {byCompose, byCode, bySetting, byReadme},
}

// witnessAt tells which kind of witness speaks from a place. A port that its line does not name is only usual.
func (s *surveyor) witnessAt(at stack.Place, port int) stack.Witness {
	name := path.Base(at.File)
	switch {
	case at.File == "":
		return byUsage
	case name == CorrectionsFile:
		return byCorrection
	case slices.ContainsFunc(s.stack.ComposeFiles, func(f stack.ComposeFile) bool { return f.Path == at.File }),
		slices.ContainsFunc(s.stack.Services, func(v stack.Service) bool {
			return v.Source == stack.FromCompose && v.At.File == at.File
		}), compose.IsFileName(name):
		return byCompose
	}
	if port > 0 && !s.lineNames(at, strconv.Itoa(port)) {
		return byUsage
	}
	switch {
	case strings.HasPrefix(name, "Procfile"):
		return byProcfile
	case strings.HasPrefix(name, "Dockerfile"), strings.HasPrefix(name, "Containerfile"):
		return byDockerfile
	case slices.Contains(s.instructions, at.File):
		return byReadme
	case strings.Contains(at.File, "devcontainer"):
		return byDevelop
	case strings.Contains(at.File, ".github/"), strings.Contains(name, "gitlab-ci"):
		return byWorkflow
	case slices.ContainsFunc(s.stack.EnvFiles,
		func(e stack.EnvFile) bool { return e.Path == at.File || e.Template == at.File }),
		strings.HasPrefix(name, ".env"):
		return bySetting
	case ecosystem.IsTaskFile(name):
		return byTask
	case ecosystem.IsManifest(name):
		return byManifest
	case ecosystem.IsLock(name):
		return byLock
	case ecosystem.OfCode(path.Ext(name)) != nil && !strings.Contains(name, ".config."):
		return byCode
	}
	return byFramework
}

// lineNames reports whether the line at a place has the text in it.
func (s *surveyor) lineNames(at stack.Place, text string) bool {
	lines := s.readmeOf(at.File).lines
	return at.Line > 0 && at.Line <= len(lines) && strings.Contains(lines[at.Line-1], text)
}

// sorted puts claims about one thing in the order of their witnesses, the one first that counts; those who have no say
// are left out.
func sorted(of string, claims []stack.Claim) []stack.Claim {
	kind, _, _ := strings.Cut(of, " ")
	list := order[kind]
	claims = slices.DeleteFunc(claims, func(c stack.Claim) bool { return !slices.Contains(list, c.Witness) })
	slices.SortStableFunc(claims, func(a, b stack.Claim) int {
		return slices.Index(list, a.Witness) - slices.Index(list, b.Witness)
	})
	for i := range claims {
		claims[i].Of, claims[i].Counts = of, i == 0
	}
	return claims
}

// judgePorts concludes on which port each native service listens, from all who say something of it. A README's page
// that is another service's says nothing; what contradicts the one that counts is a remark.
func (s *surveyor) judgePorts() {
	for i := range s.stack.Services {
		v := &s.stack.Services[i]
		if v.Runs != stack.Native || v.Kind == stack.Once || v.Watches {
			continue
		}
		s.portByItsKey(v)
		claims := s.portClaims(v)
		if len(claims) == 0 {
			continue
		}
		first := claims[0]
		port := portOf(first.Says)
		switch {
		case (len(v.Ports) == 0 || v.Ports[0].Host != port) &&
			(first.Witness == bySight || first.Witness == byReadme || first.Witness == byTask):
			p := stack.Port{Host: port, Target: port, Transport: "tcp", Speaks: "http", At: first.At}
			if first.Witness == bySight {
				p.Speaks = s.seen(v).Speaks
				if p.Said = -1; len(v.Ports) > 0 {
					p.Said = v.Ports[0].Host
				}
			}
			if first.Witness != bySight && len(v.Ports) > 0 {
				tellPort(v, v.Ports[0].Host, port)
			}
			v.Ports = append([]stack.Port{p}, v.Ports[min(1, len(v.Ports)):]...)
		}
		for _, c := range claims[1:] {
			if c.Says != first.Says && c.Witness == byReadme && first.Witness != byUsage {
				s.remarkOn(stack.AboutService(v.Name), stack.Note, stack.CodeContradiction, c.At,
					fmt.Sprintf("this speaks of port %s; %s listens on %s, by %s", c.Says, v.Name, first.Says,
						placeWords(first)), "")
			}
		}
	}
	s.pageLeftOver()
	s.tellPortless()
}

// pageLeftOver gives the one native service of which no port is known the one page that READMEs have on this machine
// and that is nobody else's.
func (s *surveyor) pageLeftOver() {
	var without *stack.Service
	taken := map[int]bool{}
	for i := range s.stack.Services {
		v := &s.stack.Services[i]
		for _, p := range v.Ports {
			taken[p.Host] = true
		}
		if v.Runs == stack.Native && v.Kind == stack.Lasting && !v.Watches && len(v.Ports) == 0 {
			if without != nil {
				return
			}
			without = v
		}
	}
	if without == nil {
		return
	}
	var page stack.Port
	for _, file := range s.instructions {
		text := s.readmeOf(file)
		for i, line := range text.lines {
			for _, m := range localURL.FindAllStringSubmatch(line, -1) {
				n := portOf(m[2])
				if m[1] == "" || n == 0 || taken[n] || offSections.MatchString(text.at(i+1).head) {
					continue
				}
				if page.Host != 0 && page.Host != n {
					return
				}
				page = stack.Port{Host: n, Target: n, Transport: "tcp", Speaks: "http",
					At: stack.Place{File: file, Line: i + 1}}
			}
		}
	}
	if page.Host != 0 {
		without.Ports = []stack.Port{page}
	}
}

// tellPortless remarks on the services of which nobody has said a port.
func (s *surveyor) tellPortless() {
	for i := range s.stack.Services {
		v := &s.stack.Services[i]
		if r, ok := s.portless[v.Name]; ok && len(v.Ports) == 0 {
			r.About = stack.AboutService(v.Name)
			s.stack.Remarks = append(s.stack.Remarks, r)
		}
	}
}

// tellPort puts the port that a service is to take into its command, where a usual one stood.
func tellPort(v *stack.Service, usual, port int) {
	was, is := strconv.Itoa(usual), strconv.Itoa(port)
	told := false
	tell := func(words []string) []string {
		words = slices.Clone(words)
		for i, w := range words {
			for _, sign := range []string{"", ":", "="} {
				if rest, ok := strings.CutSuffix(w, sign+was); ok && (sign != "" || rest == "") {
					words[i], told = rest+sign+is, true
					break
				}
			}
		}
		if !told {
			for _, w := range v.PortBy.Words {
				words = append(words, strings.ReplaceAll(w, "{port}", is))
			}
		}
		return words
	}
	v.Command = tell(v.Command)
	v.NativeCommand = slices.Clone(v.Command)
}

func placeWords(c stack.Claim) string {
	if c.At.File == "" {
		return "what " + string(c.Witness) + " has shown"
	}
	return fmt.Sprintf("%s:%d", c.At.File, c.At.Line)
}

// seen is the port that a service opened when it was launched last, unless what is written of it has changed since; nil
// if there is none.
func (s *surveyor) seen(v *stack.Service) *Sight {
	sight, ok := s.opt.Seen[v.Name]
	said := 0
	if len(v.Ports) > 0 {
		said = v.Ports[0].Host
	}
	if !ok || sight.Said != said && sight.Port != said {
		return nil
	}
	return &sight
}

// portClaims is what all witnesses say of a service's main port, the one that counts first.
func (s *surveyor) portClaims(v *stack.Service) []stack.Claim {
	var claims []stack.Claim
	add := func(port int, w stack.Witness, at stack.Place) {
		claims = append(claims, stack.Claim{Says: strconv.Itoa(port), Witness: w, At: at})
	}
	if len(v.Ports) > 0 {
		w := s.witnessAt(v.Ports[0].At, v.Ports[0].Host)
		if v.Runs == stack.Container {
			w = s.witnessAt(v.Ports[0].At, 0)
		}
		add(v.Ports[0].Host, w, v.Ports[0].At)
	}
	if v.Runs == stack.Native {
		if seen := s.seen(v); seen != nil {
			add(seen.Port, bySight, stack.Place{})
		}
		if port, at := s.tree.at(v.Dir()).PortSetting(); port > 0 {
			add(port, bySetting, at)
		}
	}
	if v.Runs == stack.Native {
		if port, at := s.taskPort(v); port > 0 {
			add(port, byTask, at)
		}
		for _, told := range s.toldPorts()[v.Name] {
			if !s.portOfAnother(v, told.port) {
				add(told.port, byReadme, told.at)
			}
		}
	}
	for _, file := range s.instructions {
		if path.Dir(file) != v.Dir() && (path.Dir(file) != "." || s.ownServers() > 1) {
			continue
		}
		if port, line := s.readmeOf(file).onlyPage(); port > 0 && !s.portOfAnother(v, port) {
			add(port, byReadme, stack.Place{File: file, Line: line})
		}
	}
	if file := path.Join(v.Dir(), "Dockerfile"); v.Runs == stack.Native && s.exists(file) {
		if data, err := s.fsys.ReadFile(file); err == nil {
			if img := dockerfile.Read(data, ""); img != nil && len(img.Exposes) > 0 {
				add(img.Exposes[0].Port, byDockerfile, stack.Place{File: file, Line: img.Exposes[0].Line})
			}
		}
	}
	return unique(sorted("port", claims))
}

// portKey is how code of any language reads a variable of its environment that holds a port.
var portKey = expr.New(`(?i:\benv(?:iron)?(?:\.get|\.fetch)?\s*[\[(.]\s*["']?|getenv\w*\(\s*["']|` +
	`env::var\w*\(\s*"|lookupenv\(\s*"|\$\{)([A-Z][A-Z0-9_]*PORT[A-Z0-9_]*|PORT[A-Z0-9_]*)\b`)

// portByItsKey lets a port that stands in code behind a variable follow that variable: the setting that gives it counts
// before the code's own default, and the variable is how the service is told another one.
func (s *surveyor) portByItsKey(v *stack.Service) {
	if len(v.Ports) == 0 || v.PortBy.Env != "PORT" && v.PortBy.Env != "" || len(v.PortBy.Words) > 0 {
		return
	}
	p := &v.Ports[0]
	lines := s.readmeOf(p.At.File).lines
	if ecosystem.OfCode(path.Ext(p.At.File)) == nil || p.At.Line < 1 || p.At.Line > len(lines) {
		return
	}
	keys := portKey.FindAllStringSubmatch(lines[p.At.Line-1], -1)
	if len(keys) != 1 || !strings.Contains(lines[p.At.Line-1], strconv.Itoa(p.Host)) {
		return
	}
	v.PortBy.Env = keys[0][1]
	for _, set := range s.settings(v) {
		if n := portOf(set.text); set.key == v.PortBy.Env && n > 0 {
			p.Host, p.Target, p.At = n, n, set.at
			return
		}
	}
}

// taskPort is the port that the task gives by which people serve a project which is served here as its framework does;
// 0 if there is no such task, or it names none.
func (s *surveyor) taskPort(v *stack.Service) (port int, at stack.Place) {
	p := s.stack.Project(v.Project, v.Manager)
	if p == nil || v.Source != stack.FromFramework || v.Dir() != p.Path || len(v.Ports) == 0 {
		return 0, stack.Place{}
	}
	for _, name := range ecosystem.ServeTasks {
		t := s.taskAt(p.Path, name)
		if t == nil || ecosystem.InContainers(t) {
			continue
		}
		for _, l := range s.leaves(shell.Command{Words: []string{t.Program, name}, Folder: "."}, p.Path) {
			role, of := ecosystem.Meaning(l.Words)
			if role != ecosystem.Serves || of == nil || of.Name != p.Ecosystem || l.cwd != p.Path {
				continue
			}
			if port := ecosystem.PortIn(l.Text); port > 0 {
				return port, t.At
			}
		}
	}
	return 0, stack.Place{}
}

// taskAt is the entry of that name of a folder's task file; nil if there is none.
func (s *surveyor) taskAt(dir, name string) *stack.Target {
	for i := range s.stack.Projects {
		p := &s.stack.Projects[i]
		for k := range p.Targets {
			if p.Path == dir && p.Targets[k].Name == name {
				return &p.Targets[k]
			}
		}
	}
	return nil
}

// toldPort is a port that a README's command gives to a service which it serves.
type toldPort struct {
	port int
	at   stack.Place
}

// toldPorts are those of all services, by their names.
func (s *surveyor) toldPorts() map[string][]toldPort {
	if s.portsTold != nil {
		return s.portsTold
	}
	s.portsTold = map[string][]toldPort{}
	for _, d := range s.demands {
		if !slices.Contains(s.instructions, d.at.File) {
			continue
		}
		for _, part := range d.parts {
			port := ecosystem.PortIn(part.Text)
			if port == 0 || len(part.Words) == 0 {
				continue
			}
			if role, _ := ecosystem.Meaning(part.Words); role != ecosystem.Serves {
				continue
			}
			by := s.coveredBy(part, path.Join(d.cwd, part.Folder), 0)
			if name, ok := strings.CutPrefix(by, "service:"); ok {
				s.portsTold[name] = append(s.portsTold[name], toldPort{port, d.at})
			}
		}
	}
	return s.portsTold
}

// ownServers counts the services that run the checkout's own programs.
func (s *surveyor) ownServers() (n int) {
	for _, v := range s.stack.Services {
		if v.Kind == stack.Lasting && (v.Runs == stack.Native || v.Build != "" || v.Home != "") && !v.Watches {
			n++
		}
	}
	return n
}

// portOfAnother reports whether a port belongs to another service.
func (s *surveyor) portOfAnother(v *stack.Service, port int) bool {
	return slices.ContainsFunc(s.stack.Services, func(o stack.Service) bool {
		return o.Name != v.Name && slices.ContainsFunc(o.Ports, func(p stack.Port) bool { return p.Host == port })
	})
}

func unique(claims []stack.Claim) (out []stack.Claim) {
	for _, c := range claims {
		if !slices.ContainsFunc(out, func(o stack.Claim) bool { return o.Says == c.Says && o.At == c.At }) {
			out = append(out, c)
		}
	}
	return out
}

// testify collects what is known of each service, and of each setting, with who says it: for a person who asks why.
func (s *surveyor) testify() {
	for i := range s.stack.Services {
		v := &s.stack.Services[i]
		add := func(of string, claims ...stack.Claim) {
			for _, c := range sorted(of, claims) {
				c.About = v.Name
				s.stack.Claims = append(s.stack.Claims, c)
			}
		}
		kind := string(v.Kind) + ", " + map[stack.Way]string{stack.Native: "run natively",
			stack.Container: "in a container"}[v.Runs]
		add("service", stack.Claim{Says: kind, Witness: s.witnessAt(v.At, 0), At: v.At})
		add("command", s.commandClaims(v)...)
		add("port", s.portClaims(v)...)
		for _, p := range v.Ports {
			add("protocol", stack.Claim{Says: fmt.Sprintf("%s on %d", p.Speaks, max(p.Host, p.Target)),
				Witness: s.protocolBy(v, &p), At: p.At})
		}
		for _, a := range v.After {
			add(
				"waits for "+a.Service,
				stack.Claim{Says: "until it is " + string(a.Until), Witness: s.witnessAt(a.At, 0), At: a.At},
			)
		}
		if p := s.stack.Project(v.Project, v.Manager); p != nil && v.Project != "" {
			evidence := make([]stack.Claim, 0, len(p.Evidence))
			for i, e := range p.Evidence {
				if i > 0 && !namesManager(e.Says, p.Manager) {
					continue // it is about something else
				}
				evidence = append(evidence, stack.Claim{Says: p.Manager + ", by " + e.Says,
					Witness: s.witnessAt(e.Place(), 0), At: e.Place()})
			}
			if named := sorted("manager", evidence[min(1, len(evidence)):]); len(named) > 0 {
				evidence = named // the manifest alone would only make it likely
			}
			add("manager", evidence...)
			tools := map[string][]stack.Claim{}
			for _, r := range p.Runtimes {
				tools[r.Tool] = append(tools[r.Tool], stack.Claim{Says: r.Tool + " " + r.Constraint,
					Witness: s.witnessAt(r.At, 0), At: r.At})
			}
			for _, r := range p.Runtimes {
				add("version of "+r.Tool, tools[r.Tool]...)
				delete(tools, r.Tool)
			}
		}
	}
	s.testifyOfSettings()
}

// namesManager reports whether what an evidence says names the manager, with or without its version.
func namesManager(says, manager string) bool {
	return slices.ContainsFunc(strings.Fields(says), func(w string) bool {
		name, _, _ := strings.Cut(w, "@")
		return name == manager
	})
}

// commandClaims are the ways to run a service that somebody has written down.
func (s *surveyor) commandClaims(v *stack.Service) (out []stack.Claim) {
	if len(v.Command) > 0 {
		out = append(out, stack.Claim{Says: strings.Join(v.Command, " "), Witness: s.witnessAt(v.At, 0), At: v.At})
	}
	for _, d := range s.stack.Readme {
		if d.By == service(v.Name) &&
			!slices.ContainsFunc(out, func(c stack.Claim) bool { return c.Says == d.Command }) {
			out = append(out, stack.Claim{Says: d.Command, Witness: byReadme, At: d.At})
		}
	}
	return out
}

// protocolBy is who says what is spoken on a port.
func (s *surveyor) protocolBy(v *stack.Service, p *stack.Port) stack.Witness {
	switch {
	case v.Image != "" && protocol.OfImage(v.Image) != nil:
		return byCompose
	case s.witnessAt(p.At, 0) == byReadme:
		return byReadme
	case v.Runs == stack.Native && s.seen(v) != nil:
		return bySight
	}
	return byUsage
}

// testifyOfSettings collects what is said of each setting: whether code fails without it, and where it has a value.
func (s *surveyor) testifyOfSettings() {
	claims := map[string][]stack.Claim{}
	add := func(name string, c stack.Claim) { claims[name] = append(claims[name], c) }
	for _, e := range s.stack.EnvFiles {
		file := e.Path
		if !e.Present {
			file = e.Template
		}
		if file == "" {
			continue
		}
		d, err := settings.Read(s.fsys, file, e.Format)
		if err != nil {
			continue
		}
		for _, entry := range d.Entries {
			says := "has a value"
			switch {
			case entry.Value == "":
				says = "is empty"
			case Placeholder(entry.Value):
				says = "holds a placeholder"
			}
			add(entry.Key, stack.Claim{Says: says, Witness: bySetting, At: stack.Place{File: file, Line: entry.Line}})
		}
	}
	for _, v := range s.stack.Services {
		for key := range v.Env {
			if at := v.EnvAt[key]; !at.IsZero() {
				add(key, stack.Claim{Says: "is set for " + v.Name, Witness: byCompose, At: at})
			}
		}
	}
	for _, r := range s.stack.Reads {
		if r.Must {
			add(r.Name, stack.Claim{Says: "is read, and the code fails without it", Witness: byCode, At: r.At})
		}
	}
	for _, r := range s.stack.Reads {
		says := "is read"
		if r.Default {
			says = "is read, and the code has a value of its own"
		}
		if !r.Must {
			add(r.Name, stack.Claim{Says: says, Witness: byCode, At: r.At})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(claims)) {
		for _, c := range sorted("setting", claims[name]) {
			c.About = name
			s.stack.Claims = append(s.stack.Claims, c)
		}
	}
}

// Why lists what is said of the service or the setting of that name, or of the port of that number, in the order in
// which witnesses count.
func Why(s *stack.Stack, name string) []stack.Claim {
	port := portOf(name)
	about := map[string]bool{name: port == 0}
	for _, v := range s.Services {
		if port > 0 &&
			slices.ContainsFunc(v.Ports, func(p stack.Port) bool { return p.Host == port || p.Target == port }) {
			about[v.Name] = true
		}
	}
	var out []stack.Claim
	for _, c := range s.Claims {
		if about[c.About] && (port == 0 || c.Of == "port" || c.Of == "protocol" || c.Of == "service") {
			out = append(out, c)
		}
	}
	return out
}
