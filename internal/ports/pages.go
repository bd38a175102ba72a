package ports

import (
	"slices"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// callsIt is a line that calls an address for its answer, and so names no page for people.
var callsIt = expr.New(`(?i)\b(curl|wget|http|POST|PUT|PATCH|DELETE|webhooks?|callbacks?|redirect)\b[^:]`)

// maxPages bounds how many pages of one service are kept.
const maxPages = 3

// Pages collects the pages beyond the first one that READMEs name on ports of the stack.
func (s *Ports) Pages() {
	for _, file := range s.Instructions {
		text := s.ReadmeOf(file)
		for _, a := range text.Addresses {
			page := a.Scheme == "http" || a.Scheme == "https"
			if page && a.Path != "" && a.Path != "/" && !callsIt.MatchString(text.Line(a.Line)) {
				s.namePage(a.Port, a.Path, stack.Place{File: file, Line: a.Line})
			}
		}
	}
}

func (s *Ports) namePage(port int, page string, at stack.Place) {
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		if len(v.Pages) >= maxPages || port == 0 || !slices.ContainsFunc(v.Ports,
			func(p stack.Port) bool { return p.Host == port && p.Speaks == "http" }) ||
			slices.ContainsFunc(v.Pages,
				func(p stack.Page) bool { return p.Port == port && p.Path == page }) {
			continue
		}
		v.Pages = append(v.Pages, stack.Page{Port: port, Path: page, At: at})
		return
	}
}
