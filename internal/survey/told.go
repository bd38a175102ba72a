package survey

import (
	"io/fs"
	"path"
	"slices"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// composeSet are compose files that belong together.
type composeSet struct {
	dir   string      // that they are read from
	files []string    // nil for those that the folder has by its own
	at    stack.Place // where a README starts them
}

// otherGoals are names of compose files for something else than work on the application.
var otherGoals = expr.New(`(?i)(^|[-_.])(prod(uction)?|staging|deploy(ment)?|tests?|testing|e2e|ci|sonar\w*|` +
	`monitoring|observability|legacy|old)([-_.]|$)`)

// chosen tells which compose files of a checkout are meant. Those that a README starts count before those that only lie
// there; of several the ones with more servers, and then the ones that it starts first. COMPOSE_FILE goes before all.
func (s *surveyor) chosen(top string) (composeSet, bool) {
	own := composeSet{dir: top}
	has := s.hasCompose(top)
	sets := s.told(top)
	if named, _ := s.env(top)("COMPOSE_FILE"); named != "" || !slices.ContainsFunc(sets, composeSet.named) {
		return own, has
	}
	if has && !slices.ContainsFunc(sets, func(c composeSet) bool { return !c.named() && c.dir == top }) {
		sets = append(sets, own)
	}
	best, most := 0, -1
	for i, c := range sets {
		if servers := s.servers(c); servers > most {
			best, most = i, servers
		}
	}
	return sets[best], true
}

// named reports whether somebody has named the files.
func (c composeSet) named() bool { return c.files != nil }

func (s *surveyor) hasCompose(dir string) bool { return len(compose.Find(s.fsys, dir, s.env(dir))) > 0 }

func (s *surveyor) loadSet(c composeSet) (*compose.Project, error) {
	return compose.Load(s.fsys, c.dir, compose.Options{Env: s.env(c.dir), Files: c.files})
}

// told lists what the READMEs at the top of a checkout start, in their order. Those of its parts speak of a part alone.
func (s *surveyor) told(top string) []composeSet {
	var out []composeSet
	for _, d := range s.demands {
		if path.Dir(d.at.File) != top {
			continue
		}
		for _, part := range d.parts {
			if verb, _ := composeCall(part.Words); verb != "up" && verb != "start" {
				continue
			}
			cwd := path.Join(d.cwd, part.Folder)
			if !s.isFolder(cwd) {
				cwd = s.ownFolder(cwd)
			}
			c, ok := s.started(cwd, composeFiles(part.Words))
			if c.at = d.at; ok && !slices.ContainsFunc(out, func(o composeSet) bool {
				return o.dir == c.dir && slices.Equal(o.files, c.files)
			}) {
				out = append(out, c)
			}
		}
	}
	return out
}

// started is what a call in a folder starts that names these files, or none; ok is false if that isn't there, or is for
// another goal.
func (s *surveyor) started(cwd string, names []string) (c composeSet, ok bool) {
	c.dir = cwd
	for i, name := range names {
		file := path.Join(cwd, name)
		if i == 0 {
			c.dir = path.Dir(file)
		}
		if path.Dir(file) != c.dir || !s.isFile(file) || otherGoals.MatchString(path.Base(file)) {
			return c, false
		}
		c.files = append(c.files, file)
	}
	if slices.Equal(c.files, compose.Find(s.fsys, c.dir, s.env(c.dir))) {
		c.files = nil
	}
	return c, (c.named() || s.hasCompose(cwd)) && !aside.MatchString(c.dir) && !ofDevContainer(c.dir+"/")
}

func (s *surveyor) isFile(name string) bool {
	info, err := fs.Stat(s.fsys, name)
	return err == nil && info.Mode().IsRegular()
}

// servers counts the services of a set whose images are known servers.
func (s *surveyor) servers(c composeSet) (n int) {
	p, _ := s.loadSet(c)
	if p == nil {
		return 0
	}
	for i := range p.Services {
		if v := &p.Services[i]; v.Active && protocol.OfImage(v.Image) != nil {
			n++
		}
	}
	return n
}
