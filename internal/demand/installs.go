package demand

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// widening are the options by which an install is told to bring more than by itself, and whether a
// value follows.
var widening = map[string]bool{
	"--all-extras": false,
	"--all-groups": false,
	"--extra":      true,
	"--extras":     true,
	"-E":           true,
	"--group":      true,
	"--with":       true,
}

// wider lists the words by which an install command brings more than by itself: options, and a
// package's own extras, written as .[NAME].
func wider(words []string) (options [][]string, extras string) {
	for i := 0; i < len(words); i++ {
		option, _, joined := strings.Cut(words[i], "=")
		takes, known := widening[option]
		switch {
		case strings.HasPrefix(words[i], ".[") && strings.HasSuffix(words[i], "]"):
			extras = words[i]
		case known && takes && !joined && i+1 < len(words):
			options = append(options, words[i:i+2])
			i++
		case known:
			options = append(options, words[i:i+1])
		}
	}
	return options, extras
}

// Installs widens installs as the READMEs ask for: by what the first install command of a project
// says beyond the plain one.
func (d *Coverage) Installs() {
	first := map[*stack.Step]bool{}
	for _, asked := range d.Demands {
		if !slices.Contains(d.Instructions, asked.At.File) || d.BesideWork(asked.At) {
			continue
		}
		for _, part := range asked.Parts {
			role, of := ecosystem.Meaning(part.Words)
			if role != stack.Install {
				continue
			}
			c := &Call{Words: part.Words, Text: part.Text, Cwd: path.Join(asked.Cwd, part.Folder),
				role: role, Of: of}
			st := d.installs().installOf(c)
			if st == nil || first[st] || d.otherManager(c) {
				continue
			}
			first[st] = true
			widen(st, part)
		}
	}
}

// widen adds to an install what a command says beyond it.
func widen(st *stack.Step, part shell.Command) {
	options, extras := wider(part.Words)
	last := len(st.Command) - 1
	if st.Command[0] == "sh" {
		if before, ok := strings.CutSuffix(st.Command[last], " -e ."); ok && extras != "" {
			st.Command = append(slices.Clone(st.Command[:last]), before+" -e '"+extras+"'")
		}
		return
	}
	for _, o := range options {
		if !slices.Contains(st.Command, o[0]) || len(o) > 1 && !slices.Contains(st.Command, o[1]) {
			st.Command = append(slices.Clone(st.Command), o...)
		}
	}
}

// installs compares installs of READMEs with those of the projects.
type installs struct{ *Coverage }

func (d *Coverage) installs() installs { return installs{d} }

// installOf is the install step of the project of a command's folder; nil if there is none.
func (d installs) installOf(c *Call) *stack.Step {
	for i := range d.Stack.Projects {
		p := &d.Stack.Projects[i]
		if p.Path != c.Cwd && !slices.Contains(p.Members, c.Cwd) || c.Of != nil &&
			p.Ecosystem != c.Of.Name {
			continue
		}
		for k := range p.Steps {
			if p.Steps[k].Role == stack.Install {
				return &p.Steps[k]
			}
		}
	}
	return nil
}

// installsMore reports whether an install command brings what the project's own install doesn't:
// packages that the manifest doesn't name, another list of them, or more groups of them.
func (d installs) installsMore(c *Call) bool {
	usual := ecosystem.Canonical(c.Words)
	if c.role != stack.Install || len(usual) < 2 {
		return false
	}
	if slices.ContainsFunc(usual, path.IsAbs) {
		return true // into a folder of the machine
	}
	var does string
	if st := d.installOf(c); st != nil {
		does = strings.Join(st.Command, " ")
	}
	options, extras := wider(usual)
	if slices.ContainsFunc(options,
		func(o []string) bool { return !strings.Contains(does, strings.Join(o, " ")) }) {
		return true
	}
	switch {
	case extras != "" && !strings.Contains(does, extras):
		return true
	case usual[1] == "mod", usual[1] == "env":
		return false
	}
	for i, w := range usual[2:] {
		before := usual[1+i]
		if before == "--without" {
			return false // what follows is left out
		}
		if d.namesMore(c, w, before, does) {
			return true
		}
	}
	return false
}

// itself reports whether an install brings the very project, as its makers publish it. A launch
// installs the checkout in its place, but not what an extra of it brings.
func (d installs) itself(c *Call) bool {
	last := c.Words[len(c.Words)-1]
	return slices.ContainsFunc(d.Stack.Projects, func(p stack.Project) bool {
		return p.Path == c.Cwd && p.Ecosystem == c.Of.Name && p.Name == last
	})
}

// namesMore reports whether a word of an install, behind another, names packages that the project's
// own install doesn't bring: a list of them, or one that it doesn't ask for.
func (d installs) namesMore(c *Call, w, before, does string) bool {
	if before == "-r" || before == "--requirement" || before == "--requirements" {
		if !d.Exists(path.Join(c.Cwd, w)) {
			return true // nobody can do that
		}
	}
	if d.Exists(path.Join(c.Cwd, w)) {
		return path.Ext(w) == ".txt" && does != "" && !strings.Contains(does, w) && d.usesInstall(c)
	}
	if strings.HasPrefix(w, "-") || strings.HasPrefix(w, ".") || w == "&&" {
		return false
	}
	ofOption := strings.HasPrefix(before, "-") && !packageFollows[before] &&
		!strings.Contains(before, "=")
	return !ofOption && !d.asksFor(c, w)
}

// packageFollows are options without a value, behind which a package may stand.
var packageFollows = map[string]bool{
	"-U":                 true,
	"--upgrade":          true,
	"-D":                 true,
	"--save":             true,
	"--save-dev":         true,
	"-q":                 true,
	"-S":                 true,
	"-g":                 true,
	"-u":                 true,
	"-v":                 true,
	"-t":                 true,
	"-y":                 true,
	"--user":             true,
	"--no-cache-dir":     true,
	"--legacy-peer-deps": true,
	"--force":            true,
	"-e":                 true,
}

// usesInstall reports whether the command's folder is installed by a step of a launch.
func (d installs) usesInstall(c *Call) bool {
	return slices.ContainsFunc(d.Stack.Projects, func(p stack.Project) bool {
		return (p.Path == c.Cwd || slices.Contains(p.Members, c.Cwd)) && d.UsesSteps(&p)
	})
}

// asksFor reports whether a project of the command's ecosystem asks for the package that a word of
// an install names.
func (d installs) asksFor(c *Call, word string) bool {
	name := strings.ToLower(word)
	if at := strings.LastIndexByte(name, '@'); at > 0 {
		name = name[:at]
	}
	if at := strings.IndexAny(name, "=<>~[!"); at > 0 {
		name = name[:at]
	}
	return slices.ContainsFunc(d.Stack.Projects, func(p stack.Project) bool {
		return (c.Of == nil || p.Ecosystem == c.Of.Name) && slices.ContainsFunc(p.Parts,
			func(part stack.Part) bool {
				for used := range part.Uses {
					if strings.ToLower(used) == name ||
						strings.ReplaceAll(strings.ToLower(used), "_", "-") == name {
						return true
					}
				}
				return false
			})
	})
}
