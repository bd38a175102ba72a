package diagnose

import (
	"bytes"
	"strings"

	"nimbleharbor/internal/expr"
)

// What decides is what a program says of its own end, whether a rule knows it or not: the last
// exception, the first error of a compiler, what an installer says was wrong. It is found by the
// forms that languages and tools give it, so that it is quoted instead of a log's last line.

// Decisive are the words that tell why something has failed.
type Decisive struct {
	Line int    `json:"line"` // the first of the log being 1
	Text string `json:"text"`
	At   string `json:"at,omitempty"` // FILE:LINE in the project's code; empty for none
}

// weight is how much a form counts: an exception before a compiler's error, that before an
// installer's. Of exceptions the last counts, of the others the first, from which the rest follows.
type weight int

const (
	ofInstaller weight = iota
	ofCompiler
	ofException
	weights
)

// head is the form of a line that begins, or is, what decides. Its groups are the text and the
// place, in the order that at tells; a place of 0 is looked for in the lines below.
type head struct {
	form     *expr.Expr
	weight   weight
	text, at int
	below    bool // the text is the next line
}

// heads are all forms, those that say more first.
var heads = []head{
	{form: expr.New(`^Caused by: ([\w$.]+(?:Exception|Error)\b.*)$`), weight: ofException, text: 1},
	{form: expr.New(`^Exception in thread "[^"]*" (.+)$`), weight: ofException, text: 1},
	{form: expr.New(`^Unhandled exception\. (.+)$`), weight: ofException, text: 1},
	{form: expr.New(`^(panic: .+|fatal error: .+)$`), weight: ofException, text: 1},
	{form: expr.New(`^thread '[^']*'(?: \(\d+\))? panicked at ([\w./-]+:\d+)(?::\d+)?:$`),
		weight: ofException, at: 1, below: true},
	{form: expr.New(`^thread '[^']*' panicked at '(.+)', ([\w./-]+:\d+)`), weight: ofException,
		text: 1, at: 2},
	{form: expr.New("^(\\S+\\.rb:\\d+):in [`'].*?': (.+ \\([\\w:]+\\))$"),
		weight: ofException, text: 2,
		at: 1},
	{form: expr.New(`^(?:PHP )?((?:Fatal|Parse) error: .+) in (\S+?(?: on line |:)\d+)`),
		weight: ofException, text: 1, at: 2},
	{form: expr.New(`^\*\* (\([\w.]+\) .+)$`), weight: ofException, text: 1},
	{form: expr.New(`^(?:Uncaught |\w+ uncaught )?((?:[\w$]+[.:/])*[A-Z][\w$]*(?:Error|Exception|` +
		`Fault)(?: \[\w+\])?(?:: .*)?)$`), weight: ofException, text: 1},
	{form: expr.New(`^((?:[\w$]+\.)*(?:SystemExit|KeyboardInterrupt|DoesNotExist|` +
		`ImproperlyConfigured): .+)$`), weight: ofException, text: 1},

	{form: expr.New(`^(?:vet: )?(\.{0,2}/?[\w./@-]+\.go:\d+)(?::\d+)?: (.+)$`), weight: ofCompiler,
		text: 2, at: 1},
	{form: expr.New(`^(error\[E\d+\]: .+|error: (?:cannot find|expected|mismatched|` +
		`unexpected) .+)$`),
		weight: ofCompiler, text: 1},
	{form: expr.New(`^([\w./@-]+\.tsx?(?:\(\d+,\d+\)|:\d+:\d+))(?: -)?:? ?(error TS\d+: .+)$`),
		weight: ofCompiler, text: 2, at: 1},
	{form: expr.New(`^(\S+\.(?:java|kt|c|cc|cpp|h|hpp|` +
		`scala)):(\d+):(?:\d+:)? (?:fatal )?(error: .+)$`),
		weight: ofCompiler, text: 3, at: 1},
	{form: expr.New(`^\[ERROR\] (\S+\.(?:java|kt):\[\d+,\d+\]) (.+)$`), weight: ofCompiler, text: 2,
		at: 1},
	{form: expr.New(`^(\S+\.(?:cs|fs|vb)\(\d+,\d+\)): (error \w+: .+)$`),
		weight: ofCompiler, text: 2,
		at: 1},
	{form: expr.New(`^(?:✘|✗|×|X) ?\[?(?i:error)\]? (.+)$`), weight: ofCompiler, text: 1},

	{form: expr.New(`^npm (?:ERR!|error) (?:\d{3} |notarget |peer )?((?:[A-Z]|No matching|` +
		`Found:).+)$`),
		weight: ofInstaller, text: 1},
	{form: expr.New(`^ ?(ERR_PNPM_\w+ .+)$`), weight: ofInstaller, text: 1},
	{form: expr.New(`^(?:ERROR|E|error|fatal): (.+)$`), weight: ofInstaller, text: 1},
	{form: expr.New(`^➤ YN\d+:.*?│? ?(.*(?:failed|couldn't|can't|No candidates).*)$`),
		weight: ofInstaller, text: 1},
}

// headWord is what is in every line of these forms; the log is looked at closely only there.
var headWord = expr.New(`(?i)error|exception|fault|panic|fatal|traceback|systemexit|` +
	`keyboardinterrupt|doesnotexist|improperlyconfigured|err_pnpm|failed|\.go:\d|\*\* \(|` +
	`couldn't|candidates`)

// traceBegins is a line behind which places come first, and what was thrown after them (The Python
// Standard Library, traceback).
var traceBegins = expr.New(`^(?:Traceback \(most recent call last\):|ERROR:? Traceback)`)

// headStarts are how lines of the forms begin, by their first byte, unless their first word tells
// by itself.
var headStarts = byFirst("Caused by: ", "Exception in ", "Unhandled ", "Uncaught ", "panic: ",
	"fatal", "thread '", "PHP ", "Fatal error", "Parse error", "** (", "error", "ERROR",
	"E: ", "npm ",
	" ERR_PNPM", "ERR_PNPM", "➤", "✘", "✗", "×", "X ", "[ERROR]", "Traceback", "vet: ")

func byFirst(starts ...string) (out [256][][]byte) {
	for _, s := range starts {
		out[s[0]] = append(out[s[0]], []byte(s))
	}
	return out
}

// headEnds are how the first word of a line ends that is one of the forms by itself; headFiles is
// such a word where it is a place.
var (
	headEnds = [][]byte{[]byte("Error"), []byte("Exception"), []byte("Fault"), []byte("SystemExit"),
		[]byte("KeyboardInterrupt"), []byte("DoesNotExist"), []byte("ImproperlyConfigured")}
	headFiles = expr.New(`\.(?:go|rb|tsx?|java|kt|c|cc|cpp|h|hpp|scala):\d|\.(?:tsx?|cs|fs|vb)\(\d`)
)

// mayBeHead is a quick look at a line that has a word of an end: most logs have one in many lines
// that decide nothing.
func mayBeHead(line []byte) bool {
	if line = withoutNames(line); len(line) == 0 {
		return false
	}
	for _, s := range headStarts[line[0]] {
		if bytes.HasPrefix(line, s) {
			return true
		}
	}
	word, _, _ := bytes.Cut(line, []byte{' '})
	if line[0] >= '0' && line[0] <= '9' || len(word) > 300 {
		return false // a time, or nothing that was written to be read
	}
	if bytes.IndexByte(word, '.') >= 0 && bytes.ContainsAny(word, ":(") && headFiles.Match(word) {
		return true
	}
	word = bytes.TrimRight(word, ":")
	for _, w := range headEnds {
		if bytes.HasSuffix(word, w) {
			return true
		}
	}
	return false
}

// isTimed reports whether a line begins with a date: then a logger wrote it, and it is none of the
// forms.
func isTimed(line []byte) bool {
	return len(line) > 4 && line[0] >= '0' && line[0] <= '9' && line[1] >= '0' && line[1] <= '9' &&
		line[2] != ':'
}

// withoutNames is a line without what programs that start several others put before it.
func withoutNames(line []byte) []byte {
	for {
		switch {
		case len(line) > 2 && line[0] == '[' && !levelFirst.Match(line):
			end := bytes.Index(line[:min(len(line), 34)], []byte("] "))
			if end < 0 {
				return line
			}
			line = line[end+2:]
			continue
		case len(line) > 9 && line[2] == ':' && line[5] == ':' && line[0] >= '0' && line[0] <= '9':
			line = bytes.TrimLeft(line[8:], " AMP")
			continue
		}
		name, _, found := bytes.Cut(line[:min(len(line), 30)], []byte("| "))
		if !found || bytes.ContainsAny(bytes.TrimRight(name, " "), " \t") {
			return line
		}
		line = line[len(name)+2:]
	}
}

// levelFirst is a word in brackets that is no program's name.
var levelFirst = expr.New(`^\[(?i:error|fatal|warn(?:ing)?|info|debug|notice)\]`)

// wrapper are lines with which those who have started something say that it failed: they name no
// cause.
var wrapper = expr.New(`(?i)^(?:make(?:\[\d+\])?: (?:\*\*\*|Leaving)|npm (?:ERR!|` +
	`error)\s*(?:A complete log|code (?:ELIFECYCLE|1)\b|errno|path |command |Lifecycle|` +
	`Exit status|This is probably not|$)|(?:error )?Command failed with exit code|info Visit |` +
	`\s*ELIFECYCLE|exit status \d+$|Node\.js v\d|rake aborted!|\(See full trace|Tasks: TOP|` +
	`error: script ".*" exited|error: Recipe|task: Failed|\[ERROR\] (?:Re-run|To see|For more|` +
	`->)|.*process exited with code \d+|subprocess exited)`)

// noise are lines that managers and runtimes say beside what they do: notices, advertisements,
// warnings of what is old.
var noise = expr.New(`(?i)^(?:npm (?:notice|warn)|\[notice\]|(?:yarn )?warning\b|warn\b|WARN\b|` +
	`notice:|\(Use .node --trace|\(node:\d+\) |.*DeprecationWarning|info (?:no lockfile|visit)|` +
	`\d+ packages? (?:is|are) looking for funding|run .npm (?:fund|audit)|` +
	`found 0 vulnerabilities|.*\d+ (?:low|moderate|high|critical) severity|` +
	`To address (?:all )?issues|WARNING: (?:Running pip as|You are using pip|` +
	`There was an error checking)|done in [\d.]+ ?m?s)`)

// Noise reports whether a line says nothing of what happens or has failed.
func Noise(line string) bool { return wrapper.MatchString(line) || noise.MatchString(line) }

// Limits of a trace: for how many lines its places are looked for, before what was thrown and
// after.
const (
	placesBefore = 400
	placesBehind = 60
)

// decider finds what decides.
type decider struct {
	left   int // for how many lines what has begun may go on
	before bool
	at     string    // the nearest place of the project's own, of a trace that begins with places
	open   *Decisive // whose place, or text, is still looked for
	below  bool      // its text is the next line
	found  [weights]*Decisive
}

// line looks at one line.
func (d *decider) line(line []byte, number int) {
	line = withoutNames(bytes.TrimRight(line[:min(len(line), maxLine)], "\r\t "))
	if d.left > 0 {
		d.left--
	}
	switch {
	case d.below && len(line) > 0:
		d.open.Text, d.below, d.left = shown(line, maxShown), false, 0
		return
	case mayBeHead(line):
		text := string(line)
		if traceBegins.MatchString(text) {
			d.before, d.at, d.open, d.left = true, "", nil, placesBefore
			return
		}
		if d.heads(text, number) {
			return
		}
	}
	if d.left == 0 || !mayHavePlace(line) {
		return
	}
	m := frame.FindSubmatch(line)
	if m == nil || foreign.Match(line) || isClassFile(string(m[1])) {
		return
	}
	switch place := plainPlace(string(m[1])); {
	case d.before:
		d.at = place // the last is the nearest
	case d.open != nil:
		d.open.At, d.open, d.left = place, nil, 0
	}
}

// mayHavePlace is a quick look whether a line may have a place in code: a dot before a letter.
func mayHavePlace(line []byte) bool {
	for {
		i := bytes.IndexByte(line, '.')
		if i < 0 || i+3 >= len(line) {
			return false
		}
		if line = line[i+1:]; line[0] >= 'c' && line[0] <= 't' {
			return true
		}
	}
}

// heads looks whether a line is what decides, or begins it.
func (d *decider) heads(text string, number int) bool {
	if Noise(text) {
		return false
	}
	for i := range heads {
		h := &heads[i]
		m := h.form.FindStringSubmatch(text)
		if m == nil {
			continue
		}
		if h.weight != ofException && d.found[h.weight] != nil {
			return true // the rest follows from the first
		}
		found := &Decisive{Line: number}
		if !h.below {
			found.Text = shown([]byte(m[h.text]), maxShown)
		}
		if h.at > 0 && !foreign.MatchString(m[h.at]) {
			found.At = plainPlace(m[h.at])
		}
		d.found[h.weight] = found
		d.open, d.below, d.left = found, h.below, placesBehind
		if d.before {
			found.At, d.before, d.open, d.left = d.at, false, nil, 0
		} else if found.At != "" && !h.below {
			d.open, d.left = nil, 0
		}
		return true
	}
	return false
}

// decisive is what decides, by all that was seen; nil for nothing.
func (d *decider) decisive() *Decisive {
	for w := weights - 1; w >= 0; w-- {
		if f := d.found[w]; f != nil && f.Text != "" {
			return f
		}
	}
	return nil
}

// isClassFile reports whether a place is a file by its name alone, as virtual machines write them:
// it may be anybody's.
func isClassFile(place string) bool {
	return !strings.Contains(place, "/") && classFile.MatchString(place)
}

var classFile = expr.New(`\.(java|kt|scala)[:(]`)

// plainPlace is a place as FILE:LINE.
func plainPlace(place string) string {
	return placeForm.ReplaceAllString(strings.TrimPrefix(place, "file://"), ":$1")
}

var placeForm = expr.New(`(?:", line | on line |:line |[(\[:]\[?)(\d+)(?:[,:]\d+)?[)\]]*$`)

// decide looks at the lines of a piece in which something may be said of an end: those with a word
// of it, and those behind.
func (r *Reader) decide(text []byte, at []int) {
	number := r.out.Lines
	for len(text) > 0 && (r.deciding.left > 0 || len(at) > 0) {
		number++
		end := bytes.IndexByte(text, '\n')
		line := text[:end]
		text = text[end+1:]
		for len(at) > 0 && at[0] < number {
			at = at[1:]
		}
		if r.deciding.left > 0 || len(at) > 0 && at[0] == number {
			r.deciding.line(line, number)
		}
	}
}
