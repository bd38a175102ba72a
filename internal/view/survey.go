package view

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
)

// large is how many services and projects there are where a survey shows what matters first, and
// the rest only when it is asked for.
const large = 20

// The most rows of a large application's tables.
const (
	someServices, someProjects, someSettings, someDemands, someRemarks = 40, 12, 10, 8, 12
)

// surveyed is a survey on its way to a screen.
type surveyed struct {
	*Text
	s     *stack.Stack
	brief bool
	all   bool
	left  int // rows that were left out
}

// Survey shows what a workspace consists of. Of a large one it shows what matters first, and says
// how much it leaves out, unless all is asked for.
func (t *Text) Survey(s *stack.Stack, all bool) {
	v := &surveyed{Text: t, s: s, all: all, brief: !all && len(s.Services)+len(s.Projects) > large}
	v.checkouts()
	if v.brief {
		v.count()
		v.troubles()
	}
	parts := []func(){v.projects, v.composeFiles, v.services, v.waits, v.settings}
	if v.brief {
		parts = []func(){v.services, v.projects, v.composeFiles, v.waits, v.settings}
	}
	for _, show := range parts {
		show()
	}
	v.unplaced()
	v.readme(s.Readme)
	if len(s.SignIns) > 0 {
		t.Blank()
		t.Title("Sign-ins that the files mention")
		var rows [][]string
		for _, i := range s.SignIns {
			rows = append(rows, []string{i.User, i.Password, Where(i.At)})
		}
		t.table(2, rows)
	}
	if !v.brief {
		t.Remarks(s.Remarks)
	}
	t.Blank()
	if v.left > 0 {
		t.Line("%s left out here. All of it: nharbor survey --all",
			Count(v.left, "row is", "rows are"))
	}
}

// some are the first of the rows of a large application, and a line that tells of the others.
func (v *surveyed) some(rows [][]string, most int, others string) {
	if !v.brief || len(rows) <= most {
		v.table(2, rows)
		return
	}
	v.table(2, rows[:most])
	v.left += len(rows) - most
	v.Line("  and %d more%s", len(rows)-most, others)
}

func (v *surveyed) checkouts() {
	v.Line("Workspace %s", v.s.Root)
	for _, c := range v.s.Checkouts {
		at := c.Branch
		if at == "" {
			at = "detached"
		}
		if c.Tag != "" {
			at += ", tag " + c.Tag
		}
		if len(c.Commit) >= 8 {
			at += ", commit " + c.Commit[:8]
		}
		name := c.Path
		if name == "." {
			name = "this folder"
		}
		v.Line("  checkout %s: %s", name, at)
	}
}

// count tells how much there is.
func (v *surveyed) count() {
	containers, levels := 0, map[stack.Level]int{}
	for _, s := range v.s.Services {
		if s.Runs == stack.Container {
			containers++
		}
	}
	for _, r := range v.s.Remarks {
		levels[r.Level]++
	}
	v.Line("%s (%d in containers), %s, %s, %s.", Count(len(v.s.Services), "service", "services"),
		containers, Count(len(v.s.Projects), "project", "projects"), Count(len(v.s.ComposeFiles),
			"compose file", "compose files"),
		Count(len(v.s.EnvFiles), "settings file", "settings files"))
	var noticed []string
	for _, l := range []stack.Level{stack.Problem, stack.Warning, stack.Note} {
		if n := levels[l]; n > 0 {
			noticed = append(noticed, Count(n, string(l), string(l)+"s"))
		}
	}
	if len(noticed) > 0 {
		v.Line("Noticed: %s.", strings.Join(noticed, ", "))
	}
}

// troubles are the remarks that should not be passed over.
func (v *surveyed) troubles() {
	heavy := slices.DeleteFunc(ByWeight(v.s.Remarks),
		func(r stack.Remark) bool { return r.Level == stack.Note })
	v.left += len(v.s.Remarks) - len(heavy)
	if more := len(heavy) - someRemarks; more > 0 {
		v.left += more
		heavy = heavy[:someRemarks]
	}
	v.Remarks(heavy)
}

func (v *surveyed) projects() {
	if len(v.s.Projects) == 0 {
		return
	}
	serves := func(p *stack.Project) bool {
		return slices.ContainsFunc(v.s.Services,
			func(s stack.Service) bool { return s.Project == p.Path })
	}
	list := slices.Clone(v.s.Projects)
	if v.brief { // those that run first
		slices.SortStableFunc(list, func(a, b stack.Project) int {
			return map[bool]int{true: 0, false: 1}[serves(&a)] - map[bool]int{true: 0,
				false: 1}[serves(&b)]
		})
	}
	v.Blank()
	v.Title("Projects")
	var rows [][]string
	for _, p := range list {
		what := []string{p.Manager}
		if p.Framework != "" {
			what = append(what, p.Framework)
		}
		for _, r := range p.Runtimes {
			if asked := r.Tool + " " + r.Constraint; r.Constraint != "*" && !r.Hint &&
				!slices.Contains(what, asked) {
				what = append(what, asked)
			}
		}
		if len(p.Members) > 0 {
			what = append(what, Count(len(p.Members), "member", "members"))
		}
		var steps []string
		for _, st := range p.Steps {
			if role := string(st.Role); !slices.Contains(steps, role) {
				steps = append(steps, role)
			}
		}
		evidence := ""
		if len(p.Evidence) > 0 {
			evidence = p.Evidence[len(p.Evidence)-1].File
		}
		rows = append(rows, []string{p.Path, strings.Join(what, ", "), strings.Join(steps, " "),
			evidence})
	}
	v.some(rows, someProjects, "")
}

func (v *surveyed) composeFiles() {
	if len(v.s.ComposeFiles) == 0 {
		return
	}
	v.Blank()
	v.Title("Compose files")
	var rows [][]string
	list := slices.Clone(v.s.ComposeFiles)
	if v.brief {
		slices.SortStableFunc(list, func(a, b stack.ComposeFile) int {
			return map[bool]int{true: 0, false: 1}[a.Active] - map[bool]int{true: 0,
				false: 1}[b.Active]
		})
	}
	for _, f := range list {
		state := "active"
		if !f.Active {
			state = "not part of the launch"
		}
		rows = append(rows, []string{f.Path, state})
	}
	v.some(rows, someSettings, "")
}

func (v *surveyed) services() {
	if len(v.s.Services) == 0 {
		return
	}
	v.Blank()
	v.Title("Services")
	var rows [][]string
	for _, s := range v.s.Services {
		runs := "native"
		if s.Runs == stack.Container {
			runs = "container"
		}
		if s.Kind == stack.Once {
			runs += ", once"
		}
		rows = append(rows, []string{s.Name, runs, Ports(s.Ports), What(s), Where(s.At)})
	}
	v.some(rows, someServices, "")
}

func (v *surveyed) waits() {
	var edges [][]string
	for _, s := range v.s.Services {
		for _, a := range s.After {
			reason := a.Reason
			if a.Because == stack.Declared {
				reason += ", " + Where(a.At)
			}
			edges = append(edges, []string{s.Name, "after " + a.Service, reason})
		}
	}
	if len(edges) == 0 {
		return
	}
	v.Blank()
	v.Title("What waits for what")
	if v.brief && len(edges) > someSettings {
		v.left += len(edges)
		v.Line("  %s between them, each with its reason: nharbor order, or drawn: nharbor order "+
			"--draw order.svg", Count(len(edges), "edge", "edges"))
		return
	}
	v.table(2, edges)
}

func (v *surveyed) settings() {
	if len(v.s.EnvFiles) == 0 {
		return
	}
	v.Blank()
	v.Title("Settings files")
	list := slices.Clone(v.s.EnvFiles)
	if v.brief { // those with work to do first
		slices.SortStableFunc(list, func(a, b stack.EnvFile) int { return b.Unfilled - a.Unfilled })
	}
	var rows [][]string
	for _, f := range list {
		state := "there"
		if !f.Present {
			state = "to be made from " + f.Template
			if f.Template == "" {
				state = "to be made: " + Where(f.WantedAt) + " asks for what is in it"
			}
		}
		open := Count(f.Settings, "setting", "settings")
		if f.Format == settings.Other {
			open = "copied as it is"
		} else if f.Unfilled > 0 {
			open += fmt.Sprintf(", %d without a value yet", f.Unfilled)
		}
		rows = append(rows, []string{f.Path, open, state})
	}
	v.some(rows, someSettings, "")
}

// unplaced shows what files say and nothing here takes up.
func (v *surveyed) unplaced() {
	if len(v.s.Unplaced) == 0 {
		return
	}
	v.Blank()
	v.Title("Said, and nothing here takes it up")
	var rows [][]string
	for _, u := range v.s.Unplaced {
		rows = append(rows, []string{u.What + " " + u.Value, Where(u.At)})
	}
	v.some(rows, someSettings, "")
}

// readme shows what the README asks for: what nothing covers first and in full, the rest by what
// covers it.
func (v *surveyed) readme(demands []stack.ReadmeDemand) {
	if len(demands) == 0 {
		return
	}
	v.Blank()
	v.Title("What the README asks for")
	var open, aside, done [][]string
	for _, d := range demands {
		row := []string{Where(d.At), d.Command, d.Why}
		switch {
		case d.Covered:
			done = append(done, []string{row[0], row[1], "by " + d.By.Title()})
		case d.Aside:
			aside = append(aside, row)
		default:
			open = append(open, row)
		}
	}
	if len(open) > 0 {
		v.Line("  Not done by a launch; look whether you need it:")
		if more := len(open) - someDemands; v.brief && more > 0 {
			v.left += more
			v.table(4, open[:someDemands])
			v.Line("    and %d more", more)
		} else {
			v.table(4, open)
		}
	}
	switch {
	case len(aside) == 0:
	case !v.all:
		v.left += len(aside)
		v.Line("  For other work than getting it running: %s.",
			Count(len(aside), "command", "commands"))
	default:
		v.Line("  For other work than getting it running:")
		v.table(4, aside)
	}
	switch {
	case len(done) > 0 && v.brief && len(done) > someDemands:
		v.left += len(done)
		v.Line("  Done for you: %s.", Count(len(done), "command", "commands"))
	case len(done) > 0:
		v.Line("  Done for you:")
		v.table(4, done)
	}
}
