package survey

import (
	"slices"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// pass is one look at the workspace. It finds what the passes before it have left in the surveyor,
// and leaves its own conclusions there.
type pass struct {
	name  string
	after []string // the passes whose conclusions it uses
	run   func(*surveyor) error
}

// passes are all looks, in the order in which they are taken. An error ends the survey; what can't
// be read in one file is a fault of the surveyor's and ends nothing.
var passes = []pass{
	{"walk", nil, (*surveyor).walked},
	{"corrections", nil, (*surveyor).correctionsOf},
	{"projects", []string{"walk"}, plainly((*surveyor).projects)},
	{"settings", []string{"walk", "projects"},
		plainly(func(s *surveyor) { s.settings.envFiles() })},
	{"readmes", []string{"walk", "projects"}, plainly((*surveyor).readmes)},
	{"repositories beside", []string{"readmes", "settings"},
		plainly((*surveyor).repositoriesBeside)},
	{"copies", []string{"settings", "readmes"}, plainly(func(s *surveyor) { s.settings.copies() })},
	{"compose files", []string{"walk", "settings", "readmes"},
		plainly(func(s *surveyor) { s.composes.compose() })},
	{"compose services", []string{"compose files", "projects", "readmes"},
		plainly(func(s *surveyor) { s.composes.adopt() })},
	{"services", []string{"compose services", "settings", "copies", "readmes"},
		plainly(func(s *surveyor) { s.told.services() })},
	{"pages", []string{"services", "readmes"}, plainly(func(s *surveyor) { s.told.pages() })},
	{"once", []string{"services", "readmes"},
		plainly(func(s *surveyor) { s.composes.once() })},
	{"corrected", []string{"corrections", "once"}, plainly((*surveyor).correct)},
	{"ports", []string{"corrected", "pages"}, plainly(func(s *surveyor) { s.ports.Judge() })},
	{"several applications", []string{"ports"},
		plainly(func(s *surveyor) { s.natives.severalApplications() })},
	{"made first", []string{"corrected"}, plainly(func(s *surveyor) { s.homes.madeFirst() })},
	{"told installs", []string{"corrected", "readmes"},
		plainly(func(s *surveyor) { s.cover.Installs() })},
	{"told steps", []string{"told installs", "made first"},
		plainly(func(s *surveyor) { s.told.toldSteps() })},
	{"asks", []string{"told steps"}, plainly(func(s *surveyor) { s.cover.Asks() })},
	{"named pages", []string{"ports"}, plainly(func(s *surveyor) { s.ports.Pages() })},
	{"host names", []string{"ports", "settings"},
		plainly(func(s *surveyor) { s.ports.HostNames() })},
	{"debuggers", []string{"ports"}, plainly(func(s *surveyor) { s.ports.Debuggers() })},
	{"edges", []string{"corrected", "told steps", "settings"},
		plainly(func(s *surveyor) { s.connects.Edges() })},
	{"drivers", []string{"edges", "projects"}, plainly(func(s *surveyor) { s.connects.Drivers() })},
	{"elsewhere", []string{"edges", "drivers"},
		plainly(func(s *surveyor) { s.connects.Elsewhere() })},
	{"unplaced", []string{"elsewhere", "pages", "ports"},
		plainly(func(s *surveyor) { s.connects.Unplaced() })},
	{"code", []string{"walk", "corrected"}, plainly(func(s *surveyor) { s.settings.reads() })},
	{"written addresses", []string{"code", "corrected"},
		plainly(func(s *surveyor) { s.settings.writtenAddresses() })},
	{"layers", []string{"corrected", "settings"},
		plainly(func(s *surveyor) { s.settings.layer() })},
	{"wanted settings", []string{"code", "layers"},
		plainly(func(s *surveyor) { s.settings.wantedSettings() })},
	{
		"remarks",
		[]string{"several applications", "edges", "drivers", "layers", "wanted settings"},
		plainly((*surveyor).inspect),
	},
	{"coverage", []string{"edges", "layers", "readmes", "asks"},
		plainly(func(s *surveyor) { s.cover.All() })},
	{"witnesses", []string{"coverage", "code", "debuggers", "drivers"},
		plainly(func(s *surveyor) { s.knows.testify() })},
	{"how it is known", []string{"coverage", "witnesses"},
		plainly(func(s *surveyor) { s.knows.sure() })},
	{"sign-ins", []string{"walk", "corrected", "coverage"},
		plainly(func(s *surveyor) { s.signingIn().signIns() })},
}

func plainly(look func(*surveyor)) func(*surveyor) error {
	return func(s *surveyor) error {
		look(s)
		return nil
	}
}

// look takes the passes that are named, and those that they need, in their order; without names all
// of them.
func (s *surveyor) look(names ...string) error {
	wanted := map[string]bool{}
	for _, p := range slices.Backward(s.passes) {
		if len(names) == 0 || slices.Contains(names, p.name) || wanted[p.name] {
			wanted[p.name] = true
			for _, before := range p.after {
				wanted[before] = true
			}
		}
	}
	for _, p := range s.passes {
		if wanted[p.name] {
			if err := p.run(s); err != nil {
				return err
			}
		}
	}
	return nil
}

// walked reads the tree of folders.
func (s *surveyor) walked() error {
	var source func(dir, name string)
	if s.opt.ReadCode {
		s.settings.reader = code.New(s.Files)
		source = s.settings.reader.Tell
	}
	t, err := tree.Walk(s.Files, source, s.opt.Checkouts...)
	if s.settings.reader != nil {
		s.settings.reader.All()
	}
	if err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeWorkspaceUnreadable,
			At: stack.Place{File: s.Root}, Text: "the folder can't be read: " +
				stack.Reason(err), Remedy: "Check the path and its rights.", Cause: err}
	}
	s.Tree = t
	s.Stack.Remarks = append(s.Stack.Remarks, t.Remarks...)
	return nil
}
