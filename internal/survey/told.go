package survey

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// composeSet are compose files that belong together.
type composeSet struct {
	dir   string   // that they are read from
	files []string // below it; nil for those that the folder has by its own
	at    stack.Place
}

// otherGoals are names of compose files for something else than work on the application.
var otherGoals = expr.New(`(?i)(^|[-_.])(prod(uction)?|staging|deploy(ment)?|tests?|testing|e2e|ci|sonar\w*|` +
	`monitoring|observability|legacy|old)([-_.]|$)`)

// chosen tells which compose files of a checkout are meant. Those that a README starts count before those that only lie
// there; of several the ones with more servers, and then the ones that it starts first. COMPOSE_FILE goes before all.
func (s *surveyor) chosen(top string) (composeSet, bool) {
	own := composeSet{dir: top}
	has := len(compose.Find(s.fsys, top, s.env(top))) > 0
	if named, ok := s.env(top)("COMPOSE_FILE"); ok && named != "" {
		return own, has
	}
	sets := s.told(top)
	if !slices.ContainsFunc(sets, func(c composeSet) bool { return c.files != nil }) {
		return own, has
	}
	if has && !slices.ContainsFunc(sets, func(c composeSet) bool { return c.files == nil && c.dir == top }) {
		sets = append(sets, own)
	}
	best, most := -1, -1
	for i, c := range sets {
		if servers := s.servers(c); servers > most {
			best, most = i, servers
		}
	}
	return sets[best], true
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
			c := composeSet{dir: cwd, at: d.at}
			for i, file := range composeFiles(part.Words) {
				file = path.Join(cwd, file)
				if i == 0 {
					c.dir = path.Dir(file)
				}
				c.files = append(c.files, path.Base(file))
				if path.Dir(file) != c.dir || !s.isFile(file) {
					c.dir = ""
					break
				}
			}
			if c.files == nil && len(compose.Find(s.fsys, cwd, s.env(cwd))) == 0 || c.dir == "" ||
				aside.MatchString(c.dir) || ofDevContainer(path.Join(c.dir, "x")) {
				continue
			}
			if own := compose.Find(s.fsys, c.dir, s.env(c.dir)); len(c.files) == 1 && len(own) == 1 &&
				own[0] == path.Join(c.dir, c.files[0]) {
				c.files = nil
			}
			if !slices.ContainsFunc(out, func(o composeSet) bool {
				return o.dir == c.dir && slices.Equal(o.files, c.files)
			}) {
				out = append(out, c)
			}
		}
	}
	return out
}

func (s *surveyor) isFile(name string) bool {
	info, err := fs.Stat(s.fsys, name)
	return err == nil && info.Mode().IsRegular()
}

// servers counts the services of a set whose images are known servers; 0 for a set with another goal.
func (s *surveyor) servers(c composeSet) int {
	if slices.ContainsFunc(c.files, otherGoals.MatchString) {
		return 0
	}
	p, _ := compose.Load(s.fsys, c.dir, compose.Options{Env: s.envOf(c)})
	if p == nil {
		return 0
	}
	n := 0
	for i := range p.Services {
		if v := &p.Services[i]; v.Active && protocol.OfImage(v.Image) != nil {
			n++
		}
	}
	return n
}

// envOf is where the variables of a set come from.
func (s *surveyor) envOf(c composeSet) dotenv.Lookup {
	env := s.env(c.dir)
	if c.files == nil {
		return env
	}
	return func(name string) (string, bool) {
		switch name {
		case "COMPOSE_FILE":
			return strings.Join(c.files, ":"), true
		case "COMPOSE_PATH_SEPARATOR":
			return ":", true
		}
		return env(name)
	}
}

// say names the README that has decided.
func (s *surveyor) say(c composeSet) {
	if c.files != nil {
		s.remark(stack.Note, stack.CodeComposeTold, c.at,
			fmt.Sprintf("the README starts %s, and so does a launch", strings.Join(c.files, " with ")),
			fmt.Sprintf("For another one, name it in COMPOSE_FILE, in the shell or in %s.", path.Join(c.dir, ".env")))
	}
}
