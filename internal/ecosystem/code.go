package ecosystem

import (
	"regexp"

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
