package survey

import (
	"slices"

	"nimbleharbor/internal/code"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// pass is one look at the workspace. It finds what the passes before it have left in the surveyor, and leaves its own
// conclusions there.
type pass struct {
	name  string
	after []string // the passes whose conclusions it uses
	run   func(*surveyor) error
}

// passes are all looks, in the order in which they are taken. An error ends the survey; what can't be read in one
// file is a fault of the surveyor's and ends nothing.
var passes = []pass{
	{"walk", nil, (*surveyor).walked},
	{"corrections", nil, (*surveyor).correctionsOf},
	{"projects", []string{"walk"}, plainly((*surveyor).projects)},
	{"settings", []string{"walk", "projects"}, plainly((*surveyor).envFiles)},
	{"readmes", []string{"walk", "projects"}, plainly((*surveyor).readmes)},
	{"repositories beside", []string{"readmes", "settings"}, plainly((*surveyor).repositoriesBeside)},
	{"copies", []string{"settings", "readmes"}, plainly((*surveyor).copies)},
	{"compose files", []string{"walk", "settings", "readmes"}, plainly((*surveyor).compose)},
	{"compose services", []string{"compose files", "projects", "readmes"}, plainly((*surveyor).adopt)},
	{"native services", []string{"compose services", "settings", "copies"}, plainly((*surveyor).natives)},
	{"dockerfiles", []string{"native services"}, plainly((*surveyor).dockerfiles)},
	{"told services", []string{"dockerfiles", "readmes"}, plainly((*surveyor).toldServices)},
	{"pages", []string{"told services", "readmes"}, plainly((*surveyor).pages)},
	{"once", []string{"told services", "readmes"}, plainly((*surveyor).once)},
	{"corrected", []string{"corrections", "once"}, plainly((*surveyor).correct)},
	{"ports", []string{"corrected", "pages"}, plainly((*surveyor).judgePorts)},
	{"several applications", []string{"ports"}, plainly((*surveyor).severalApplications)},
	{"made first", []string{"corrected"}, plainly((*surveyor).madeFirst)},
	{"told installs", []string{"corrected", "readmes"}, plainly(func(s *surveyor) { s.cover.Installs() })},
	{"told steps", []string{"told installs", "made first"}, plainly((*surveyor).toldSteps)},
	{"asks", []string{"told steps"}, plainly(func(s *surveyor) { s.cover.Asks() })},
	{"named pages", []string{"ports"}, plainly((*surveyor).namedPages)},
	{"host names", []string{"ports", "settings"}, plainly((*surveyor).hostNames)},
	{"debuggers", []string{"ports"}, plainly((*surveyor).debuggers)},
	{"edges", []string{"corrected", "told steps", "settings"}, plainly(func(s *surveyor) { s.connects.Edges() })},
	{"drivers", []string{"edges", "projects"}, plainly(func(s *surveyor) { s.connects.Drivers() })},
	{"elsewhere", []string{"edges", "drivers"}, plainly(func(s *surveyor) { s.connects.Elsewhere() })},
	{"code", []string{"walk", "corrected"}, plainly((*surveyor).reads)},
	{"written addresses", []string{"code", "corrected"}, plainly((*surveyor).writtenAddresses)},
	{"layers", []string{"corrected", "settings"}, plainly((*surveyor).layer)},
	{"wanted settings", []string{"code", "layers"}, plainly((*surveyor).wantedSettings)},
	{
		"remarks",
		[]string{"several applications", "edges", "drivers", "layers", "wanted settings"},
		plainly((*surveyor).inspect),
	},
	{"coverage", []string{"edges", "layers", "readmes", "asks"}, plainly(func(s *surveyor) { s.cover.All() })},
	{"witnesses", []string{"coverage", "code", "debuggers", "drivers"}, plainly((*surveyor).testify)},
	{"how it is known", []string{"coverage", "witnesses"}, plainly((*surveyor).sure)},
	{"sign-ins", []string{"walk", "corrected", "coverage"}, plainly((*surveyor).signIns)},
}

func plainly(look func(*surveyor)) func(*surveyor) error {
	return func(s *surveyor) error {
		look(s)
		return nil
	}
}

// look takes the passes that are named, and those that they need, in their order; without names all of them.
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
		s.code = code.New(s.Files)
		source = s.code.Tell
	}
	t, err := tree.Walk(s.Files, source, s.opt.Checkouts...)
	if s.code != nil {
		s.code.All()
	}
	if err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeWorkspaceUnreadable,
			At:   stack.Place{File: s.Root},
			Text: "the folder can't be read: " + stack.Reason(err), Remedy: "Check the path and its rights.",
			Cause: err}
	}
	s.Tree = t
	s.Stack.Remarks = append(s.Stack.Remarks, t.Remarks...)
	return nil
}
