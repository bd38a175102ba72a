// Package ports concludes on which port each service listens, what is spoken there, and by which
// names it is called. What it concludes is written into the facts' stack.
package ports

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/connect"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// Ports is the room in which ports are judged. Its passes are taken one after the other.
type Ports struct {
	*facts.Facts
	Cover    *demand.Coverage
	Connects *connect.Connections
	Sights   map[string]Sight // by service, what was seen at a launch
	// told are the ports that READMEs' commands give to services; nil as long as nobody asked.
	told map[string][]toldPort
}

// Sight is a port that a service was seen to listen on, where another one was said, or none (0).
type Sight struct {
	Port, Said int
	Speaks     string
}

// Judge concludes on which port each native service listens, from all who say something of it.
// A README's page that is another service's says nothing; what contradicts the one that counts is a
// remark.
func (s *Ports) Judge() {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if !servesNatively(v) {
			continue
		}
		s.portByItsKey(v)
		judged := s.Claims(v)
		first, ok := judged.Counts()
		if !ok {
			continue
		}
		s.takePort(v, first)
		for _, c := range judged.Against() {
			if c.Witness == claim.Readme && first.Witness != claim.Usage {
				s.RemarkOn(stack.AboutService(v.Name), stack.Note, stack.CodeContradiction, c.At,
					fmt.Sprintf("this speaks of port %d; %s listens on %d, by %s", c.Value, v.Name,
						first.Value, placeWords(first)), "")
			}
		}
	}
	s.pageLeftOver()
	s.tellPortless()
}

// takePort gives a service the port that is concluded, where that is another than its own files
// say. A file that is not the service's own (a README, a task) tells it the port; what was seen,
// and what its own settings say, it takes by itself.
func (s *Ports) takePort(v *stack.Service, c claim.Claim[int]) {
	if len(v.Ports) > 0 && v.Ports[0].Host == c.Value {
		return
	}
	switch c.Witness {
	case claim.Sight, claim.Readme, claim.Task, claim.Code:
	default:
		return
	}
	p := stack.Port{Host: c.Value, Target: c.Value, Transport: "tcp", Speaks: "http", At: c.At}
	if c.Witness == claim.Sight {
		p.Speaks = s.Seen(v).Speaks
		if p.Said = -1; len(v.Ports) > 0 {
			p.Said = v.Ports[0].Host
		}
	} else if len(v.Ports) > 0 && c.Witness != claim.Code {
		tellPort(v, v.Ports[0].Host, c.Value)
	}
	v.Ports = append([]stack.Port{p}, v.Ports[min(1, len(v.Ports)):]...)
}

// pageLeftOver gives the one native service of which no port is known the one page that READMEs
// have on this machine and that is nobody else's.
func (s *Ports) pageLeftOver() {
	taken := map[int]bool{}
	var without []*stack.Service
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		for _, p := range v.Ports {
			taken[p.Host] = true
		}
		if servesNatively(v) && len(v.Ports) == 0 {
			without = append(without, v)
		}
	}
	if len(without) != 1 {
		return
	}
	var page stack.Port
	for _, file := range s.Instructions {
		text := s.ReadmeOf(file)
		for _, a := range text.Addresses {
			if !a.Page() || taken[a.Port] || s.BesideWork(stack.Place{File: file, Line: a.Line}) {
				continue
			}
			if page.Host != 0 && page.Host != a.Port {
				return
			}
			page = stack.Port{Host: a.Port, Target: a.Port, Transport: "tcp", Speaks: "http",
				At: stack.Place{File: file, Line: a.Line}}
		}
	}
	if page.Host != 0 {
		without[0].Ports = []stack.Port{page}
	}
}

// servesNatively reports whether a service runs without a container and is there to answer.
func servesNatively(v *stack.Service) bool {
	return v.Runs == stack.Native && v.Kind == stack.Lasting && !v.Watches
}

// tellPortless remarks on the services of which nobody has said a port.
func (s *Ports) tellPortless() {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if r, ok := s.Portless[v.Name]; ok && len(v.Ports) == 0 {
			r.About = stack.AboutService(v.Name)
			s.Stack.Remarks = append(s.Stack.Remarks, r)
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

func placeWords(c claim.Claim[int]) string {
	if c.At.File == "" {
		return "what " + string(c.Witness) + " has shown"
	}
	return fmt.Sprintf("%s:%d", c.At.File, c.At.Line)
}

// Seen is the port that a service opened when it was launched last, unless what is written of it
// has changed since; nil if there is none.
func (s *Ports) Seen(v *stack.Service) *Sight {
	sight, ok := s.Sights[v.Name]
	said := 0
	if len(v.Ports) > 0 {
		said = v.Ports[0].Host
	}
	if !ok || sight.Said != said && sight.Port != said {
		return nil
	}
	return &sight
}

// Claims is what all witnesses say of a service's main port, the one that counts first.
func (s *Ports) Claims(v *stack.Service) claim.Judged[int] {
	var claims []claim.Claim[int]
	add := func(port int, w stack.Witness, at stack.Place) {
		if port > 0 {
			claims = append(claims, claim.Claim[int]{Value: port, Witness: w, At: at})
		}
	}
	native := v.Runs == stack.Native
	if len(v.Ports) > 0 {
		p := &v.Ports[0]
		w := s.Witness(p.At, p.Host)
		if !native {
			w = s.Witness(p.At, 0)
		}
		claims = append(claims, claim.Claim[int]{Value: p.Host, Witness: w, At: p.At})
	}
	if native {
		if seen := s.Seen(v); seen != nil {
			add(seen.Port, claim.Sight, stack.Place{})
		}
		port, at := s.Tree.At(v.Dir()).PortSetting()
		add(port, claim.Setting, at)
		if port, at = s.configPort(v); !s.portOfAnother(v, port) {
			add(port, claim.Code, at)
		}
		port, at = s.taskPort(v)
		add(port, claim.Task, at)
		for _, told := range s.toldPorts()[v.Name] {
			if !s.portOfAnother(v, told.port) {
				add(told.port, claim.Readme, told.at)
			}
		}
	}
	claims = append(claims, s.onlyPages(v)...)
	if native {
		port, at := s.exposedBeside(v)
		add(port, claim.Dockerfile, at)
	}
	return claim.Judge(claim.OfPort, claims...)
}

// onlyPages are the ports of instructions for a service that have one page alone.
func (s *Ports) onlyPages(v *stack.Service) (out []claim.Claim[int]) {
	for _, file := range s.Instructions {
		if path.Dir(file) != v.Dir() && (path.Dir(file) != "." || s.ownServers() > 1) {
			continue
		}
		text := s.ReadmeOf(file)
		port, line := text.OnlyPage()
		if port > 0 && !text.SetsServerUp() && !s.portOfAnother(v, port) {
			out = append(out, claim.Claim[int]{Value: port, Witness: claim.Readme,
				At: stack.Place{File: file, Line: line}})
		}
	}
	return out
}

// exposedBeside is the first port that a Dockerfile beside a native service exposes; 0 for none.
func (s *Ports) exposedBeside(v *stack.Service) (port int, at stack.Place) {
	file := path.Join(v.Dir(), "Dockerfile")
	if !s.Exists(file) {
		return 0, at
	}
	data, err := s.Files.ReadFile(file)
	if err != nil {
		return 0, at
	}
	img := dockerfile.Read(data, "")
	if img == nil || len(img.Exposes) == 0 {
		return 0, at
	}
	return img.Exposes[0].Port, stack.Place{File: file, Line: img.Exposes[0].Line}
}

// portKey is how code of any language reads a variable of its environment that holds a port.
var portKey = expr.New(`(?i:\benv(?:iron)?(?:\.get|\.fetch)?\s*[\[(.]\s*["']?|getenv\w*\(\s*["']|` +
	`env::var\w*\(\s*"|lookupenv\(\s*"|\benv\s*=\s*"|\$\{)([A-Z][A-Z0-9_]*PORT[A-Z0-9_]*|PORT[A-Z0-9_]*)\b`)

// portByItsKey lets a port that stands in code behind a variable follow that variable: the setting
// that gives it counts before the code's own default, and the variable is how the service is told
// another one.
func (s *Ports) portByItsKey(v *stack.Service) {
	if len(v.Ports) == 0 || v.PortBy.Env != "PORT" && v.PortBy.Env != "" ||
		len(v.PortBy.Words) > 0 {
		return
	}
	p := &v.Ports[0]
	lines := s.ReadmeOf(p.At.File).Lines
	if ecosystem.OfCode(path.Ext(p.At.File)) == nil || p.At.Line < 1 || p.At.Line > len(lines) {
		return
	}
	keys := portKey.FindAllStringSubmatch(lines[p.At.Line-1], -1)
	if len(keys) != 1 || !strings.Contains(lines[p.At.Line-1], strconv.Itoa(p.Host)) {
		return
	}
	v.PortBy.Env = keys[0][1]
	for _, set := range s.Connects.Settings(v) {
		if n := address.PortOf(set.Text); set.Key == v.PortBy.Env && n > 0 {
			p.Host, p.Target, p.At = n, n, set.At
			return
		}
	}
}

// taskPort is the port that the task gives by which people serve a project which is served here as
// its framework does; 0 if there is no such task, or it names none.
func (s *Ports) taskPort(v *stack.Service) (port int, at stack.Place) {
	p := s.Stack.Project(v.Project, v.Manager)
	if p == nil || v.Source != stack.FromFramework || v.Dir() != p.Path || len(v.Ports) == 0 {
		return 0, stack.Place{}
	}
	for _, name := range ecosystem.ServeTasks {
		t := s.Commands.Task(p.Path, name)
		if t == nil || ecosystem.InContainers(t) {
			continue
		}
		for _, l := range s.Commands.Leaves(shell.Command{Words: []string{t.Program, name},
			Folder: "."}, p.Path) {
			role, of := ecosystem.Meaning(l.Words)
			if role != ecosystem.Serves || of == nil || of.Name != p.Ecosystem || l.Cwd != p.Path {
				continue
			}
			if port := ecosystem.PortIn(l.Text); port > 0 {
				return port, t.At
			}
		}
	}
	return 0, stack.Place{}
}

// toldPort is a port that a README's command gives to a service which it serves.
type toldPort struct {
	port int
	at   stack.Place
}

// toldPorts are those of all services, by their names.
func (s *Ports) toldPorts() map[string][]toldPort {
	if s.told != nil {
		return s.told
	}
	s.told = map[string][]toldPort{}
	for _, d := range s.Demands {
		if !slices.Contains(s.Instructions, d.At.File) {
			continue
		}
		for _, part := range d.Parts {
			port := ecosystem.PortIn(part.Text)
			if port == 0 || len(part.Words) == 0 {
				continue
			}
			if role, _ := ecosystem.Meaning(part.Words); role != ecosystem.Serves {
				continue
			}
			by := s.Cover.By(part, path.Join(d.Cwd, part.Folder), 0)
			if v := s.Stack.ServiceOf(by); v != nil {
				s.told[v.Name] = append(s.told[v.Name], toldPort{port, d.At})
			}
		}
	}
	return s.told
}

// ownServers counts the services that run the checkout's own programs.
func (s *Ports) ownServers() (n int) {
	for _, v := range s.Stack.Services {
		if v.Kind == stack.Lasting && (v.Runs == stack.Native || v.Build != "" || v.Home != "") &&
			!v.Watches {
			n++
		}
	}
	return n
}

// portOfAnother reports whether a port belongs to another service.
func (s *Ports) portOfAnother(v *stack.Service, port int) bool {
	return slices.ContainsFunc(s.Stack.Services, func(o stack.Service) bool {
		return o.Name != v.Name && slices.ContainsFunc(o.Ports,
			func(p stack.Port) bool { return p.Host == port })
	})
}
