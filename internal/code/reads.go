package code

import (
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
)

// envName is the name of an environment variable.
var envName = expr.New(`^[A-Z][A-Z0-9_]{2,}$`)

// way is one to a variable: an access of the language, an object that a program calls by a name of
// its own, or a function of the project that reads what its parameter names.
type way struct {
	*ecosystem.Access
	path []token
	// key is which argument names the variable. With backed a further argument is what counts where
	// it is absent; with falls the function has a value of its own for all.
	key           int
	backed, falls bool
}

// starts reports whether the way begins with a token, and gives the token behind its path.
func (w *way) starts(p *program, i int) (behind int, ok bool) {
	first := w.path[0]
	if first.text == "*" {
		first = w.path[1]
		if p.tokens[i].kind != name || !strings.HasSuffix(strings.ToLower(p.tokens[i].text),
			strings.ToLower(first.text)) {
			return 0, false
		}
	} else if !p.tokens[i].is(first.text) {
		return 0, false
	}
	path := w.path[1:]
	if w.path[0].text == "*" {
		path = path[1:]
	} else if len(path) == 0 && w.Access.Path != "" && p.isDot(i-1) {
		return 0, false // another's of the same name
	}
	for k, t := range path {
		if at := i + 1 + k; !p.is(at, t.text) && !(t.text == "." && p.is(at, "?.")) {
			return 0, false
		}
	}
	return i + 1 + len(path), true
}

// use is one place at which a program reads, or gives, a variable.
type use struct {
	name       string
	from, to   int // its tokens
	arguments  [][2]int
	way        *way
	keptAs     string // the name that it is taken out of an object under; empty for none
	keptWith   bool   // a value of its own
	onlyAsked  bool   // whether it is there
	onlyGot    bool   // by a call that does without
	parameter  string // what stands in the place of the name: a parameter of a function
	isAliasing string // the object as a whole is called that from here on
}

// uses finds how a program uses a way that begins with a token.
func (p *program) uses(w *way, i int) []use {
	behind, ok := w.starts(p, i)
	if !ok {
		return nil
	}
	if w.Holds {
		return p.usesOf(w, i, behind)
	}
	if w.Methods && p.is(behind, ".") && p.token(behind+1).kind == name {
		behind += 2
	}
	open := p.called(behind)
	if open < 0 {
		return nil
	}
	u := use{from: i, to: p.pairs[open] + 1, way: w, arguments: p.arguments(open)}
	if w.key >= len(u.arguments) {
		return nil
	}
	return p.named(u, u.arguments[w.key][0], u.arguments[w.key][1])
}

// named completes a use by what names its variable.
func (p *program) named(u use, from, to int) []use {
	t := p.token(from)
	switch {
	case to != from+1:
		return nil
	case t.kind == text && envName.MatchString(t.text):
		u.name = t.text
	case t.kind == name:
		u.parameter = t.text
	default:
		return nil
	}
	return []use{u}
}

// usesOf finds what is done with an object that holds all variables.
func (p *program) usesOf(w *way, from, behind int) []use {
	u := use{from: from, way: w}
	if p.is(behind, "?.") && p.is(behind+1, "[") {
		behind++
	}
	switch next := p.token(behind + 1); {
	case p.is(behind, ".", "?.") && next.kind == name:
		if u.to = behind + 2; envName.MatchString(next.text) {
			u.name = next.text
			return []use{u}
		}
		if open := p.called(behind + 2); w.Access.Path == "" && open >= 0 &&
			slices.Contains([]string{"get", "fetch"}, next.text) {
			// an object of the program's own name for the environment
			u.to, u.arguments = p.pairs[open]+1, p.arguments(open)
			u.onlyGot = next.text == "get"
			if len(u.arguments) > 0 {
				return p.named(u, u.arguments[0][0], u.arguments[0][1])
			}
		}
		return nil
	case p.is(behind, "[") && p.pairs[behind] > 0:
		u.to = p.pairs[behind] + 1
		return p.named(u, behind+1, p.pairs[behind])
	case p.is(behind, "("):
		return nil
	}
	before := p.token(from - 2)
	switch {
	case p.is(from-1, "in") && before.kind == text && envName.MatchString(before.text):
		return []use{{name: before.text, from: from - 2, to: behind, way: w, onlyAsked: true}}
	case p.is(from-1, "=") && before.is("}"):
		return p.takenOut(w, p.pairs[from-2], from, behind)
	}
	if kept := p.keptUnder(u); kept != "" && p.is(from-1, "=", ":=") {
		return []use{{way: w, isAliasing: kept}}
	}
	return nil
}

// takenOut are the variables that are taken out of an object by their names.
func (p *program) takenOut(w *way, open, from, to int) (out []use) {
	if open < 0 {
		return nil
	}
	for _, entry := range p.arguments(open) {
		t := p.tokens[entry[0]]
		if t.kind != name || !envName.MatchString(t.text) {
			continue
		}
		u := use{name: t.text, from: entry[0], to: to, way: w, keptAs: t.text}
		for k := entry[0] + 1; k < entry[1]; k++ {
			switch {
			case p.is(k, ":"):
				u.keptAs = p.token(k + 1).text
			case p.is(k, "="):
				u.keptWith = !p.isNothing(k+1, entry[1])
			}
		}
		out = append(out, u)
	}
	return out
}

// types are words that tell a getter what to make of a value.
var types = []string{"str", "int", "bool", "float", "list", "dict", "Csv", "String", "Number",
	"Boolean"}

// weigh tells whether code has a value of its own for a variable, and whether it gives up without
// it.
func (p weighing) weigh(u use) (fallback, must bool) {
	w := u.way
	fallback, must = u.keptWith || u.onlyAsked || w.falls, w.Must && !u.onlyGot
	given, insists := p.byArguments(u)
	fallback, must = fallback || given, must || insists
	given, insists, to := p.byWhatFollows(u.from, u.to, w)
	fallback, must = fallback || given, must || insists
	if insists {
		return false, !p.underCondition(u.from)
	}
	must = must && !fallback && !p.underCondition(u.from)
	switch asked, absent := p.asks(u); {
	case asked: // the code looks whether it is there
		fallback = true
	case absent:
		does := p.does(to)
		must = must || slices.Contains(givesUp, does)
		// what it does without it is all that it does
		fallback = fallback || does != "" && !must
	case !fallback && !must:
		must = p.givesUpWithout(u, to) && !p.underCondition(u.from)
	}
	return fallback, must && !fallback
}

// byArguments tells the same by what a call is told besides the name.
func (p weighing) byArguments(u use) (fallback, must bool) {
	w := u.way
	for i, a := range u.arguments {
		if i == w.key {
			continue
		}
		if a[1] > a[0]+2 && p.token(a[0]).kind == name && p.is(a[0]+1, "=", ":") {
			argument := p.token(a[0]).text
			// whatever it is: somebody has thought of its absence
			fallback = fallback || slices.Contains(w.Default, argument)
			must = must || slices.Contains(w.Required, argument)
			continue
		}
		isType := a[1] == a[0]+1 && p.is(a[0], types...)
		ofParameter := w.Access.Path == "" && !w.Holds && !w.backed
		if i == w.key+1 && !isType && !ofParameter {
			fallback = fallback || a[1] > a[0]+1 || p.tokens[a[0]].kind != text ||
				p.tokens[a[0]].text != ""
		}
	}
	return fallback, must
}

// byWhatFollows tells the same by what is done with the value: methods that are called on it, a
// word or a sign for what counts without it, also behind calls that it is handed to. It gives the
// token behind all that.
func (p weighing) byWhatFollows(from, to int, w *way) (fallback, must bool, behind int) {
	for {
		method := p.token(to + 1)
		switch {
		case p.is(to, "!") && !p.is(to+1, "="):
			to++ // a promise to a compiler
		case p.is(to, "as") && method.kind == name:
			to += 2
		case p.is(to, p.grammar.MustCalls...):
			return false, true, to + 1
		case p.isDot(to) && method.kind == name:
			fallback = fallback || slices.Contains(p.grammar.ElseCalls, method.text) ||
				slices.Contains(w.Default, method.text)
			must = must || slices.Contains(p.grammar.MustCalls, method.text) ||
				slices.Contains(w.Required, method.text)
			if to += 2; p.is(to, "(") && p.pairs[to] > 0 {
				to = p.pairs[to] + 1
			}
		case p.isHandedOn(from, to):
			must = must || p.is(p.pairs[to]-1, insisting...)
			from, to = p.pairs[to], to+1
		case p.is(to, ",") && p.token(to+1).kind == number && p.is(to+2, ")"):
			to += 2 // the base of a number
		case p.is(to, ",") && p.is(p.around(to, 40)-1, insisting...):
			return false, true, to
		case p.isAskedInstead(to, w):
			insists := p.givesUpIn(to, p.blockEnd(to))
			return !insists, insists, to
		case p.is(to, p.grammar.Else...):
			given, insists, end := p.orElse(to)
			return given || fallback && !insists, insists || must && !given, end
		default:
			return fallback, must && !fallback, to
		}
	}
}

// isHandedOn reports whether a token closes a call that the value is handed to.
func (p weighing) isHandedOn(from, i int) bool {
	return p.is(i, ")") && p.pairs[i] >= 0 && p.pairs[i] < from && !p.isAsking(p.pairs[i]-1)
}

// isAskedInstead reports whether a token begins a block that a call asks where the variable is
// absent.
func (p weighing) isAskedInstead(i int, w *way) bool {
	return p.is(i, "{", "do") && w.Must && !w.Holds && p.tokens[i].line == p.token(i-1).line
}

// orElse tells what a word or a sign leads to where the variable is absent. An empty text is no
// value of its own.
func (p weighing) orElse(at int) (fallback, must bool, behind int) {
	empty := p.token(at+1).kind == text && p.token(at+1).text == ""
	if empty && p.ends(at+2) && !p.is(at, "==", "!=", "===", "!==") {
		return false, false, at + 2
	}
	end := at + 1
	for end < at+8 && !p.is(end, ";") && p.token(end).line == p.tokens[at].line {
		end++
	}
	insists := p.givesUpIn(at, min(end, len(p.tokens)))
	return !insists, insists, at
}

// givesUpIn reports whether code gives up between two tokens.
func (p *program) givesUpIn(from, to int) bool {
	return slices.ContainsFunc(p.tokens[from:to], func(t token) bool {
		return t.kind == name && slices.Contains(givesUp, t.text)
	})
}

// blockEnd is where a block ends that a token begins, with its brace or its word.
func (p *program) blockEnd(i int) int {
	if p.pairs[i] > i {
		return p.pairs[i]
	}
	end := i
	for end < len(p.tokens) && end < i+maxReach && !p.is(end, "end") {
		end++
	}
	return end
}

func (p weighing) isAsking(i int) bool { return p.is(i, "if", "elif", "elsif", "unless", "while") }

// asks tells whether code asks for a variable only to see if it is there, or if it is absent.
func (p weighing) asks(u use) (there, absent bool) {
	if above := p.lineAbove(p.tokens[u.from].line); above >= 0 {
		first, second := p.begins(above)
		if p.is(first, "try") && p.is(second, ":") || p.looksFirst(above, u.name) {
			return true, false // its absence is taken care of
		}
	}
	at := u.from - 1
	for p.is(at, "(") {
		at--
	}
	switch {
	case p.is(at, "if", "elif", "when", "||", "??"):
		return true, false
	case p.is(at, "unless"):
		return false, true
	case !p.is(at, "!", "not"):
		return false, false
	}
	for at--; p.is(at, "("); {
		at--
	}
	return false, p.is(at, "if", "elif")
}

// looksFirst reports whether a line lets the next one run only if a variable is there.
func (p weighing) looksFirst(line int32, variable string) bool {
	first, _ := p.begins(line)
	if p.is(first, "else") {
		first++
	}
	if !p.is(first, asking...) {
		return false
	}
	for i := first; i < len(p.tokens) && p.tokens[i].line == line; i++ {
		if p.tokens[i].text == variable && variable != "" {
			return true
		}
	}
	return false
}

// keptUnder is the name that a value is kept under; empty for none.
func (p *program) keptUnder(u use) string {
	if u.keptAs != "" {
		return u.keptAs
	}
	i := u.from - 1
	if p.is(i, "(") && p.is(i-1, "str", "String") {
		i -= 2
	}
	if !p.is(i, "=", ":=") {
		return ""
	}
	kept := i - 1
	for k := i - 1; k > 0 && p.tokens[k].line == p.tokens[i].line &&
		!p.is(k, "(", ",", ";", "{"); k-- {
		if p.is(k, ":") {
			kept = k - 1 // in front of its type
		}
	}
	if p.token(kept).kind != name || p.isDot(kept-1) {
		return ""
	}
	return p.tokens[kept].text
}

// givesUpWithout reports whether code keeps a variable under a name, and ends soon after if there
// is nothing under it.
func (p weighing) givesUpWithout(u use, to int) bool {
	kept := p.keptUnder(u)
	if kept == "" {
		return false
	}
	for i := to; i < len(p.tokens) && int(p.tokens[i].at) < p.offset(to)+maxKept; i++ {
		if !p.is(i, kept) || p.isDot(i-1) {
			continue
		}
		before := i - 1
		if p.is(before, "(") {
			before--
		}
		negated := p.is(before, "!", "not")
		asked := before
		for negated && (asked == before || p.is(asked, "(")) {
			asked--
		}
		ofLength := p.is(before, "len")
		for ofLength && (asked == before || p.is(asked, "(")) {
			asked--
		}
		switch {
		case p.is(before, insisting...):
			return true
		case p.is(asked, "unless") && !negated,
			p.is(asked, "if", "elif") && (negated || p.isFoundAbsent(i+1)):
			return slices.Contains(givesUp, p.does(i+1))
		}
	}
	return false
}

// isFoundAbsent reports whether what stands behind a name asks if it is nothing.
func (p weighing) isFoundAbsent(i int) bool {
	switch {
	case p.is(i, ")") && p.is(i+1, "==", "===") && p.is(i+2, "0"):
		return true
	case p.is(i, "==", "===", "is") && i+1 < len(p.tokens):
		return p.isNothing(i+1, i+2)
	case p.is(i, "."):
		return p.is(i+1, "is_empty", "isEmpty", "is_none", "blank", "nil", "empty", "isBlank")
	}
	return false
}
