// Package diagnose leads from what is known to a cause and a remedy. Its rules are data: a code by
// which a rule can be cited, when it holds, and what is said then. There is a list of them for each
// kind of thing that is judged; the first rule that holds is the one. Where none does, nothing is
// said: no guess without a reason.
//
// To add a rule, add a line to its list, before those that say less, and a case to the list's test.
package diagnose

import (
	"strings"

	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/stack"
)

// Rule is a case of K, by a code by which it can be cited, and what is said of it.
type Rule[K any] = rule.Rule[*K, Says]

// Says are a cause and a remedy as texts in which {word} stands for what K's words say; an empty
// Cause keeps the one that is known already. Verdict, if there is one, goes before that of the
// probe.
type Says struct {
	Cause   string
	Remedy  string
	Verdict stack.Verdict
}

func says[K any](code string, when func(*K) bool, cause, remedy string,
	verdict stack.Verdict) Rule[K] {
	return Rule[K]{Name: code, When: when, Then: Says{cause, remedy, verdict}}
}

// Finding is what a rule has said. Code is empty where none held.
type Finding struct {
	Code, Cause, Remedy string
	Verdict             stack.Verdict
}

// first gives what the first rule that holds says, its words filled in.
func first[K any](rules []Rule[K], k *K, words map[string]string) Finding {
	r := rule.First(rules, k)
	if r == nil {
		return Finding{}
	}
	var pairs []string
	for word, text := range words {
		pairs = append(pairs, "{"+word+"}", text)
	}
	fill := strings.NewReplacer(pairs...)
	return Finding{Code: r.Name, Cause: fill.Replace(r.Then.Cause),
		Remedy: fill.Replace(r.Then.Remedy), Verdict: r.Then.Verdict}
}
