package survey

import (
	"path"
)

// reads adds the environment variables that the code reads to what is known.
func (s *surveyor) reads() {
	if s.code == nil {
		return
	}
	s.homes = map[string]bool{}
	for i := range s.stack.Projects {
		for _, dir := range append([]string{s.stack.Projects[i].Path}, s.stack.Projects[i].Members...) {
			s.homes[dir] = true
		}
	}
	at := map[[2]string]int{}
	s.read = s.code.Done()
	for _, f := range s.read.Files {
		project := s.projectOf(f.Dir)
		for _, r := range f.Reads {
			r.Project = project
			if i, seen := at[[2]string{r.Project, r.Name}]; seen {
				known := &s.stack.Reads[i]
				known.Default, known.Must = known.Default || r.Default, known.Must || r.Must
				continue
			}
			at[[2]string{r.Project, r.Name}] = len(s.stack.Reads)
			s.stack.Reads = append(s.stack.Reads, r)
		}
	}
	given := map[[2]string]bool{}
	for _, g := range s.read.Gives {
		given[[2]string{s.projectOf(g.Dir), g.Name}] = true
	}
	for i := range s.stack.Reads { // of what the project's own code sets somewhere, it insists on nothing
		if r := &s.stack.Reads[i]; given[[2]string{r.Project, r.Name}] {
			r.Default, r.Must = true, false
		}
	}
	s.missingNames()
}

// projectOf is the innermost project that a folder lies in.
func (s *surveyor) projectOf(dir string) string {
	for ; dir != "."; dir = path.Dir(dir) {
		if s.homes[dir] {
			return dir
		}
	}
	return "."
}
