package survey

import (
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/command"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/signin"
	"nimbleharbor/internal/stack"
)

// maxSignIns and maxSeeds bound how many are shown, and how many files of sample data are read for
// them.
const (
	maxSignIns = 20
	maxSeeds   = 100
)

// signingIn finds whom one can sign in as.
type signingIn struct{ *surveyor }

func (s *surveyor) signingIn() signingIn { return signingIn{s} }

// signIns collects the users that sample data creates: from READMEs, seeds and compose files, never
// from settings files.
func (s signingIn) signIns() {
	s.Stack.SignIns = []stack.SignIn{}
	for _, file := range s.Instructions {
		s.toldSignIns(file, s.signIn)
	}
	seeds := slices.DeleteFunc(slices.Clone(s.Tree.Seeds), ofTests.MatchString)
	for _, file := range seeds[:min(len(seeds), maxSeeds)] {
		s.seeded(file, s.signIn)
	}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		for _, line := range v.Expands {
			for _, c := range shell.Parse(line) {
				s.setInFront(c, v.At)
			}
		}
		s.setFor(v)
	}
}

// signIn keeps a user with a password, if they are such and the user is not known yet.
func (s signingIn) signIn(user, password string, at stack.Place) {
	user, password = strings.TrimRight(user, ".,"), strings.TrimRight(password, ".,")
	isPassword := signin.IsValue(password) || password == "" ||
		strings.EqualFold(password, "password")
	known := slices.ContainsFunc(s.Stack.SignIns,
		func(i stack.SignIn) bool { return i.User == user })
	if len(s.Stack.SignIns) < maxSignIns && signin.IsValue(user) && isPassword && !known {
		s.Stack.SignIns = append(s.Stack.SignIns,
			stack.SignIn{User: user, Password: password, At: at})
	}
}

// setInFront finds a user and a password among the variables in front of a command.
func (s signingIn) setInFront(c shell.Command, at stack.Place) {
	setting := map[string]string{}
	for _, set := range c.Set {
		key, value, _ := strings.Cut(set, "=")
		setting[key] = value
	}
	for _, key := range slices.Sorted(maps.Keys(setting)) {
		m := adminKey.FindStringSubmatch(key)
		if m != nil && setting[m[1]+"PASSWORD"] != "" {
			s.signIn(setting[key], setting[m[1]+"PASSWORD"], at)
		}
	}
}

// setFor finds a user and a password among the variables that a compose file sets.
func (s signingIn) setFor(v *stack.Service) {
	for _, key := range slices.Sorted(maps.Keys(v.Env)) {
		m := adminKey.FindStringSubmatch(key)
		if m == nil || !v.Literal(key) || v.Env[key] == "" {
			continue
		}
		password := ""
		for _, name := range []string{"PASSWORD", "PASS", "PWD"} {
			if k := m[1] + name; v.Literal(k) {
				password = v.Env[k]
			}
		}
		if password != "" {
			s.signIn(v.Env[key], password, v.EnvAt[key])
		}
	}
}

// ofTests are files whose users exist for tests alone.
var ofTests = expr.New(`(?i)(^|/)(tests?|testing|pytest[\w-]*|__tests__|spec|e2e|cypress|playwright)/`)

var adminKey = expr.New(
	`^((?:.*_)?(?:ADMIN|ROOT|DEFAULT|INITIAL|SUPERUSER|INITDB_ROOT)_)(?:USER|USERNAME|EMAIL|LOGIN|NAME)$`)

// toldSignIns tells of those of instructions, but of a program that a launch doesn't start: those
// below a command which starts one, up to the next head.
func (s signingIn) toldSignIns(file string, add func(user, password string, at stack.Place)) {
	doc, others := s.ReadmeOf(file), s.startsOthers(file)
	for _, found := range doc.SignIns() {
		other := false
		for line := found.Line; line >= doc.At(found.Line).From; line-- {
			if is, told := others[line]; told {
				other = is
				break
			}
		}
		if !other {
			add(found.User, found.Password, stack.Place{File: file, Line: found.Line})
		}
	}
}

// seeded tells of the users that sample data makes.
func (s signingIn) seeded(file string, add func(user, password string, at stack.Place)) {
	data, err := s.Tree.At(path.Dir(file)).Read(path.Base(file))
	if err != nil || len(data) > readme.MaxSize {
		return
	}
	lines := strings.Split(string(data), "\n")
	found := signin.InCode(lines, ecosystem.OfCode(path.Ext(file)) != nil)
	if strings.EqualFold(path.Ext(file), ".csv") {
		found = signin.InTable(lines)
	}
	for _, f := range found {
		add(f.User, f.Password, stack.Place{File: file, Line: f.Line})
	}
}

// startsOthers tells, by the line, which of a README's commands start a program that a launch
// doesn't start, and which are done by a launch.
func (s *surveyor) startsOthers(file string) map[int]bool {
	out := map[int]bool{}
	for i, d := range s.Demands {
		if d.At.File != file {
			continue
		}
		if s.Stack.Readme[i].Covered {
			out[d.At.Line] = false
			continue
		}
		for _, part := range d.Parts {
			if s.startsOther(part, d.Cwd) {
				out[d.At.Line] = true
			}
		}
	}
	return out
}

// startsOther reports whether a command comes to starting containers that a launch doesn't start.
func (s *surveyor) startsOther(part shell.Command, cwd string) bool {
	return slices.ContainsFunc(s.Commands.Leaves(part, cwd), func(l command.Leaf) bool {
		c := &demand.Call{Words: l.Words, Text: l.Text, Cwd: l.Cwd}
		if verb, _ := command.ComposeCall(c.Words); verb == "up" || verb == "start" {
			return slices.ContainsFunc(s.cover.FilesMeant(c),
				func(file string) bool { return !s.IsActive(file) })
		}
		return demand.Program("docker", "podman")(c) && c.Word(1) == "run" &&
			s.cover.By(l.Command, l.Cwd, 0) == ""
	})
}
