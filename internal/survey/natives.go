package survey

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// natives makes services of what projects serve without a container.
type natives struct {
	*facts.Facts
	cover     *demand.Coverage
	retired   map[string]retired     // folders out of use; nil as long as nobody asked
	builtInto map[string]stack.Place // folders that are built into the program of another project
	rivals    []string               // services of several applications that want the same port
}

// served are folders of files that come from elsewhere, or were made, and are handed out as they
// are.
var served = expr.New(`(?i)/static(/|$)|(^|/)(vendors?|vendored|third[-_]?party|bower_components|` +
	`public/(assets|build))(/|$)`)

// Twins are the names of folders that hold one application as it is before and after a course's
// work.
var (
	starter  = expr.New(`(?i)^(.*[-_])?(starter|start|begin|before|initial|skeleton)([-_].*)?$`)
	finished = expr.New(`(?i)^(.*[-_])?(finished|final|complete[d]?|end|after|solution)([-_].*)?$`)
)

// asideWhy tells why a folder's projects are not launched; empty if they are.
func (s *natives) asideWhy(dir string) string {
	if tree.Aside.MatchString(dir) {
		return "it is taken for a sample, a test or a site of documents"
	}
	if served.MatchString(dir) {
		return "it lies among files that are taken as they are"
	}
	if at, built := s.builtInto[dir]; built {
		return fmt.Sprintf("it is built into the program of another project (%s:%d)", at.File,
			at.Line)
	}
	if solution := s.beside(dir); solution != "" {
		return "it is no part of the solution in " + facts.Words(solution)
	}
	parts := strings.Split(dir, "/")
	for i, part := range parts {
		if !starter.MatchString(part) {
			continue
		}
		parent := path.Join(parts[:i]...)
		for _, f := range s.Tree.Folders {
			rel := f.Path
			if parent != "" {
				var below bool
				if rel, below = strings.CutPrefix(f.Path, parent+"/"); !below {
					continue
				}
			}
			if name, _, _ := strings.Cut(rel, "/"); finished.MatchString(name) {
				return "it is where a course begins, and " + path.Join(parent, name) +
					" is the same when it is done"
			}
		}
	}
	if p := s.Stack.Project(dir, ""); p != nil && ecosystem.FrameworkNamed(p.Framework).Documents {
		return "it is a site of documents"
	}
	for at := dir; at != "."; at = path.Dir(at) {
		if told, ok := s.outOfUse()[at]; ok {
			return fmt.Sprintf("the README says that it is %s (%s:%d)", told.word, told.at.File,
				told.at.Line)
		}
	}
	return ""
}

// beside is the folder of the solution, of the same manager as the project in a folder below it,
// that the project is no part of; empty if there is none. A solution lists what belongs together.
func (s *natives) beside(dir string) string {
	p := s.Stack.Project(dir, "")
	if p == nil || !ecosystem.ManagerNamed(p.Manager).Lists {
		return ""
	}
	for _, o := range s.Stack.Projects {
		if o.Manager == p.Manager && len(o.Members) > 0 && o.Path != dir &&
			(o.Path == "." || strings.HasPrefix(dir, o.Path+"/")) {
			return o.Path
		}
	}
	return ""
}

// natives makes a native service of every project that serves and that no compose service builds,
// and of the processes beside it.
func (s *natives) natives() {
	for i := range s.Stack.Projects {
		if p := &s.Stack.Projects[i]; !ecosystem.ManagerNamed(p.Manager).Tasks {
			s.nativesOf(p)
		}
	}
	s.processesAlone()
	// A task file without another manifest counts where it is the only way that is written down.
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if ecosystem.ManagerNamed(p.Manager).Tasks &&
			(len(s.Stack.Services) == 0 || !s.coveredBelow(p.Path)) {
			s.nativesOf(p)
		}
	}
}

// coveredBelow reports whether a service runs in the folder or below it.
func (s *natives) coveredBelow(dir string) bool {
	return slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		for _, at := range []string{v.Dir(), v.Build, path.Dir(v.At.File)} {
			if at != "" && (dir == "." || at == dir || strings.HasPrefix(at, dir+"/")) {
				return true
			}
		}
		return false
	})
}

// nativesOf makes services of what a project serves: of what counts in its folder, and of what its
// members serve in theirs.
func (s *natives) nativesOf(p *stack.Project) {
	judged := s.offers(p)
	if first, ok := judged.Counts(); ok {
		for i, v := range *first.Value {
			name := s.serve(p, v)
			for _, c := range judged.Against() {
				if i == 0 && name != "" {
					s.alsoSaid(name, (*c.Value)[0].Command, c.Witness, c.At)
				}
			}
		}
	}
	for _, v := range p.Also {
		if v.Folder != "" {
			s.serve(p, v)
		}
	}
}

// alsoSaid keeps another way to run a service, which doesn't count.
func (s *natives) alsoSaid(service string, words []string, w stack.Witness, at stack.Place) {
	s.OtherWays[service] = append(s.OtherWays[service], claim.Claim[string]{
		Value: strings.Join(words, " "), Witness: w, At: at})
}

// offer is what one witness says runs in a folder.
type offer []stack.Serve

// offers are what runs in a project's own folder, by the Procfile and by the project itself. Where a
// host of applications serves by the Procfile's line, the project's own way takes its place.
func (s *natives) offers(p *stack.Project) claim.Judged[*offer] {
	processes, hosted := s.procfile(p)
	var own offer
	if p.Serve != nil {
		own = append(own, *p.Serve)
		if hosted && len(processes) > 0 {
			processes = append([]stack.Serve{*p.Serve}, processes...)
		}
	}
	for _, v := range p.Also {
		if v.Folder == "" {
			own = append(own, v)
		}
	}
	var claims []claim.Claim[*offer]
	if len(processes) > 0 {
		all := offer(processes)
		claims = append(claims, claim.Claim[*offer]{Value: &all, Witness: claim.Procfile,
			At: processes[0].At})
	}
	if len(own) > 0 {
		by := s.Witness(own[0].At, 0)
		if own[0].Source == stack.FromFramework ||
			!slices.Contains(claim.OfService.Witnesses(), by) {
			by = claim.Usage // it is known from a file that has no commands
		}
		claims = append(claims, claim.Claim[*offer]{Value: &own, Witness: by, At: own[0].At})
	}
	return claim.Judge(claim.OfService, claims...)
}

// serve makes a service of a command that serves, unless a container runs in its folder, or the
// folder is left alone: then the name is empty.
func (s *natives) serve(p *stack.Project, v stack.Serve) (name string) {
	dir := cmp.Or(v.Folder, p.Path)
	if slices.ContainsFunc(s.Stack.Services, func(other stack.Service) bool {
		return other.Source == stack.FromCompose && other.Home == dir
	}) {
		return ""
	}
	if why := s.asideWhy(dir); why != "" {
		if v.Name == "" {
			s.Remark(stack.Note, stack.CodeProjectAside, v.At,
				fmt.Sprintf("%s is not launched: %s", dir, why),
				"Start nharbor in that folder with -C to launch it.")
		}
		return ""
	}
	return s.native(p, v, dir)
}

func (s *natives) native(p *stack.Project, v stack.Serve, dir string) (name string) {
	name = v.Name
	if v.Source != stack.FromProcfile {
		if name = s.folderName(dir); v.Name != "" {
			name += "-" + v.Name
		}
	}
	name = s.unused(name, dir, p.Manager)
	svc := stack.Service{Name: name, Source: v.Source, Runs: stack.Native, Kind: stack.Lasting,
		Project: p.Path, Manager: p.Manager, Command: v.Command, Env: map[string]string{},
		Ports: slices.Clone(v.Ports), At: v.At, NativeWay: v.Way(p)}
	for k, value := range v.Env {
		svc.Env[k] = value
	}
	if svc.Source == "" {
		svc.Source = stack.FromScript
	}
	for at := dir; ; at = path.Dir(at) {
		for _, file := range ecosystem.FrameworkNamed(p.FrameworkAt(dir)).SettingsFiles() {
			full := path.Join(at, file)
			if slices.ContainsFunc(s.Stack.EnvFiles,
				func(e stack.EnvFile) bool { return e.Path == full }) {
				svc.EnvFiles = append(svc.EnvFiles,
					stack.EnvFileRef{Path: full, At: stack.Place{File: full}})
			}
		}
		if e := ecosystem.Named(p.Ecosystem); e == nil || !e.SettingsAbove || at == p.Path ||
			at == "." || len(svc.EnvFiles) > 0 {
			break
		}
	}
	s.namedSettings(&svc, dir)
	if len(svc.Ports) == 0 && v.Name == "" {
		s.Portless[name] = stack.Remark{Level: stack.Warning, Code: stack.CodePortUnknown, At: v.At,
			Text: fmt.Sprintf("no port was found on which %s listens", name),
			Remedy: "Put the port that it takes into nharbor.toml, so that it can be checked: " +
				"[service." + name + "] with port = …."}
	}
	s.Stack.Services = append(s.Stack.Services, svc)
	return name
}

// namedSettings gives a service the settings file that its lines have it read, and the port in it.
func (s *natives) namedSettings(svc *stack.Service, dir string) {
	lines := slices.Clone(svc.Expands)
	for _, l := range s.Commands.Leaves(shell.Command{Words: svc.Command, Folder: "."}, dir) {
		lines = append(lines, strings.Join(append(l.Set, l.Words...), " "))
	}
	for _, line := range lines {
		m := envOption.FindStringSubmatch(line)
		if m == nil || !s.Exists(path.Join(dir, m[1])) {
			continue
		}
		file := path.Join(dir, m[1])
		if !slices.ContainsFunc(svc.EnvFiles,
			func(e stack.EnvFileRef) bool { return e.Path == file }) {
			svc.EnvFiles = append(svc.EnvFiles,
				stack.EnvFileRef{Path: file, At: stack.Place{File: file}})
		}
		if port, at := s.Tree.At(dir).PortSettingIn(path.Clean(m[1])); port > 0 && len(svc.Ports) == 0 {
			svc.Ports = webPort(port, at)
		}
	}
}

// folderName makes a name of a folder; of the workspace's own, of what its checkout is called.
func (s *natives) folderName(dir string) string {
	name := path.Base(dir)
	if dir == "." {
		name = path.Base(strings.ReplaceAll(s.Root, `\`, "/"))
	}
	if name = strings.Trim(unfit.ReplaceAllString(name, "-"), "-."); name == "" {
		name = "app"
	}
	return name
}

// unused makes the name one that no service has: by the folder's whole path, then by the manager.
func (s *natives) unused(name, dir, manager string) string {
	if s.Stack.Service(name) == nil {
		return name
	}
	long := strings.ReplaceAll(dir, "/", "-")
	for n := 2; long == "." || s.Stack.Service(long) != nil; n++ {
		if long = fmt.Sprintf("%s-%s", name, manager); n > 2 {
			long = fmt.Sprintf("%s-%d", long, n)
		}
	}
	return long
}

// severalApplications says how to choose where native services of one workspace want the same port
// and have nothing to do with each other.
func (s *natives) severalApplications() {
	byPort := map[int][]*stack.Service{}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if v.Runs == stack.Native && len(v.Ports) > 0 {
			byPort[v.Ports[0].Host] = append(byPort[v.Ports[0].Host], v)
		}
	}
	var rivals []*stack.Service
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Native && len(v.Ports) > 0 &&
			len(byPort[v.Ports[0].Host]) > 1 {
			rivals = append(rivals, v)
		}
	}
	if len(rivals) == 0 {
		return
	}
	likely, why := rivals[0], "it lies highest"
	for _, v := range rivals {
		for _, d := range s.Demands {
			if d.Cwd == v.Dir() && v.Dir() != "." && likely.Dir() != v.Dir() &&
				why != "the README leads there first" {
				likely, why = v, "the README leads there first"
			}
		}
	}
	var names []string
	for _, v := range rivals {
		names = append(names, v.Name)
	}
	s.rivals = names
	s.RemarkOn(stack.AboutService(likely.Name), stack.Problem, stack.CodeSeveralApplications,
		likely.At,
		fmt.Sprintf("several applications lie here that want the same port: %s; the likely main "+
			"one is %s, since %s", strings.Join(names, ", "), likely.Name, why),
		fmt.Sprintf("Choose with nharbor launch %s, or start in its folder: nharbor -C %s launch",
			likely.Name, likely.Dir()))
}

var portPair = expr.New(`(?:-p|--publish)[ =](?:[\d.]+:)?(\d{2,5}):(\d{2,5})`)

// dockerfiles makes a service of a Dockerfile that no compose file builds. Where the same folder is
// served natively, that service gets a second way to run.
func (s *natives) dockerfiles() {
	for _, file := range s.Tree.Dockerfiles {
		if !s.isItsOwn(file) {
			continue
		}
		dir := path.Dir(file)
		data, err := s.Tree.At(dir).Read(path.Base(file))
		if err != nil {
			s.Faults = append(s.Faults, stack.AllFaults(err)...)
			continue
		}
		context := dir
		var ports []stack.Port
		if img := dockerfile.Read(data, ""); img != nil {
			if endsAtOnce(img) || s.packsWhatIsServed(dir) {
				continue
			}
			context, ports = s.contextOf(dir, img), s.portsOf(file, img)
		}
		s.containerOf(file, context, ports)
	}
}

// isItsOwn reports whether a Dockerfile can be a service: by its name and its place, and since no
// compose file builds it.
func (s *natives) isItsOwn(file string) bool {
	dir, name := path.Dir(file), path.Base(file)
	if name != "Dockerfile" && name != "Containerfile" {
		return false
	}
	if s.asideWhy(dir) != "" || slices.ContainsFunc(strings.Split(dir, "/"), isHidden) {
		return false
	}
	return !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		return v.Source == stack.FromCompose && (v.Build == dir || v.Home == dir ||
			path.Join(v.Build, facts.Dockerfile(&v)) == file)
	})
}

// packsWhatIsServed reports whether a folder for packing is another way to run what is served
// anyway.
func (s *natives) packsWhatIsServed(dir string) bool {
	return s.ProjectAt(dir, nil) == nil && packing.MatchString(dir) && s.anyServes(s.topOf(dir))
}

// portsOf are the ports that an image exposes, or that instructions publish of what is built here.
func (s *natives) portsOf(file string, img *dockerfile.Image) (ports []stack.Port) {
	dir := path.Dir(file)
	for _, e := range img.Exposes {
		if e.Transport != "udp" {
			ports = append(ports, stack.Port{Host: s.published(dir, e.Port), Target: e.Port,
				Transport: "tcp", Speaks: protocol.OfPort("", e.Port),
				At: stack.Place{File: file, Line: e.Line}})
		}
	}
	for _, pair := range s.publishedPairs(dir) {
		exposed := slices.ContainsFunc(ports,
			func(p stack.Port) bool { return p.Target == pair.inner })
		if pair.built && !exposed {
			ports = append(ports, stack.Port{Host: pair.host, Target: pair.inner, Transport: "tcp",
				Speaks: protocol.OfPort("", pair.inner), At: pair.at})
		}
	}
	return ports
}

// containerOf makes a Dockerfile the second way of the native service in its folder or, where there
// is none and no compose file says what runs in containers, a service.
func (s *natives) containerOf(file, context string, ports []stack.Port) {
	dir, at := path.Dir(file), stack.Place{File: file, Line: 1}
	spec := &stack.ContainerSpec{
		Building: stack.Building{Dockerfile: strings.TrimPrefix(file, context+"/")}}
	var beside []*stack.Service
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Native && v.Dir() == dir {
			beside = append(beside, v)
		}
	}
	switch {
	case len(beside) > 1: // nobody says which of them the image is
	case len(beside) == 1 && beside[0].Container == nil:
		v := beside[0]
		v.Build, v.Container, v.Address = context, spec, v.Name
		if len(v.Ports) == 0 {
			v.Ports = ports
		} else if len(ports) > 0 {
			v.ContainerPort = ports[0].Target
		}
		s.RemarkOn(stack.AboutService(v.Name), stack.Note, stack.CodeTwoWays, at,
			fmt.Sprintf("%s can also run in a container built from this file", v.Name),
			"nharbor launch --container "+v.Name)
	case len(s.Stack.ComposeFiles) == 0:
		s.imageServed(dir, context, spec, ports, at)
	}
}

// imageServed makes a service that runs in a container built here.
func (s *natives) imageServed(dir, context string, spec *stack.ContainerSpec, ports []stack.Port,
	at stack.Place) {
	of := dir
	for packing.MatchString(of) {
		of = path.Dir(of) // that is called after what it is for, and not after the application
	}
	name := s.unused(s.folderName(of), dir, "container")
	s.Stack.Services = append(s.Stack.Services, stack.Service{Name: name,
		Source: stack.FromDockerfile, Runs: stack.Container, Kind: stack.Lasting, Build: context,
		Env: map[string]string{}, Ports: ports, At: at,
		ContainerWay: stack.ContainerWay{Address: name, Container: spec}})
	if len(ports) == 0 {
		s.Portless[name] = stack.Remark{Level: stack.Warning, Code: stack.CodePortUnknown, At: at,
			Text:   fmt.Sprintf("the Dockerfile of %s exposes no port", name),
			Remedy: "Add an EXPOSE line, or the port to nharbor.toml, so that it can be checked."}
	}
}

// packing are folders that hold nothing of an application itself, but ways to pack it and bring it
// somewhere.
var packing = expr.New(
	`(?i)(^|/)(docker|dockerfiles?|deploy(ment)?s?|cloud|ci|packaging|ops|infra(structure)?|contrib|extras?|` +
		`k8s|kubernetes|helm)(/|$)`)

// topOf is the top of the checkout that a folder lies in, or of the workspace.
func (s *natives) topOf(dir string) string {
	for ; dir != "."; dir = path.Dir(dir) {
		if s.IsCheckout(dir) {
			return dir
		}
	}
	return "."
}

// isHidden reports whether the name of a file or folder hides it; . is the folder itself.
func isHidden(name string) bool { return len(name) > 1 && name[0] == '.' }

// contextOf is the folder that a Dockerfile is built in: its own or, where what it takes isn't
// there, the nearest one above that has all of it.
func (s *natives) contextOf(dir string, img *dockerfile.Image) string {
	for context := dir; ; context = path.Dir(context) {
		if !slices.ContainsFunc(img.Takes, func(t dockerfile.Taken) bool {
			full := path.Join(context, t.Path)
			return !buildVariable.MatchString(t.Path) && !s.Commands.IsFolder(full) &&
				!s.Exists(full)
		}) {
			return context
		}
		if context == "." || s.IsCheckout(context) {
			return dir
		}
	}
}

// pair is a port of this machine, and the one in a container that a README publishes on it.
type pair struct {
	host, inner int
	at          stack.Place
	// whether the READMEs build that image too, so that it is certain which one it is
	built bool
}

// publishedPairs are those that the READMEs publish of the image that is built from a folder, or
// run in that folder.
func (s *natives) publishedPairs(dir string) (out []pair) {
	for _, d := range s.Demands {
		built, known := "", false
		for _, part := range d.Parts {
			if len(part.Words) > 2 && demand.Program("docker",
				"podman")(&demand.Call{Words: part.Words}) {
				built, known = s.cover.BuildOf(part.Words, path.Join(d.Cwd, part.Folder))
			}
		}
		if known && built != dir || !known && d.Cwd != dir {
			continue
		}
		for _, m := range portPair.FindAllStringSubmatch(d.Command, -1) {
			host, _ := strconv.Atoi(m[1])
			inner, _ := strconv.Atoi(m[2])
			out = append(out, pair{host, inner, d.At, known})
		}
	}
	return out
}

// published is the port of this machine that the README publishes the inner one on, or the same
// number. Those that need rights of an administrator, and are mostly taken, become 8000 more.
func (s *natives) published(dir string, inner int) int {
	for _, pair := range s.publishedPairs(dir) {
		if pair.inner == inner {
			return pair.host
		}
	}
	if inner >= firstFreeOfRights {
		return inner
	}
	for port := 8000 + inner; ; port++ {
		if !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
			return slices.ContainsFunc(v.Ports, func(p stack.Port) bool { return p.Host == port })
		}) {
			return port
		}
	}
}

// firstFreeOfRights is the lowest port that every user may listen on.
const firstFreeOfRights = 1024

// anyServes reports whether something of the checkout is served already, in the folder or, for the
// top, anywhere.
func (s *natives) anyServes(cwd string) bool {
	return slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		own := v.Runs == stack.Native || v.Build != "" || v.Home != ""
		if !own || v.Kind == stack.Once {
			return false
		}
		return cwd == "." || slices.Contains(s.Tops(), cwd) || v.Dir() == cwd || v.Home == cwd ||
			v.Build == cwd
	})
}
