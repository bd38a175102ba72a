// Package rule is how a decision with many cases is written: as an ordered list of named rules, of
// which the first that holds decides. What a rule does, or says, is its list's own.
package rule

import "iter"

// Rule is one case of K. When tells whether it holds; nil is for one that always does. T is what
// follows.
type Rule[K, T any] struct {
	Name string
	When func(K) bool
	Then T
}

// First is the first rule that holds; nil where none does.
func First[K, T any](rules []Rule[K, T], k K) *Rule[K, T] {
	for r := range Holding(rules, k) {
		return r
	}
	return nil
}

// Holding are the rules that hold, in their order. Each is asked only when it is its turn.
func Holding[K, T any](rules []Rule[K, T], k K) iter.Seq[*Rule[K, T]] {
	return func(yield func(*Rule[K, T]) bool) {
		for i := range rules {
			if r := &rules[i]; (r.When == nil || r.When(k)) && !yield(r) {
				return
			}
		}
	}
}
