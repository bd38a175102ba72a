package survey

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// homes finds out which program of the checkout a container holds, and where that lives.
type homes struct {
	*facts.Facts
}

var (
	// What only a build can put in is not known here.
	buildVariable = expr.New(`[$*?\[]`)
)

// homeOf is the folder in which the program of a container lives, as far as it is known: the one
// that lies over its working folder, by a mount or by a copy; the folder of its Dockerfile; or its
// context. The first that is a project, or a member of one, counts.
func (s *homes) homeOf(svc *stack.Service) string {
	if svc.Container == nil {
		return ""
	}
	img, file := s.DockerfileOf(svc)
	workdir, command := worksIn(svc, img)
	for _, dir := range s.homesMaybe(svc, img, file, workdir) {
		if p := s.ProjectAt(dir, command); p != nil {
			return s.memberMeant(p, dir, command)
		}
	}
	switch {
	case svc.Build != "", protocol.OfImage(svc.Image) != nil:
		return ""
	case strings.Contains(svc.Image, "/"):
		return s.publishedFrom(svc)
	}
	return s.madeHere(svc, protocol.ImageName(svc.Image))
}

// homesMaybe are the folders in which the program of a container may live, the likeliest first. Its
// image, by the Dockerfile file, may be nil.
func (s *homes) homesMaybe(svc *stack.Service, img *dockerfile.Image, file, workdir string,
) (candidates []string) {
	// what lies over the folder that it works in
	over := func(from, to string) {
		if workdir != "" && (workdir == to ||
			strings.HasPrefix(workdir, strings.TrimSuffix(to, "/")+"/")) {
			candidates = append(candidates, path.Join(from, strings.TrimPrefix(workdir, to)))
		}
	}
	for _, m := range svc.Container.Mounts {
		if m.Type != "bind" || !fs.ValidPath(m.Source) || !s.Commands.IsFolder(m.Source) {
			continue
		}
		over(m.Source, m.Target)
		if svc.Build != "" && img == nil && !path.IsAbs(workdir) {
			candidates = append(candidates, m.Source) // what it is built from isn't there yet
		}
	}
	if file != "" {
		candidates = append(candidates, path.Dir(file))
	}
	if img != nil {
		for _, c := range slices.Backward(img.Copies) {
			if from := path.Join(svc.Build, c.From); s.Commands.IsFolder(from) {
				over(from, c.To)
			}
		}
	}
	if svc.Build != "" {
		candidates = append(candidates, svc.Build)
	}
	return candidates
}

// worksIn is the folder in a container that its command runs in, and the command: by the compose
// file, else by the image, which may be nil.
func worksIn(svc *stack.Service, img *dockerfile.Image) (workdir string, command []string) {
	workdir, command = svc.Container.WorkingDir, svc.Command
	if img != nil {
		workdir = cmp.Or(workdir, img.Workdir)
		if len(command) == 0 {
			command = img.Command
		}
	}
	list := demand.CommandsOf(command)
	if len(list) == 0 {
		return workdir, command
	}
	// it may go elsewhere first
	last := list[len(list)-1].Folder
	if path.IsAbs(last) {
		return last, command
	}
	return path.Join(workdir, last), command
}

// memberMeant is the folder of the member that a command of the project's manager names, or the
// folder itself.
func (s *homes) memberMeant(p *stack.Project, dir string, command []string) string {
	scripts := ecosystem.ManagerNamed(p.Manager).Scripts
	if scripts == nil || len(p.Members) == 0 {
		return dir
	}
	for i, word := range command {
		option, value, joined := strings.Cut(word, "=")
		if !slices.Contains(scripts.Member, option) {
			continue
		}
		if !joined {
			if i+1 == len(command) {
				return dir
			}
			value = command[i+1]
		}
		for _, part := range p.Parts {
			if part.Name == value || part.Folder == path.Join(p.Path, value) {
				return part.Folder
			}
		}
	}
	return dir
}

// madeHere is the folder of the project that makes an image of that name: the one that is called
// so.
func (s *homes) madeHere(svc *stack.Service, image string) string {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if p.Serve == nil || p.Name != image && path.Base(p.Path) != image { // as isCalled
			continue
		}
		s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeImageOfProject, svc.At,
			fmt.Sprintf("%s runs the image %s, which the project %s makes and nobody else has",
				svc.Name, svc.Image, p.Path),
			fmt.Sprintf("Make the image first%s. Or run the project itself: nharbor launch "+
				"--native %s", s.imageScript(p.Path), svc.Name))
		return p.Path
	}
	return ""
}

// publishedFrom is the folder of the project whose released program an image from elsewhere holds:
// the one that serves and is called as the image is.
func (s *homes) publishedFrom(svc *stack.Service) string {
	_, image := path.Split(protocol.ImageName(svc.Image))
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		if p.Serve == nil || path.Base(ecosystem.Unversioned(p.Name)) != image {
			continue
		}
		s.RemarkOn(stack.AboutService(svc.Name), stack.Note, stack.CodeImagePublished, svc.At,
			fmt.Sprintf("%s runs %s, a release of the program that is here in %s, and not this "+
				"code", svc.Name, svc.Image, facts.Words(p.Path)),
			"To run the code: nharbor launch --native "+svc.Name)
		return p.Path
	}
	return ""
}

// makesImage are what tools call the making of an image.
var makesImage = expr.New(`jib|dockerBuild|bootBuildImage|build-image|docker build|pack build`)

// imageScript names the script of a folder that makes an image; empty if there is none.
func (s *homes) imageScript(dir string) string {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		for _, part := range p.Parts {
			if part.Folder != dir {
				continue
			}
			var found []string
			for name, lines := range part.Scripts {
				if makesImage.MatchString(strings.Join(lines, " ")) {
					found = append(found, name)
				}
			}
			if len(found) > 0 {
				slices.SortFunc(found, func(a, b string) int { return len(a) - len(b) })
				return fmt.Sprintf(", with %s run %s in %s", p.Manager, found[0], dir)
			}
		}
	}
	return ""
}

// servedAt is how a project is served in one of its folders; nil if it isn't.
func servedAt(p *stack.Project, dir string) *stack.Serve {
	if p.Path == dir {
		return p.Serve
	}
	for i := range p.Also {
		if v := &p.Also[i]; v.Folder == dir && v.Name == "" {
			return v
		}
	}
	return nil
}

// settle makes compose services and the projects whose programs they run one. Of several that run
// the same, the one that offers a port serves.
func (s *homes) settle() {
	homes := map[string]int{}
	for i := range s.Stack.Services {
		if svc := &s.Stack.Services[i]; svc.Source == stack.FromCompose {
			if svc.Home = s.homeOf(svc); svc.Home != "" {
				homes[svc.Home]++
			}
		}
	}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if svc.Source != stack.FromCompose || svc.Home == "" {
			continue
		}
		p := s.ProjectAt(svc.Home, svc.Command)
		svc.Project, svc.Manager = p.Path, p.Manager
		serve := servedAt(p, svc.Home)
		if serve == nil || homes[svc.Home] > 1 && len(svc.Ports) == 0 {
			continue
		}
		svc.NativeWay = serve.Way(p)
		if svc.Home != p.Path {
			svc.Folder = svc.Home
		}
		for k := range svc.Ports {
			if own := &svc.Ports[k]; slices.ContainsFunc(serve.Ports,
				func(o stack.Port) bool { return o.Target == own.Target }) {
				own.Speaks = "http"
			}
		}
	}
}

// madeFirst lets services wait for the builds of what their images take, or have mounted, from a
// project that makes it.
func (s *homes) madeFirst() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if svc.Runs != stack.Container || svc.Container == nil {
			continue
		}
		if img, _ := s.DockerfileOf(svc); img != nil {
			for _, t := range img.Takes {
				s.waitForBuild(svc, path.Join(svc.Build, untilPattern(t.Path)))
			}
		}
		for _, m := range svc.Container.Mounts {
			if m.Type == "bind" {
				s.waitForBuild(svc, m.Source)
			}
		}
		if svc.Build != "" && fs.ValidPath(svc.Build) && !s.Commands.IsFolder(svc.Build) {
			s.waitForInstall(svc, svc.Build)
		}
	}
}

// waitForInstall lets a service wait for the install that brings a folder which isn't there.
func (s *homes) waitForInstall(svc *stack.Service, folder string) {
	for i := range s.Stack.Projects {
		for _, st := range s.Stack.Projects[i].Steps {
			brings := slices.ContainsFunc(st.Outputs,
				func(o string) bool { return strings.HasPrefix(folder, o+"/") })
			if st.Role == stack.Install && brings && !slices.Contains(svc.AfterSteps, st.ID) {
				svc.AfterSteps = append(svc.AfterSteps, st.ID)
			}
		}
	}
}

// untilPattern is the part of a path before the first name that is a pattern.
func untilPattern(name string) string {
	parts := strings.Split(name, "/")
	if at := slices.IndexFunc(parts, buildVariable.MatchString); at >= 0 {
		return path.Join(parts[:at]...)
	}
	return name
}

// waitForBuild lets a service wait for the build that makes a file or folder which isn't there.
func (s *homes) waitForBuild(svc *stack.Service, full string) {
	if full == "" || full == "." || !fs.ValidPath(full) || s.Commands.IsFolder(full) ||
		s.Exists(full) {
		return
	}
	best, folder := s.around(full)
	if best == nil {
		return
	}
	st := ecosystem.BuildOfOutput(best, folder, strings.TrimPrefix(full, folder+"/"))
	if st == nil {
		return
	}
	if s.SeveralAt(best.Path) {
		st.ID += "@" + best.Manager
	}
	if at := slices.IndexFunc(best.Steps,
		func(o stack.Step) bool { return o.ID == st.ID }); at >= 0 {
		best.Steps[at].Command, best.Steps[at].Expands = st.Command, st.Expands
		best.Steps[at].Outputs = append(best.Steps[at].Outputs, st.Outputs...)
	} else {
		at := slices.IndexFunc(best.Steps,
			func(o stack.Step) bool { return o.Role.Rank() > stack.Build.Rank() })
		if at < 0 {
			at = len(best.Steps)
		}
		st.ForOthers = true
		best.Steps = slices.Insert(best.Steps, at, *st)
	}
	if !slices.Contains(svc.AfterSteps, st.ID) {
		svc.AfterSteps = append(svc.AfterSteps, st.ID)
	}
}

// around is the project, or the member of one, in whose folder a file lies, the nearest one; nil if
// there is none.
func (s *homes) around(file string) (best *stack.Project, folder string) {
	for i := range s.Stack.Projects {
		p := &s.Stack.Projects[i]
		for _, dir := range append([]string{p.Path}, p.Members...) {
			inside := dir == "." || strings.HasPrefix(file, dir+"/")
			if inside && (best == nil || len(dir) > len(folder)) {
				best, folder = p, dir
			}
		}
	}
	return best, folder
}

// bases notes the images of others that services are built on.
func (s *homes) bases() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		img, file := s.DockerfileOf(svc)
		if img == nil || file == "" {
			continue
		}
		for _, b := range img.Bases {
			svc.Bases = append(svc.Bases,
				stack.BaseImage{Image: b.Name, At: stack.Place{File: file, Line: b.Line}})
		}
	}
}

// takesWhatIsThere remarks on files that a Dockerfile takes from the checkout and that aren't
// there.
func (s *homes) takesWhatIsThere() {
	told := map[stack.Place]bool{}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		img, file := s.DockerfileOf(svc)
		if svc.Runs != stack.Container || img == nil || file == "" {
			continue
		}
		for _, t := range img.Takes {
			full := path.Join(svc.Build, t.Path)
			at := stack.Place{File: file, Line: t.Line}
			if buildVariable.MatchString(t.Path) || !fs.ValidPath(full) ||
				s.Commands.IsFolder(full) || s.Exists(full) ||
				told[at] || s.IsCheckout(path.Dir(full)) && path.Base(full) == ".git" ||
				s.isMade(svc, full) || slices.ContainsFunc(s.Stack.EnvFiles,
				func(e stack.EnvFile) bool { return e.Path == full }) {
				continue
			}
			told[at] = true
			s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeBuildTakesMissing, at,
				fmt.Sprintf("%s can't be built: its Dockerfile takes %s, which isn't there",
					svc.Name, full), s.howToMake(full))
		}
	}
}

// mountsWhatIsThere remarks on files of the checkout that a container is to see and that aren't
// there: an engine makes folders of their names, and the program fails to read them.
func (s *homes) mountsWhatIsThere() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if svc.Runs != stack.Container || svc.Container == nil {
			continue
		}
		for _, m := range svc.Container.Mounts {
			isFile := path.Ext(path.Base(m.Source)) != "" && path.Ext(m.Target) != "" &&
				!strings.HasPrefix(path.Base(m.Source), ".")
			if m.Type != "bind" || !isFile || !fs.ValidPath(m.Source) || s.Exists(m.Source) ||
				s.Commands.IsFolder(m.Source) || s.isMade(svc, m.Source) ||
				slices.ContainsFunc(s.Stack.EnvFiles,
					func(e stack.EnvFile) bool { return e.Path == m.Source }) {
				continue
			}
			remedy := s.howToMake(m.Source)
			if line := s.copiedTo(m.Source); line != "" {
				remedy = "Make it first: " + line
			}
			s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeMountMissing, m.At,
				fmt.Sprintf("%s is to see the file %s, which isn't there: the engine would make "+
					"a folder of that name", svc.Name, m.Source), remedy)
		}
	}
}

// copiedTo is the copy by which one of the projects' tasks makes a file, as it would be called at
// the top; empty if none does.
func (s *homes) copiedTo(file string) string {
	for _, p := range s.Stack.Projects {
		for _, t := range p.Targets {
			for _, c := range shell.Parse(strings.Join(t.Lines, "\n")) {
				words := slices.DeleteFunc(slices.Clone(c.Words),
					func(w string) bool { return strings.HasPrefix(w, "-") })
				if len(words) != 3 || words[0] != "cp" {
					continue
				}
				from, to := path.Join(p.Path, c.Folder, words[1]), path.Join(p.Path, c.Folder,
					words[2])
				if to == file {
					return fmt.Sprintf("mkdir -p %s && cp %s %s (as %s does, %s:%d)",
						path.Dir(file),
						from, to, t.Name, t.At.File, t.At.Line)
				}
			}
		}
	}
	return ""
}

// isMade reports whether one of the steps that a service waits for makes a file.
func (s *homes) isMade(svc *stack.Service, file string) bool {
	return slices.ContainsFunc(svc.AfterSteps, func(id string) bool {
		st := s.Stack.Step(id)
		return st != nil && slices.ContainsFunc(st.Outputs, func(o string) bool {
			return o == file || strings.HasPrefix(file, o+"/")
		})
	})
}

// howToMake says where a file comes from that isn't in the checkout.
func (s *homes) howToMake(file string) string {
	for _, m := range ecosystem.Managers() {
		if slices.Contains(m.Locks, path.Base(file)) {
			return fmt.Sprintf("It is the lock file of %s: let %s make it in %s.", m.Name, m.Name,
				facts.Words(path.Dir(file)))
		}
	}
	for _, p := range s.Stack.Projects {
		for _, st := range p.Steps {
			if slices.ContainsFunc(st.Outputs, func(o string) bool {
				return o == file || strings.HasPrefix(file, o+"/")
			}) {
				return fmt.Sprintf("Make it first: %s in %s.", strings.Join(st.Command, " "),
					facts.Words(cmp.Or(st.Folder, p.Path)))
			}
		}
	}
	return "Bring it in, or make it first as the README says."
}

// systems are images of a whole system, in which by itself a shell runs.
var systems = []string{"ubuntu", "debian", "alpine", "fedora", "centos", "rockylinux", "almalinux",
	"amazonlinux", "archlinux", "opensuse", "busybox", "buildpack-deps"}

// runsNothing reports whether a compose service runs nothing but what an image of a system or of a
// language runs by itself, where nobody types: that ends at once.
func (s *homes) runsNothing(svc *stack.Service) bool {
	if svc.Source != stack.FromCompose || svc.Build == "" || svc.Container == nil ||
		svc.Container.TTY || len(svc.Command) > 0 || len(demand.ContainerEntry(svc)) > 0 ||
		len(svc.Ports) > 0 {
		return false
	}
	img, _ := s.DockerfileOf(svc)
	return img != nil && endsAtOnce(img)
}

// endsAtOnce reports whether nothing says what the image runs, and what it is made on runs a shell:
// it is there for others to be made on.
func endsAtOnce(img *dockerfile.Image) bool {
	name := protocol.ImageName(img.Base)
	return len(img.Command) == 0 && len(img.Exposes) == 0 &&
		(slices.Contains(systems, name) || ecosystem.IsToolImage(name))
}
