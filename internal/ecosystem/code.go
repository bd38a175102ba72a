package ecosystem

import (
	"regexp"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
)

// envName is the name of an environment variable in code.
const envName = `([A-Z][A-Z0-9_]{2,})`

// readsBy makes forms in which code reads variables: one for each anchor, with the same rest behind it.
func readsBy(must bool, rest string, anchors ...string) (out []CodeForm) {
	for _, a := range anchors {
		out = append(out, CodeForm{Anchor: a, Must: must, Form: expr.New(`^` + regexp.QuoteMeta(a) + rest)})
	}
	return out
}

// Hints are texts one of which stands in every file of code of the ecosystem that reads a variable: far fewer than the
// anchors of its forms, so that most files need no closer look.
func (e *Ecosystem) Hints() [][]byte {
	e.hinted.Do(func() {
		for _, f := range e.Reads {
			hint := f.Anchor
			for _, common := range []string{f.With, "env", "ENV", "Env"} {
				if common != "" && (common == f.With || strings.Contains(f.Anchor, common)) {
					hint = common
					break
				}
			}
			if !slices.ContainsFunc(e.hints, func(h []byte) bool { return string(h) == hint }) {
				e.hints = append(e.hints, []byte(hint))
			}
		}
	})
	return e.hints
}
