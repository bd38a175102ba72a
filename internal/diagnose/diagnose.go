// Package diagnose leads from what is known to a cause and a remedy. Its rules are data: a code by
// which a rule can be cited, when it holds, and what is said then. There is a list of them for each
// kind of thing that is judged; the first rule that holds is the one. Where none does, nothing is
// said: no guess without a reason.
//
// To add a rule, add a line to its list, before those that say less, and a case to the list's test.
package diagnose

import (
	"strings"

	"nimbleharbor/internal/stack"
)

// Rule says what holds of K in one case. Cause and Remedy are texts in which {word} stands for what
// K's words say; an empty Cause keeps the one that is known already. Verdict, if there is one, goes
// before that of the probe.
type Rule[K any] struct {
	Code    string
	When    func(*K) bool
	Cause   string
	Remedy  string
	Verdict stack.Verdict
}

// Finding is what a rule has said. Code is empty where none held.
type Finding struct {
	Code, Cause, Remedy string
	Verdict             stack.Verdict
}

// first gives what the first rule that holds says, its words filled in.
func first[K any](rules []Rule[K], k *K, words map[string]string) Finding {
	for _, r := range rules {
		if !r.When(k) {
			continue
		}
		var pairs []string
		for word, text := range words {
			pairs = append(pairs, "{"+word+"}", text)
		}
		fill := strings.NewReplacer(pairs...)
		return Finding{Code: r.Code, Cause: fill.Replace(r.Cause), Remedy: fill.Replace(r.Remedy),
			Verdict: r.Verdict}
	}
	return Finding{}
}
