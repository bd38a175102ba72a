// Package facts holds what is known of a workspace while it is surveyed: what the readers have
// read, each thing once, and what has been concluded by then (Stack). The rooms in which something
// is concluded ask it, and add to it; it concludes nothing itself.
package facts

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/code"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// Facts are those of one workspace. They belong to one goroutine.
type Facts struct {
	Files *reading.Files
	Root  string        // the workspace's absolute path
	Env   dotenv.Lookup // the shell's variables
	Tree  *tree.Tree    // nil before the walk
	// Stack is what has been concluded.
	Stack    *stack.Stack
	Commands *command.Resolver
	// Instructions are the READMEs, and files like them, that Demands are from; Documents what they
	// hold.
	Instructions []string
	Documents    map[string]*readme.Document
	Demands      []Demand
	Code         *code.Found // nil as long as the code has not been read
	Mentions     code.Mentions
	// Faults are what could not be read.
	Faults stack.Faults
	// Portless is what is to be said of a service as long as no port of it is found.
	Portless map[string]stack.Remark
	// OtherWays are, by service, ways to run it that somebody tells and that don't count.
	OtherWays map[string][]claim.Claim[string]
}

// Demand is a command that instructions, or a dev container's definition, ask for.
type Demand struct {
	At      stack.Place
	Command string
	Cwd     string // the folder that it is meant for
	Parts   []shell.Command
}

// offSections are heads of sections about something else than work on this machine.
var offSections = expr.New(
	`(?i)\b(production|deploy\w*|hosting|vps|systemd|docker|containers?|kubernetes|tests?|` +
		`testing|lint\w*|publish\w*|releas\w*|upgrad\w*|updat\w*|benchmark\w*|contribut\w*|` +
		`debug\w*|troubleshoot\w*|faq|uninstall\w*|clean\w*|api|architecture|structure|examples?|` +
		`optional\w*|alternative\w*)\b`)

// Exists reports whether there is a regular file of that path.
func (f *Facts) Exists(file string) bool {
	info, err := fs.Stat(f.Files, file)
	return err == nil && info.Mode().IsRegular()
}

// Lookup is where the variables of a compose file in dir come from: the shell, and the .env beside
// it or, as long as there is none, the template that one will be made from.
func (f *Facts) Lookup(dir string) dotenv.Lookup {
	beside, _ := f.VariablesOf(dir)
	return func(name string) (string, bool) {
		if v, ok := f.Env(name); ok {
			return v, true
		}
		v, ok := beside[name]
		return v, ok
	}
}

// VariablesOf is what the .env file beside a compose file says or, as long as there is none, its
// template, and which.
func (f *Facts) VariablesOf(dir string) (values map[string]string, file string) {
	for _, e := range f.Stack.EnvFiles {
		if e.Path != path.Join(dir, ".env") {
			continue
		}
		if file = e.Path; !e.Present {
			file = e.Template
		}
		if file != "" {
			values, _ = f.Values(file)
		}
	}
	return values, file
}

// Values are what an env file gives, and the file; both nil where it can't be read.
func (f *Facts) Values(file string) (map[string]string, *dotenv.File) {
	read, err := dotenv.Read(f.Files, file)
	if err != nil {
		return nil, nil
	}
	v, err := read.Values(f.Env)
	if err != nil {
		return nil, read
	}
	return v, read
}

// ReadmeOf is what the instructions in a file hold; of any other file, which has none, its lines.
func (f *Facts) ReadmeOf(file string) *readme.Document {
	if d := f.Documents[file]; d != nil {
		return d
	}
	d := &readme.Document{File: file}
	if data, err := f.Files.ReadFile(file); err == nil && len(data) <= readme.MaxSize {
		d.Lines = strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	}
	f.Documents[file] = d
	return d
}

// Document is what instructions hold; each is read once.
func (f *Facts) Document(file string, data []byte, own []string) *readme.Document {
	if f.Documents[file] == nil {
		f.Documents[file] = readme.Read(file, data, own...)
	}
	return f.Documents[file]
}

// ProjectAt is the project of a folder, or that whose member it is. Where several lie in it, the
// first counts of those that the command is of, that have a framework, that serve; nil if there is
// none.
func (f *Facts) ProjectAt(dir string, command []string) (best *stack.Project) {
	of := ecosystem.Of(command)
	rank := func(p *stack.Project) (n int) {
		if of != nil && p.Ecosystem == of.Name {
			n += 4
		}
		if p.Framework != "" {
			n += 2
		}
		if p.Serve != nil {
			n++
		}
		return n
	}
	for i := range f.Stack.Projects {
		p := &f.Stack.Projects[i]
		if (p.Path == dir || slices.Contains(p.Members, dir)) &&
			(best == nil || rank(p) > rank(best)) {
			best = p
		}
	}
	return best
}

// IsCheckout reports whether a folder is the top of one.
func (f *Facts) IsCheckout(dir string) bool {
	return slices.ContainsFunc(f.Stack.Checkouts,
		func(c stack.Checkout) bool { return c.Path == dir })
}

// DockerfileOf reads the Dockerfile that a service is built from; nil if it can't be had.
func (f *Facts) DockerfileOf(svc *stack.Service) (*dockerfile.Image, string) {
	if svc.Build == "" || svc.Container == nil || strings.Contains(svc.Build, "://") {
		return nil, ""
	}
	if svc.Container.Inline != "" {
		return dockerfile.Read([]byte(svc.Container.Inline), svc.Container.Target), ""
	}
	file := path.Join(svc.Build, svc.Container.Dockerfile)
	if !f.Exists(file) {
		return nil, file
	}
	data, err := fs.ReadFile(f.Files, file)
	if err != nil || len(data) > dockerfile.MaxSize {
		return nil, file
	}
	return dockerfile.Read(data, svc.Container.Target), file
}

// HasScript reports whether a folder has a script of that name.
func (f *Facts) HasScript(name, cwd string) bool {
	return slices.ContainsFunc(f.Stack.Projects, func(p stack.Project) bool {
		return slices.ContainsFunc(p.Parts, func(part stack.Part) bool {
			return part.Folder == cwd && len(part.Scripts[name]) > 0
		})
	})
}

// Remark notes something, with its place and what to do about it.
func (f *Facts) Remark(level stack.Level, code stack.Code, at stack.Place, text, remedy string) {
	f.RemarkOn("", level, code, at, text, remedy)
}

// RemarkOn is a remark that has a subject.
func (f *Facts) RemarkOn(about stack.Subject, level stack.Level, code stack.Code, at stack.Place,
	text, remedy string) {
	f.Stack.Remarks = append(f.Stack.Remarks, stack.Remark{Level: level, Code: code, Text: text,
		At: at, Remedy: remedy, About: about})
}

// Tops are the folders in which the workspace's main compose file may lie: its root and its
// checkouts.
func (f *Facts) Tops() []string {
	tops := []string{"."}
	for _, c := range f.Stack.Checkouts {
		if c.Path != "." {
			tops = append(tops, c.Path)
		}
	}
	return tops
}

// UsesSteps reports whether a native service takes the project's steps along.
func (f *Facts) UsesSteps(p *stack.Project) bool {
	return slices.ContainsFunc(f.Stack.Services, func(v stack.Service) bool {
		return v.Runs == stack.Native && v.Project == p.Path && v.Manager == p.Manager ||
			slices.ContainsFunc(p.Steps,
				func(st stack.Step) bool { return slices.Contains(v.AfterSteps, st.ID) })
	})
}

// BesideWork reports whether a place of instructions is in a section about something else than work
// on this machine, or in a guide for setting a server up.
func (f *Facts) BesideWork(at stack.Place) bool {
	text := f.ReadmeOf(at.File)
	head := withoutThem.ReplaceAllString(text.At(at.Line).Head, "")
	return offSections.MatchString(head) || text.SetsServerUp()
}

// withoutThem is how a head says that its section does without containers.
var withoutThem = expr.New(`(?i)\b(without|no)\s+(docker|containers?|kubernetes)\b`)

// Words names a folder in a sentence.
func Words(dir string) string {
	if dir == "." {
		return "this folder"
	}
	return dir
}

// Dockerfile is the name of the one that a service is built from; empty for none.
func Dockerfile(v *stack.Service) string {
	if v.Container == nil {
		return ""
	}
	return v.Container.Dockerfile
}

// Speaks reports whether a service is a server of the protocol, by its image.
func Speaks(s *stack.Service, p *protocol.Protocol) bool { return protocol.OfImage(s.Image) == p }

// IsServer reports whether a service runs the image of a server as it comes.
func IsServer(svc *stack.Service) bool {
	return svc.Build == "" && protocol.OfImage(svc.Image) != nil
}

// SeveralAt reports whether several projects lie in a folder.
func (f *Facts) SeveralAt(dir string) bool {
	n := 0
	for _, p := range f.Stack.Projects {
		if p.Path == dir {
			n++
		}
	}
	return n > 1
}
