package diagnose

import (
	"bytes"
	"cmp"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"nimbleharbor/internal/expr"
)

// Cause is what a log shows to be the cause.
type Cause struct {
	Code   string `json:"code"`
	Cause  string `json:"cause"`
	Remedy string `json:"remedy"`
	Line   int    `json:"line"`  // the last that shows it, the first of the log being 1
	Text   string `json:"text"`  // of that line, without escape sequences
	Times  int    `json:"times"` // how many lines show it
	// Of is what the line says it of: an address, a setting, a package; empty where it names none.
	Of string `json:"of,omitempty"`

	rank    rank
	passing bool
	telling bool // the line says of what
	index   int  // of its rule
}

// Reading is what a log says.
type Reading struct {
	Causes   []Cause   `json:"causes"`   // the one nearest to the root first
	Harmless []Cause   `json:"harmless"` // what only looks bad
	Lines    int       `json:"lines"`
	First    *Spoken   `json:"firstError,omitempty"` // the first line that speaks of an error
	Frame    *Spoken   `json:"ownFrame,omitempty"`   // below it, the first place of one's own
	Decisive *Decisive `json:"decisive,omitempty"`   // what says of its own end why
	Last     []Spoken  `json:"last"`                 // the last lines that say something
	CameUp   int       `json:"cameUp"`               // its last line about a server; 0 for none
}

// Spoken is a line of a log.
type Spoken struct {
	Line int    `json:"line"`
	Text string `json:"text"`
}

// Limits of what is kept of a log: of one line in bytes, of a text that is shown in characters, of
// the lines at its end.
const (
	maxLine  = 64 << 10
	maxShown = 300
	overlap  = 1 << 10
	lastKept = 8
	// sameEvent is for how many lines behind one that says what a cause is about others may tell of
	// the same event, and say less.
	sameEvent = 30
	// frames is for how many lines below an error a place in the project's own code is looked for.
	frames = 60
)

// special are expressions that are looked for beside the rules.
var (
	cameUp = expr.New(
		`(?i)listening (?:on|at)\b|ready to accept connections|(?:server|application|app|worker|service)s? (?:is |` +
			`are |has )?(?:now )?(?:running|started|listening|ready)\b|` +
			`started (?:\w+ ){1,3}in [\d.]+ ?(?:s|ms|seconds)|compiled successfully|ready in [\d.]+ ?m?s|` +
			`startup complete|ready for connections|successfully connected|connected to (?:the )?(?:database|` +
			`postgres\w*|mysql|redis|mongo\w*|rabbitmq|kafka|broker)`)
	// notUp are lines that speak of a server that is not up, or ask.
	notUp = expr.New(`(?i)\bis the (?:\w+ )?(?:server|service|daemon) running|\bnot (?:yet )?(?:running|ready|` +
		`started)|running\?|` + `\b(?:if|unless|whether|until|when) `)
	speaksOfError = expr.New(
		`(?i)\b(?:error|fatal|panic|exception|traceback|failed|failure|cannot|can't|could not|unable to|denied|` +
			`refused)\b|\w(?:Error|Exception)\b|\bERR!`)
	// noError are lines that speak of an error and report none.
	noError = expr.New(
		`(?i)\b(?:0|no|without) (?:errors?|failures?|failed)\b|\berrors?[:=] ?(?:0|none|null|false)\b|` +
			`errors?(?:\.log|handler|-handler|_handler)|` +
			`\b(?:debug|trace|info)\b.*\berror (?:page|handling|reporting|log)`)
	// frame is a place in code, as stack traces of most languages write it.
	frame = expr.New(
		`(?:^|[\s("'])((?:/|\.{0,2}/|[A-Za-z]:\\)?[\w@.+~/\\-]+\.(?:js|mjs|cjs|ts|tsx|jsx|py|rb|php|java|kt|go|rs|` +
			`ex|exs|cs|fs)(?::\d+|:line \d+|", line \d+|\(\d+\)))`)
	// foreign are places of packages and of runtimes.
	foreign = expr.New(
		`node_modules|node:|internal/|site-packages|dist-packages|/lib/python|/gems/|/vendor/|/rubygems|` +
			`/usr/(?:local/)?(?:lib|share|go|src)|/\.cargo/|/rustc/|/go/pkg/|/deps/|<frozen|\.m2/|jdk\.|java\.base`,
	)
)

// What an expression is looked for that is none of a rule.
const (
	isUp   = -1 // the sign that something came up
	isHead = -2 // a word of lines that may decide
)

// catalogue is the rules that are known, and how they are found.
type catalogue struct {
	rules []LogRule
	// by the number of an expression: its rule, or what else it is looked for
	of    []int
	exprs []*expr.Expr
	words *automaton
}

var builtIn = sync.OnceValue(func() *catalogue { return newCatalogue(Logs()) })

// newCatalogue makes rules ready to be looked for.
func newCatalogue(rules []LogRule) *catalogue {
	out := &catalogue{rules: rules}
	var words [][]string
	add := func(rule int, e *expr.Expr) {
		out.of, out.exprs = append(out.of, rule), append(out.exprs, e)
		words = append(words, wordsOf(e.String()))
	}
	for i, r := range rules {
		for _, e := range r.lines {
			add(i, e)
		}
	}
	add(isUp, cameUp)
	add(isHead, headWord)
	out.words = newAutomaton(words)
	return out
}

// Reader reads a log, in pieces of any size, and remembers what matters: as much of a long one as
// of a short one.
type Reader struct {
	known *catalogue
	out   Reading
	best  map[int]*Cause // by the rule's index

	rest   []byte // a line whose end has not come
	wide   bool   // it is UTF-16,
	little bool   // with the low byte first
	begun  bool
	odd    []byte // of a character of two bytes, the first
	left   int    // for how many lines a frame is looked for
	// deciding finds what decides, in the lines of this piece that have a word of it
	deciding decider
	heads    []int
	plain    []byte // room for a piece without escape sequences
	last     [lastKept]Spoken
	tail     int
}

// NewReader makes a reader of one log, which knows more rules than the built-in ones; those go
// first.
func NewReader(more ...LogRule) *Reader {
	known := builtIn()
	if len(more) > 0 {
		known = newCatalogue(append(slices.Clone(more), Logs()...))
	}
	return &Reader{known: known, best: map[int]*Cause{}}
}

// Write reads on. It never fails.
func (r *Reader) Write(p []byte) (int, error) {
	n := len(p)
	if !r.begun {
		if r.odd = append(r.odd, p...); len(r.odd) < 2 {
			return n, nil
		}
		p, r.odd, r.begun = r.odd, nil, true
		if p[0] == 0xff && p[1] == 0xfe || p[0] == 0xfe && p[1] == 0xff {
			r.wide, r.little = true, p[0] == 0xff
			p = p[2:]
		}
	}
	if r.wide {
		p = r.narrow(p)
	}
	for len(p) > 0 {
		end := bytes.LastIndexByte(p, '\n')
		if end < 0 {
			r.keep(p)
			break
		}
		if len(r.rest) > 0 {
			first := bytes.IndexByte(p, '\n')
			r.keep(p[:first])
			r.piece(append(r.rest, '\n'))
			r.rest = r.rest[:0]
			p, end = p[first+1:], end-first-1
			if end < 0 {
				continue
			}
		}
		r.piece(p[:end+1])
		p = p[end+1:]
	}
	return n, nil
}

// keep keeps what of a line has come. One that is too long is looked at in pieces, each of which
// begins with the end of the one before.
func (r *Reader) keep(p []byte) {
	for len(p) > 0 {
		n := min(len(p), maxLine-len(r.rest))
		r.rest = append(r.rest, p[:n]...)
		p = p[n:]
		if len(r.rest) == maxLine {
			r.piece(append(r.rest, '\n'))
			r.out.Lines--
			r.rest = append(r.rest[:0], r.rest[maxLine-overlap:maxLine]...)
		}
	}
}

// narrow turns UTF-16 into UTF-8.
func (r *Reader) narrow(p []byte) []byte {
	p = append(r.odd, p...)
	even := len(p) &^ 1
	r.odd = append([]byte(nil), p[even:]...)
	units := make([]uint16, even/2)
	for i := range units {
		if r.little {
			units[i] = uint16(p[2*i]) | uint16(p[2*i+1])<<8
		} else {
			units[i] = uint16(p[2*i])<<8 | uint16(p[2*i+1])
		}
	}
	return []byte(string(utf16.Decode(units)))
}

// piece looks at whole lines.
func (r *Reader) piece(p []byte) {
	text := p
	if bytes.IndexByte(p, 0x1b) >= 0 {
		r.plain = stripped(r.plain[:0], p)
		text = r.plain
	}
	line, counted := r.out.Lines, 0 // the number of the line before counted
	r.known.words.find(text, func(end int, rules []uint16) {
		start := bytes.LastIndexByte(text[:end], '\n') + 1
		if len(rules) == 1 && r.known.of[rules[0]] == isHead && isTimed(text[start:]) {
			return
		}
		stop := end + bytes.IndexByte(text[end:], '\n')
		line += bytes.Count(text[counted:start], newline)
		counted = start
		r.look(text[start:stop], line+1, rules)
	})
	if len(r.heads) > 0 || r.deciding.left > 0 {
		r.decide(text, r.heads)
		r.heads = r.heads[:0]
	}
	if r.out.First == nil || r.left > 0 {
		r.errors(text)
	}
	r.out.Lines += bytes.Count(text, newline)
	r.ending(text)
}

var newline = []byte{'\n'}

// look asks the expressions that a word of a line stands for.
func (r *Reader) look(line []byte, number int, found []uint16) {
	for _, i := range found {
		index := r.known.of[i]
		if index < 0 {
			r.sign(index, line, number)
			continue
		}
		c := r.best[index]
		if c != nil && c.Line == number && c.telling {
			continue
		}
		at := r.known.exprs[i].FindSubmatchIndex(line)
		if at == nil {
			continue
		}
		words := wordsAt(line, at)
		if c == nil {
			rule := &r.known.rules[index]
			c = &Cause{Code: rule.Code, rank: rule.rank, passing: rule.passing, index: index}
			r.best[index] = c
		} else if c.Line == number && len(words) == 0 {
			continue // it says no more of the line than what was found
		} else if c.telling && len(words) == 0 && number-c.Line <= sameEvent {
			c.Times++
			continue // the same once more, without what it is about
		}
		if c.Line != number {
			c.Times++
		}
		c.Line, c.telling = number, len(words) > 0
		if c.Of = ""; len(words) > 0 {
			c.Of = words[0]
		}
		c.Cause, c.Remedy = r.known.rules[index].speak(words)
		c.Text = shown(line, maxShown)
		if len(line) > maxShown && at[1] > maxShown/2 { // the part that says it
			c.Text = "…" + shown(line[max(0, at[0]-maxShown/4):], maxShown-1)
		}
	}
}

// sign takes a line that is none of a rule: that something came up, or may tell why it ends.
func (r *Reader) sign(which int, line []byte, number int) {
	if which == isHead {
		if n := len(r.heads); (n == 0 || r.heads[n-1] != number) && mayBeHead(line) {
			r.heads = append(r.heads, number)
		}
		return
	}
	if r.out.CameUp != number && cameUp.Match(line) && !notUp.Match(line) {
		r.out.CameUp = number
	}
}

// wordsAt are the groups of a match that hold something.
func wordsAt(line []byte, at []int) (words []string) {
	for k := 2; k < len(at); k += 2 {
		if at[k] >= 0 && at[k+1] > at[k] {
			words = append(words, shown(line[at[k]:at[k+1]], 120))
		}
	}
	return words
}

// speak says what a rule means for the words of a line.
func (l *LogRule) speak(words []string) (cause, remedy string) {
	known, first := "", ""
	if len(words) > 0 {
		first = words[0]
		known = l.known[first]
	}
	remedy = l.do
	switch {
	case l.known != nil && known == "":
		remedy = l.otherwise
	case l.forDots != "" && strings.Contains(first, "."):
		remedy = l.forDots
	}
	return fillIn(l.says, words, known), fillIn(remedy, words, known)
}

// fillIn puts words into a text; what stands in brackets goes where its word is missing.
func fillIn(text string, words []string, known string) string {
	var out strings.Builder
	for len(text) > 0 {
		open := strings.IndexByte(text, '[')
		if open < 0 {
			break
		}
		end := strings.IndexByte(text[open:], ']')
		if end < 0 {
			break
		}
		out.WriteString(text[:open])
		if part := text[open+1 : open+end]; !strings.Contains(part, "{2}") && len(words) > 0 ||
			len(words) > 1 {
			out.WriteString(part)
		}
		text = text[open+end+1:]
	}
	out.WriteString(text)
	word := func(i int) string {
		if i < len(words) {
			return words[i]
		}
		return "it"
	}
	return strings.NewReplacer("{1}", word(0), "{2}", word(1), "{known}",
		known).Replace(out.String())
}

// errors looks for the first line that speaks of an error, and then for a place in the project's
// own code.
func (r *Reader) errors(text []byte) {
	number := r.out.Lines
	for len(text) > 0 && (r.out.First == nil || r.left > 0) {
		number++
		end := bytes.IndexByte(text, '\n')
		line := text[:min(end, 16*maxLine)]
		text = text[end+1:]
		switch {
		case r.out.First == nil:
			if speaksOfError.Match(line) && !noError.Match(line) {
				r.out.First = &Spoken{number, shown(line, maxShown)}
				r.left = frames
			}
		default:
			r.left--
			if m := frame.FindSubmatch(line); m != nil && !foreign.Match(line) {
				r.out.Frame, r.left = &Spoken{number, shown(m[1], maxShown)}, 0
			}
		}
	}
}

// ending keeps the last lines that say something.
func (r *Reader) ending(text []byte) {
	var lines [lastKept]Spoken
	number, count := r.out.Lines+1, 0
	for rest := text[:len(text)-1]; count < lastKept; {
		number--
		i := bytes.LastIndexByte(rest, '\n')
		if line := bytes.TrimSpace(rest[i+1:]); len(line) > 0 {
			lines[count] = Spoken{number, shown(line, maxShown)}
			count++
		}
		if i < 0 {
			break
		}
		rest = rest[:i]
	}
	for count--; count >= 0; count-- {
		r.last[r.tail%lastKept] = lines[count]
		r.tail++
	}
}

// Reading ends the log and tells what it says.
func (r *Reader) Reading() *Reading {
	if !r.begun {
		r.begun, r.rest = true, r.odd
	}
	if len(r.rest) > 0 {
		r.piece(append(r.rest, '\n'))
		r.rest = nil
	}
	out := r.out
	out.Decisive = r.deciding.decisive()
	out.Causes, out.Harmless, out.Last = []Cause{}, []Cause{}, []Spoken{}
	for _, c := range r.best {
		switch {
		case c.rank == harmless:
			out.Harmless = append(out.Harmless, *c)
		case c.passing && out.CameUp > c.Line:
		default:
			out.Causes = append(out.Causes, *c)
		}
	}
	slices.SortFunc(out.Causes, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(b.rank, a.rank), cmp.Compare(b.Line, a.Line),
			cmp.Compare(a.index, b.index))
	})
	slices.SortFunc(out.Harmless, func(a, b Cause) int { return cmp.Compare(a.Line, b.Line) })
	out.Causes = oneALine(out.Causes)
	for i := max(0, r.tail-lastKept); i < r.tail; i++ {
		out.Last = append(out.Last, r.last[i%lastKept])
	}
	return &out
}

// oneALine leaves one cause to each line: what else fits it says the same in other words.
func oneALine(causes []Cause) []Cause {
	var out []Cause
	for _, c := range causes {
		if !slices.ContainsFunc(out, func(o Cause) bool { return o.Line == c.Line }) {
			out = append(out, c)
		}
	}
	if out == nil {
		return []Cause{}
	}
	return out
}

// ReadLog reads a whole log.
func ReadLog(in io.Reader, more ...LogRule) (*Reading, error) {
	r := NewReader(more...)
	_, err := io.CopyBuffer(struct{ io.Writer }{r}, struct{ io.Reader }{in}, make([]byte, 256<<10))
	return r.Reading(), err
}

// shown is a text as it may be shown: valid, on one line, without escape sequences and control
// characters, and not longer than so many characters.
func shown(b []byte, limit int) string {
	if len(b) > 8*limit {
		b = b[:8*limit]
	}
	text := strings.Map(func(c rune) rune {
		switch {
		case c == '\t':
			return ' '
		case c < ' ', c >= 0x7f && c < 0xa0, c == utf8.RuneError:
			return -1
		}
		return c
	}, strings.ToValidUTF8(string(stripped(nil, b)), ""))
	text = strings.TrimSpace(text)
	if strings.ContainsAny(text, "=:@") {
		text = inAddress.ReplaceAllString(text, "$1***@")
		text = assigned.ReplaceAllString(text, "$1***")
	}
	if utf8.RuneCountInString(text) > limit {
		text = string([]rune(text)[:limit-1]) + "…"
	}
	return text
}

var (
	// inAddress is a password in an address, and assigned one that is told behind its name: neither
	// is shown of a log that may be of anybody's.
	inAddress = expr.New(`(://[^:/@\s]*:)[^@\s/]+@`)
	assigned  = expr.New(`(?i)(\b[\w-]*(?:password|passwd|secret|token|` +
		`api[_-]?key)[\w-]*["']?\s*[=:]\s*["']?)[^\s"',;&]{4,}`)
)

// stripped appends the text without its escape sequences (ECMA-48: control sequences, and strings
// up to their end).
func stripped(out, p []byte) []byte {
	for {
		i := bytes.IndexByte(p, 0x1b)
		if i < 0 {
			return append(out, p...)
		}
		out = append(out, p[:i]...)
		if p = p[i+1:]; len(p) == 0 {
			return out
		}
		switch p[0] {
		case '[':
			k := 1
			for k < len(p) && k < 64 && p[k] >= 0x20 && p[k] < 0x40 {
				k++
			}
			if k < len(p) && p[k] >= 0x40 { // its last byte; anything else is not of it
				k++
			}
			p = p[k:]
		case ']', 'P', '_', '^', 'X': // a string, which never goes beyond its line
			k := 1
			for k < len(p) && p[k] != 7 && p[k] != '\n' && p[k] != 0x1b {
				k++
			}
			if k < len(p) && p[k] == 7 {
				k++
			}
			p = p[k:]
		case '\n':
		default:
			p = p[1:]
		}
	}
}
