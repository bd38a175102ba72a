package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/stack"
)

// repositoryAddress is the address of a repository in a line of text, with nothing in it that a
// shell would act on.
var repositoryAddress = expr.New(`(?:https?|ssh|git)://[\w.@:/~+-]+|[\w.-]+@[\w.-]+:[\w./~+-]+`)

// repositoriesBeside finds a second repository that belongs to the application: one that a README
// has cloned, or that a comment in a template of settings names, of the same owner as a checkout
// here. Tools that are cloned have other owners.
func (s *surveyor) repositoriesBeside() {
	var owners, known []string
	for _, c := range s.Stack.Checkouts {
		if c.Address != "" {
			name := gitrepo.NormalAddress(c.Address)
			owners, known = append(owners, path.Dir(name)), append(known, name)
		}
	}
	if len(owners) == 0 {
		return
	}
	tell := func(at stack.Place, where, text string) {
		for _, found := range repositoryAddress.FindAllStringSubmatch(text, -1) {
			address := strings.TrimRight(found[0], ".,:/")
			name := gitrepo.NormalAddress(address)
			if !slices.Contains(owners, path.Dir(name)) || slices.Contains(known, name) ||
				s.cover.ClonesThis(address) {
				continue
			}
			known = append(known, name)
			s.Remark(stack.Note, stack.CodeRepositoryBeside, at,
				fmt.Sprintf("%s another repository of the same "+
					"owner: %s", where, address), "If it is a part of this application, bring it "+
					"in: "+s.bringsIn(address))
		}
	}
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			if readme.ClonedInto(part.Words) != "" && !s.BesideWork(d.At) {
				tell(d.At, "the README clones", strings.Join(part.Words[2:], " "))
			}
		}
	}
	for _, e := range s.Stack.EnvFiles {
		file, err := dotenv.Read(s.Files, e.Template)
		if e.Template == "" || err != nil {
			continue
		}
		for _, v := range file.Settings {
			tell(stack.Place{File: e.Template, Line: v.Line}, "a comment to "+v.Key+" names",
				v.Comment)
		}
	}
}

// bringsIn is the command that brings a repository into the workspace: beside the others, or where
// this is but one checkout, both into a new one.
func (s *surveyor) bringsIn(address string) string {
	name := gitrepo.NameOf(address)
	if c := s.Stack.Checkouts; len(c) == 1 && c[0].Path == "." {
		return fmt.Sprintf("nharbor clone %s %s --into %s-workspace, beside this folder",
			c[0].Address, address, gitrepo.NameOf(c[0].Address))
	}
	return fmt.Sprintf("nharbor clone %s --into %s", address, name)
}
