package code

import (
	"slices"

	"nimbleharbor/internal/ecosystem"
)

// definers begin the definition of a function.
var definers = []string{"function", "def", "func", "fn", "fun", "defp", "sub"}

// noFunctions stand before brackets and are no functions.
var noFunctions = []string{"if", "for", "while", "switch", "catch", "return", "when", "match",
	"elif", "unless", "with", "new", "await", "typeof"}

// maxFunction is how far above a place, in tokens, the function may begin that it lies in.
const maxFunction = 400

// helperOf is the function that reads what a parameter of its own names, at a place of its body;
// nil if the place is in none. Whoever calls it with a name reads that variable.
func (p *program) helperOf(u use) *way {
	for i := u.from - 1; i > 0 && i > u.from-maxFunction; i-- {
		if !p.is(i, u.parameter) || p.isDot(i-1) {
			continue
		}
		if p.is(i+1, "=>") && p.is(i-1, "=") { // an arrow with one bare parameter
			return p.helper(u, p.token(i-2), i, i+1, i)
		}
		open := p.around(i, maxFunction)
		if open < 0 || !p.is(open, "(") || p.pairs[open] < i || p.pairs[open] >= u.from {
			continue
		}
		called := open - 1
		if p.is(called, "async") {
			called--
		}
		if p.is(called, "=", ":") {
			called--
		}
		function, closed := p.token(called), p.pairs[open]
		if function.kind != name || slices.Contains(noFunctions, function.text) ||
			!p.is(called-1, definers...) && !p.is(closed+1, "{", "=>", ":", "->") {
			continue
		}
		return p.helper(u, function, open, closed, i)
	}
	return nil
}

// helper makes the way that a function is. Its parameters lie between two tokens, the one that
// names the variable at a third.
func (p *program) helper(u use, function token, open, closed, parameter int) *way {
	w := &way{Access: &ecosystem.Access{}, path: []token{{kind: name, text: function.text}}}
	end := p.bodyEnd(closed)
	if function.kind != name || u.from >= end {
		return nil
	}
	u.way = &way{Access: u.way.Access, path: u.way.path, key: u.way.key}
	w.falls, w.Must = p.weighing().weigh(u)
	if p.is(open, "(") {
		for i, a := range p.arguments(open) {
			if a[0] <= parameter && parameter < a[1] {
				w.key = i
				continue
			}
			for k := a[0]; k < a[1]; k++ {
				if p.tokens[k].kind == name && p.usedIn(p.tokens[k].text, u.from, end) {
					w.backed = true
				}
			}
		}
	}
	if w.backed {
		w.falls = false // what it falls back on it is told
	}
	w.Must = w.Must || !w.falls && p.givesUpIn(u.from, end)
	return w
}

// usedIn reports whether a name stands between two tokens.
func (p *program) usedIn(what string, from, to int) bool {
	return slices.ContainsFunc(p.tokens[from:to], func(t token) bool { return t.is(what) })
}

// bodyEnd is where a function's body ends, the parameters of which end with a token: with its
// brace, or before the next line that is indented no farther than its own.
func (p *program) bodyEnd(closed int) int {
	indent := p.indent(closed)
	for i := closed + 1; i < len(p.tokens) && i < closed+12; i++ {
		if p.is(i, "{") && p.pairs[i] > 0 {
			return p.pairs[i]
		}
		if p.tokens[i].line > p.tokens[i-1].line && p.indent(i) <= indent {
			break // what comes next, behind a body without braces
		}
	}
	for line := int(p.tokens[closed].line) + 1; line < len(p.first); line++ {
		if p.first[line] >= 0 && p.indent(p.first[line]) <= indent {
			return p.first[line]
		}
	}
	return len(p.tokens)
}
