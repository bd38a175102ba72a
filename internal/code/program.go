package code

import (
	"slices"
	"strings"
)

// program is one file of code, or the part of it that counts, taken apart.
type program struct {
	file    string
	grammar *grammar
	source  string
	above   int // lines of the file above what is taken apart
	memory
}

// memory is what a program is held in. It is used again for the next one.
type memory struct {
	tokens []token
	pairs  []int // for each bracket the one that it belongs to; -1 for all else, and for one alone
	first  []int // the first token of each line that has any; -1 for the others
	open   []int
}

// brackets are those that open, with those that close them.
var brackets = map[string]string{"(": ")", "[": "]", "{": "}"}

func newProgram(file string, g *grammar, source string, m memory) *program {
	p := &program{file: file, grammar: g, source: source, memory: m}
	p.tokens = tokensOf(g, source, m.tokens)
	p.pairs = slices.Grow(m.pairs[:0], len(p.tokens))[:len(p.tokens)]
	lines := 1
	if n := len(p.tokens); n > 0 {
		lines += int(p.tokens[n-1].line)
	}
	p.first = slices.Grow(m.first[:0], lines)[:lines]
	for i := range p.first {
		p.first[i] = -1
	}
	open, line := m.open[:0], int32(-1)
	for i := range p.tokens {
		t := &p.tokens[i]
		p.pairs[i] = -1
		if t.line != line {
			line = t.line
			p.first[line] = i
		}
		if t.kind != sign {
			continue
		}
		switch t.text[0] {
		case '(', '[', '{':
			open = append(open, i)
		case ')', ']', '}':
			if n := len(open); n > 0 && brackets[p.tokens[open[n-1]].text] == t.text {
				p.pairs[i], p.pairs[open[n-1]] = open[n-1], i
				open = open[:n-1]
			}
		}
	}
	p.open = open
	return p
}

// none is what stands before the first token and behind the last.
var none = token{kind: sign}

func (p *program) token(i int) token {
	if i < 0 || i >= len(p.tokens) {
		return none
	}
	return p.tokens[i]
}

// is reports whether a token is one of those names or signs.
func (p *program) is(i int, what ...string) bool {
	t := p.token(i)
	return t.kind != text && slices.Contains(what, t.text)
}

// isDot reports whether a token leads from a value to one of its parts.
func (p *program) isDot(i int) bool { return p.is(i, ".", "?.", "->", "::") }

// indent is how far in bytes the line of a token is indented.
func (p *program) indent(i int) int {
	at := int(p.tokens[p.first[p.tokens[i].line]].at)
	return at - 1 - strings.LastIndexByte(p.source[:at], '\n')
}

// begins are the first two words of a token's line, behind a brace that closes what was before.
func (p *program) begins(line int32) (first, second int) {
	first = p.first[line]
	if p.is(first, "}") {
		first++
	}
	return first, first + 1
}

// lineAbove is the next line above that has tokens; -1 for none.
func (p *program) lineAbove(line int32) int32 {
	for line--; line >= 0; line-- {
		if p.first[line] >= 0 {
			return line
		}
	}
	return -1
}

// maxAbove is how many lines above a place are looked at.
const maxAbove = 300

var (
	conditions = []string{"if", "elif", "else", "elsif", "unless", "case", "when", "catch",
		"except", "rescue", "switch", "match"}
	asking  = []string{"if", "elif", "elsif", "unless"}
	givesUp = []string{"throw", "raise", "panic", "exit", "abort", "Fatal", "Fatalf", "fail", "die",
		"bail"}
	goesOn = append([]string{"return", "continue", "pass", "next"}, givesUp...)
	// Such names check that what they are called with is there.
	insisting = []string{"assert", "invariant", "requireNonNull", "checkNotNull"}
)

// underCondition reports whether a token lies in a block, by the indentation of lines, that is run
// only in some case. A condition that holds wherever the file is run as a program is none.
func (p *program) underCondition(i int) bool {
	indent, line := p.indent(i), p.tokens[i].line
	for range maxAbove {
		if line = p.lineAbove(line); line < 0 || indent == 0 {
			return false
		}
		first, _ := p.begins(line)
		if at := p.indent(p.first[line]); at >= indent {
			continue
		} else {
			indent = at
		}
		if p.is(first, conditions...) && !p.isEntry(line) {
			return true
		}
	}
	return false
}

// isEntry reports whether a line asks if the file is run as a program.
func (p *program) isEntry(line int32) bool {
	for i := p.first[line]; i < len(p.tokens) && p.tokens[i].line == line; i++ {
		if p.is(i, "__name__", "$0") || p.is(i, "main") && p.isDot(i-1) {
			return true
		}
	}
	return false
}

// does is the first word behind a token, within reach, by which code goes on or gives up; empty for
// none.
func (p *program) does(from int) string {
	for i := from; i < len(p.tokens) && int(p.tokens[i].at) < p.offset(from)+maxReach; i++ {
		if t := p.tokens[i]; t.kind == name && slices.Contains(goesOn, t.text) {
			return t.text
		}
	}
	return ""
}

// maxReach is how far in bytes behind a condition stands what is done then, and maxKept how far
// behind a variable's place it is asked whether it is there.
const (
	maxReach = 160
	maxKept  = 400
)

func (p *program) offset(i int) int {
	if i >= len(p.tokens) {
		return len(p.source)
	}
	return int(p.tokens[i].at)
}

// isNothing reports whether a value is none of its own: an empty text, or a word for nothing.
func (p *program) isNothing(from, to int) bool {
	if to != from+1 {
		return false
	}
	if t := p.tokens[from]; t.kind == text {
		return t.text == ""
	}
	return p.is(from, "nil", "null", "undefined", "None")
}

// ends reports whether a value that stands before a token is over there.
func (p *program) ends(i int) bool {
	return i >= len(p.tokens) || p.is(i, ")", ",", ";", "}", "]") ||
		p.tokens[i].line > p.tokens[i-1].line
}

// arguments are the two ends of each argument of a call, by its opening bracket.
func (p *program) arguments(open int) (out [][2]int) {
	last := p.pairs[open]
	from := open + 1
	for i := from; i <= last; i++ {
		if i == last || p.is(i, ",") {
			if i > from {
				out = append(out, [2]int{from, i})
			}
			from = i + 1
		} else if p.pairs[i] > i {
			i = p.pairs[i]
		}
	}
	return out
}

// called is the opening bracket of a call whose name ends before a token: behind words for its
// types, if it has some. It is -1 where nothing is called.
func (p *program) called(i int) int {
	if p.is(i, "<") {
		for k := i + 1; k < i+12; k++ {
			if p.is(k, ">") && p.is(k+1, "(") {
				i = k + 1
				break
			}
		}
	}
	if !p.is(i, "(") || p.pairs[i] < 0 {
		return -1
	}
	return i
}

// around is the innermost bracket that is open before a token, from no farther than so many tokens
// above; -1 for none.
func (p *program) around(i, within int) int {
	for k := i - 1; k >= 0 && k > i-within; k-- {
		if t := p.tokens[k]; t.kind == sign && brackets[t.text] != "" && p.pairs[k] >= i {
			return k
		} else if p.pairs[k] >= 0 && p.pairs[k] < k {
			k = p.pairs[k] // what is closed before
		}
	}
	return -1
}
