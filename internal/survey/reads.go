package survey

import (
	"path"
)

// reads adds the environment variables that the code reads to what is known.
func (s *settingsFiles) reads() {
	if s.reader == nil {
		return
	}
	s.homes = map[string]bool{}
	for i := range s.Stack.Projects {
		for _, dir := range append([]string{s.Stack.Projects[i].Path},
			s.Stack.Projects[i].Members...) {
			s.homes[dir] = true
		}
	}
	at := map[[2]string]int{}
	s.Code = s.reader.Done()
	for _, f := range s.Code.Files {
		project, aside := s.projectOf(f.Dir), s.unchosen(f)
		for _, r := range f.Reads {
			r.Project = project
			if aside {
				r.Default, r.Must = true, false
			}
			if i, seen := at[[2]string{r.Project, r.Name}]; seen {
				known := &s.Stack.Reads[i]
				known.Default, known.Must = known.Default || r.Default, known.Must || r.Must
				continue
			}
			at[[2]string{r.Project, r.Name}] = len(s.Stack.Reads)
			s.Stack.Reads = append(s.Stack.Reads, r)
		}
	}
	given := map[[2]string]bool{}
	for _, g := range s.Code.Gives {
		given[[2]string{s.projectOf(g.Dir), g.Name}] = true
	}
	// of what the project's own code sets somewhere, it insists on nothing
	for i := range s.Stack.Reads {
		if r := &s.Stack.Reads[i]; given[[2]string{r.Project, r.Name}] {
			r.Default, r.Must = true, false
		}
	}
	s.missingNames()
}

// projectOf is the innermost project that a folder lies in.
func (s *settingsFiles) projectOf(dir string) string {
	for ; dir != "."; dir = path.Dir(dir) {
		if s.homes[dir] {
			return dir
		}
	}
	return "."
}
