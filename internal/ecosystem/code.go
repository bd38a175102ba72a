package ecosystem

import (
	"regexp"
	"strings"

	"nimbleharbor/internal/expr"
)

// envName is the name of an environment variable in code.
const envName = `([A-Z][A-Z0-9_]{2,})`

// readsBy makes forms in which code reads variables: one for each anchor, with the same rest behind
// it.
func readsBy(must bool, rest string, anchors ...string) (out []CodeForm) {
	for _, a := range anchors {
		out = append(out, CodeForm{Anchor: a, Must: must,
			Form: expr.New(`^` + regexp.QuoteMeta(a) + rest)})
	}
	return out
}

// Hint is a text that stands in every file of code in which the form fits: a short one that many
// forms share, so that most files need no closer look. InAnchor is true where it is a part of the
// form's anchor.
func (f *CodeForm) Hint() (text string, inAnchor bool) {
	if f.With != "" {
		return f.With, false
	}
	for _, common := range []string{".env", "env", "ENV", "Env"} {
		if strings.Contains(f.Anchor, common) {
			return common, true
		}
	}
	return f.Anchor, true
}
