package survey

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// maxDemands is how many commands of instructions are looked at.
const maxDemands = 300

// readmes collects what READMEs and dev containers ask for, in their order: those of the checkouts'
// tops first.
func (s *surveyor) readmes() {
	files := slices.Clone(s.Tree.Readmes)
	rank := func(file string) int {
		if readme.IsReadme(file) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(files, func(a, b string) int {
		if path.Dir(a) == path.Dir(b) {
			return rank(a) - rank(b)
		}
		return tree.ByDepth(a, b)
	})
	own := s.ownPrograms()
	led, said := s.ledTo(files, own), map[string]bool{}
	for _, file := range files {
		if !led[file] && !s.speaksOfIt(file) { // somebody says to read it, wherever it lies
			continue
		}
		data, err := s.Tree.At(path.Dir(file)).Read(path.Base(file))
		if err != nil || len(data) > readme.MaxSize ||
			strings.ContainsRune(string(data[:min(len(data), 4096)]), 0) {
			s.Remark(stack.Note, stack.CodeReadmeUnreadable, stack.Place{File: file},
				"the README is not looked at: it can't be read, is too big or is no text", "")
			continue
		}
		if said[string(data)] {
			continue // a copy, or a link, of one that lies higher
		}
		said[string(data)] = true
		s.Instructions = append(s.Instructions, file)
		for _, c := range s.Document(file, data, own).Commands {
			s.installed(&c, own)
			s.Demands = append(s.Demands,
				facts.Demand{At: stack.Place{File: file, Line: c.Line}, Command: c.Text,
					Cwd: c.Folder, Parts: c.Parts})
		}
	}
	for _, f := range s.Tree.Folders {
		s.devContainer(f.Path)
	}
	if _, isProject := s.Tree.ByPath["."]; isProject && !slices.ContainsFunc(s.Stack.Projects,
		func(p stack.Project) bool { return p.Path == "." }) {
		s.devContainer(".")
	}
	if len(s.Demands) > maxDemands {
		s.Demands = s.Demands[:maxDemands]
		s.Remark(stack.Note, stack.CodeReadmeLong, s.Demands[0].At,
			"only the first 300 commands of the READMEs are compared with the order", "")
	}
}

// installed lets a program that an install puts on the path be called by its name, where people call
// it as a file that isn't in the checkout.
func (s *surveyor) installed(c *readme.Command, own []string) {
	for i := range c.Parts {
		part := &c.Parts[i]
		if len(part.Words) == 0 {
			continue
		}
		name, local := strings.CutPrefix(part.Words[0], "./")
		if local && slices.Contains(own, name) &&
			!s.Exists(path.Join(c.Folder, part.Folder, name)) {
			part.Words = append([]string{name}, part.Words[1:]...)
		}
	}
}

// speaksOfIt reports whether instructions speak of what is launched, by where they lie: at a top,
// or as the README of a project or beside a compose file.
func (s *surveyor) speaksOfIt(file string) bool {
	dir := path.Dir(file)
	switch {
	case tree.Aside.MatchString(dir):
		return false
	case slices.Contains(s.Tops(), dir):
		return true
	case readme.IsReadme(file) && s.holdsAll(dir):
		return true
	}
	return readme.IsReadme(file) && (s.Stack.Project(dir, "") != nil || s.holdsComposeFile(dir))
}

// holdsAll reports whether all projects of the workspace lie below a folder, which is then what the
// top of others is.
func (s *surveyor) holdsAll(dir string) bool {
	return len(s.Stack.Projects) > 0 && !slices.ContainsFunc(s.Stack.Projects,
		func(p stack.Project) bool { return !strings.HasPrefix(p.Path, dir+"/") })
}

// ofTranslators are folders whose instructions are for those who translate.
var ofTranslators = expr.New(`(?i)(^|/)(translations?|locales?|i18n|l10n|languages?)(/|$)`)

// ledTo are the files among those with instructions that a README at a top names by their path and,
// where none at the top has a command, those in its folders of documents.
func (s *surveyor) ledTo(files, own []string) map[string]bool {
	out := map[string]bool{}
	for _, top := range s.Tops() {
		texts, told := s.textsAt(top, files, own)
		for _, file := range files {
			rel, below := strings.CutPrefix(file, strings.TrimPrefix(top+"/", "./"))
			if !below || !strings.Contains(rel, "/") ||
				readme.IsReadme(file) && (tree.Aside.MatchString(path.Dir(rel)) ||
					ofTranslators.MatchString(path.Dir(rel))) {
				continue
			}
			out[file] = out[file] || !told && readme.Documents.MatchString(path.Dir(rel)) ||
				slices.ContainsFunc(texts,
					func(text string) bool { return strings.Contains(text, rel) })
		}
	}
	return out
}

// textsAt are the texts of a top's READMEs among the files; told is true where instructions there
// have a command.
func (s *surveyor) textsAt(top string, files, own []string) (texts []string, told bool) {
	for _, file := range files {
		if path.Dir(file) != top {
			continue
		}
		data, err := s.Files.ReadFile(file)
		if err != nil || len(data) > readme.MaxSize {
			continue
		}
		told = told || len(s.Document(file, data, own).Commands) > 0
		if readme.IsReadme(file) {
			texts = append(texts, string(data))
		}
	}
	return texts, told
}

// holdsComposeFile reports whether a compose file lies in the folder itself.
func (s *surveyor) holdsComposeFile(dir string) bool {
	return slices.ContainsFunc(s.Tree.Compose,
		func(file string) bool { return path.Dir(file) == dir })
}

func (s *surveyor) devContainer(dir string) {
	folder := s.Tree.At(dir)
	d, err := folder.DevContainer()
	if err != nil {
		s.Faults = append(s.Faults, stack.AllFaults(err)...)
	}
	if d == nil {
		return
	}
	for _, c := range d.Commands {
		s.Demands = append(s.Demands, demandOf(d.At, strings.TrimSpace(c), dir))
	}
	says := "a dev container is defined here"
	if d.Image != "" {
		says += ", of " + d.Image
	}
	s.Remark(stack.Note, stack.CodeDevContainer, d.At,
		says+"; nharbor uses its commands and ports as hints only", "")
}

// ownPrograms are the programs that the projects bring.
func (s *surveyor) ownPrograms() (out []string) {
	for _, p := range s.Stack.Projects {
		for _, part := range p.Parts {
			out = append(out, part.Programs...)
		}
	}
	return out
}

func demandOf(at stack.Place, command, cwd string) facts.Demand {
	return facts.Demand{At: at, Command: command, Cwd: cwd, Parts: shell.Parse(command)}
}

// toldFor are the commands that READMEs have for a folder: its own, then those of the folders
// around it. This is asked before the projects are known, so that words which only the checkout
// itself brings begin no command yet.
func (s *surveyor) toldFor(dir string) (out []ecosystem.Told) {
	for at := dir; ; at = path.Dir(at) {
		for _, file := range s.Tree.Readmes {
			if path.Dir(file) != at || !readme.IsReadme(file) {
				continue
			}
			data, err := s.Tree.At(at).Read(path.Base(file))
			if err != nil || len(data) > readme.MaxSize {
				continue // which is told where all instructions are read
			}
			for _, c := range readme.Read(file, data).Commands {
				for _, part := range c.Parts {
					if path.Join(c.Folder, part.Folder) == dir {
						out = append(out, ecosystem.Told{Words: part.Words,
							At: stack.Place{File: file, Line: c.Line}})
					}
				}
			}
		}
		if at == "." {
			return out
		}
	}
}
