package code

import (
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/ecosystem"
)

// kind is what sort of a token one is.
type kind uint8

const (
	name   kind = iota // also a word of the language
	number             //
	text               // a string, a character, a regular expression
	sign
)

// token is one of a program. Comments are none.
type token struct {
	kind kind
	// line counts from 0; at is the offset in bytes.
	line, at int32
	// text is how it stands there; of a string what lies between the quotes.
	text string
}

// is reports whether it is that name or that sign.
func (t token) is(what string) bool { return t.kind != text && t.text == what }

// operators are the signs of more than one letter by their first, the longer ones first.
var operators = func() (out [256][]string) {
	for _, o := range []string{"===", "!==", "||=", "??=", "&&=", "...", "<=>", "==", "!=", "<=",
		">=", "=>", "->", "::", "?.", "?:", "??", "||", "&&", ":=", "+=", "-=", "=~"} {
		out[o[0]] = append(out[o[0]], o)
	}
	return out
}()

// grammar is a language, made ready: what a byte may begin.
type grammar struct {
	*ecosystem.Language
	class  [256]class
	quotes [256][]*ecosystem.Quote // the longer openings first
	hints  []hint
	sets   sync.Map // ways by which of them may occur
	// overLines are the marks behind which something goes over lines.
	overLines []string
}

// hint is a text without which none of some ways occurs. The first of them has that number among
// all of the language.
type hint struct {
	text  string
	ways  []*way
	first int
}

// class is what a byte begins, or may begin.
type class uint8

const (
	signs class = iota
	space
	newline
	letters
	digits
	// Comments, texts and patterns have to be looked at.
	special
)

// grammars are those of the languages, each made once.
var grammars sync.Map

func grammarOf(l *ecosystem.Language) *grammar {
	if g, ok := grammars.Load(l); ok {
		return g.(*grammar)
	}
	g := &grammar{Language: l}
	for c := range 256 {
		g.class[c] = classOf(byte(c))
	}
	for _, mark := range l.Comments {
		g.class[mark[0]] = special
	}
	for _, b := range l.Blocks {
		if b[0][0] != '\n' { // which is looked at anyway
			g.class[b[0][0]] = special
		}
		g.overLines = append(g.overLines, b[0])
	}
	for i := range l.Quotes {
		q := &l.Quotes[i]
		g.class[q.Open[0]] = special
		if q.Lines {
			g.overLines = append(g.overLines, q.Open)
		}
		g.quotes[q.Open[0]] = append(g.quotes[q.Open[0]], q)
	}
	for c := range g.quotes {
		slices.SortStableFunc(g.quotes[c],
			func(a, b *ecosystem.Quote) int { return len(b.Open) - len(a.Open) })
	}
	if l.Patterns {
		g.class['/'] = special
	}
	for i := range l.Accesses {
		a := &l.Accesses[i]
		w := &way{Access: a, path: tokensOf(g, a.Path, nil)}
		at := slices.IndexFunc(g.hints, func(h hint) bool { return h.text == a.Hint() })
		if at < 0 {
			at = len(g.hints)
			g.hints = append(g.hints, hint{text: a.Hint()})
		}
		g.hints[at].ways = append(g.hints[at].ways, w)
	}
	first := 0
	for i := range g.hints {
		g.hints[i].first = first
		first += len(g.hints[i].ways)
	}
	grammars.Store(l, g)
	return g
}

// classOf is what a byte is in every language, before marks and quotes of one make it special.
func classOf(b byte) (c class) {
	switch {
	case b == '\n':
		return newline
	case b <= ' ':
		return space
	case b >= '0' && b <= '9':
		return digits
	case wordSign(b), b == '$', b >= 0x80:
		return letters
	}
	return c
}

// scanner takes the code of one file apart.
type scanner struct {
	*grammar
	source string
	at     int
	line   int32
	out    []token
	// unclosed are the marks that were opened and never closed: they open nothing any more.
	unclosed map[string]bool
}

// tokensOf takes code apart. It never fails: a mark that nothing closes is a sign, and what stands
// behind it is read like all else. The memory of the tokens that it is given is used again.
func tokensOf(g *grammar, source string, memory []token) []token {
	s := &scanner{grammar: g, source: source, out: memory[:0]}
	for s.at < len(source) {
		s.next()
	}
	return s.out
}

func (s *scanner) rest() string { return s.source[s.at:] }

// skip goes on to an offset, behind what may be several lines.
func (s *scanner) skip(to int) {
	s.line += int32(strings.Count(s.source[s.at:to], "\n"))
	s.at = to
}

// add takes a token of one line that ends at an offset.
func (s *scanner) add(k kind, end int) {
	s.out = append(s.out, token{k, s.line, int32(s.at), s.source[s.at:end]})
	s.at = end
}

// next takes one token, a comment or some space.
func (s *scanner) next() {
	c := s.source[s.at]
	is := s.class[c]
	if is == special || is == newline {
		if s.comment() || s.block() || s.quote() || c == '/' && s.Patterns && s.valueBegins() &&
			s.pattern() {
			return
		}
		if is == special && wordSign(c) {
			is = letters
		}
	}
	end := s.at + 1
	switch is {
	case newline:
		s.line++
		s.at = end
	case space:
		for end < len(s.source) && s.class[s.source[end]] == space {
			end++
		}
		s.at = end
	case letters:
		for end < len(s.source) && inName(s.source[end]) {
			end++
		}
		s.add(name, end)
	case digits:
		for end < len(s.source) && (wordSign(s.source[end]) || s.source[end] == '.') {
			end++
		}
		s.add(number, end)
	default:
		for _, o := range operators[c] {
			if strings.HasPrefix(s.rest(), o) {
				end = s.at + len(o)
				break
			}
		}
		s.add(sign, end)
	}
}

// inName reports whether a byte goes on with a name.
func inName(c byte) bool { return wordSign(c) || c == '$' || c >= 0x80 }

// comment skips one that ends with the line.
func (s *scanner) comment() bool {
	for _, mark := range s.Comments {
		if !strings.HasPrefix(s.rest(), mark) {
			continue
		}
		if mark == "//" && s.at > 0 && s.source[s.at-1] == ':' {
			continue // of an address without quotes
		}
		if end := strings.IndexByte(s.rest(), '\n'); end >= 0 {
			s.at += end
		} else {
			s.at = len(s.source)
		}
		return true
	}
	return false
}

// block skips a comment over several lines; one that nothing closes is none.
func (s *scanner) block() bool {
	for _, b := range s.Blocks {
		if !strings.HasPrefix(s.rest(), b[0]) || s.unclosed[b[0]] {
			continue
		}
		if end := strings.Index(s.rest()[len(b[0]):], b[1]); end >= 0 {
			s.skip(s.at + len(b[0]) + end + len(b[1]))
			return true
		}
		s.never(b[0])
	}
	return false
}

func (s *scanner) never(opening string) {
	if s.unclosed == nil {
		s.unclosed = map[string]bool{}
	}
	s.unclosed[opening] = true
}

// quote takes a text, and the code in it.
func (s *scanner) quote() bool {
	c := s.source[s.at]
	for _, q := range s.quotes[c] {
		if !strings.HasPrefix(s.rest(), q.Open) {
			continue
		}
		if s.unclosed[q.Open] || wordSign(c) && s.at > 0 && wordSign(s.source[s.at-1]) {
			return false
		}
		return s.quoted(q)
	}
	return false
}

func (s *scanner) quoted(q *ecosystem.Quote) bool {
	from := s.at + len(q.Open)
	end, inner := s.textEnd(q, from)
	if end < 0 {
		if q.Lines {
			s.never(q.Open)
		}
		return false
	}
	s.out = append(s.out, token{text, s.line, int32(s.at), s.source[from:end]})
	for _, code := range inner {
		s.skip(code[0])
		s.out = append(s.out, token{sign, s.line, int32(s.at), "("})
		for s.at < code[1] {
			s.next()
		}
		s.out = append(s.out, token{sign, s.line, int32(s.at), ")"})
	}
	s.skip(max(s.at, end+len(q.Close)))
	return true
}

// textEnd is where a text ends that begins at an offset, and the two ends of each piece of code in
// it; -1 if nothing closes it.
func (s *scanner) textEnd(q *ecosystem.Quote, from int) (end int, code [][2]int) {
	for i := from; i < len(s.source); i++ {
		if q.Most > 0 && i > from+q.Most {
			return -1, nil
		}
		switch c := s.source[i]; {
		case c == q.Close[0] && strings.HasPrefix(s.source[i:], q.Close):
			return i, code
		case c == '\\' && !q.Raw:
			i++
		case c == '\n' && !q.Lines:
			return -1, nil
		case q.Code != "" && c == q.Code[0] && strings.HasPrefix(s.source[i:], q.Code):
			if q.Code == "{" && strings.HasPrefix(s.source[i:], "{{") {
				i++ // which stands for one brace
				continue
			}
			begin := i + len(q.Code)
			if i = braceEnd(s.source, begin); i < 0 {
				return -1, nil
			}
			code = append(code, [2]int{begin, i})
		}
	}
	return -1, nil
}

// maxInner is how long in bytes code in a text can be.
const maxInner = 4 << 10

// braceEnd is where the brace closes that was opened before an offset; -1 if it doesn't.
func braceEnd(source string, from int) int {
	depth := 1
	for i := from; i < min(len(source), from+maxInner); i++ {
		switch source[i] {
		case '{':
			depth++
		case '}':
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// valueBegins reports whether a value can begin here, and not what connects two.
func (s *scanner) valueBegins() bool {
	if len(s.out) == 0 {
		return true
	}
	last := s.out[len(s.out)-1]
	return last.kind == sign && !slices.Contains([]string{")", "]", "}"}, last.text) ||
		last.kind == name && slices.Contains([]string{"return", "case", "when", "if", "and", "or"},
			last.text)
}

// pattern takes a regular expression, which ends on its line.
func (s *scanner) pattern() bool {
	rest, class := s.rest(), false
	for i := 1; i < len(rest) && rest[i] != '\n'; i++ {
		switch rest[i] {
		case '\\':
			i++
		case '[':
			class = true
		case ']':
			class = false
		case '/':
			if !class {
				s.out = append(s.out, token{text, s.line, int32(s.at), rest[1:i]})
				s.skip(s.at + i + 1)
				return true
			}
		}
	}
	return false
}

func wordSign(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
