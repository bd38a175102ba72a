// Package code finds what programs read and open, in any language that the ecosystems know:
// environment variables, with whether the code can do without them; settings files that it loads by
// their path; addresses that are written into it.
package code

import (
	"bytes"
	"cmp"
	"path"
	"runtime"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/tree"
)

// MaxSize is the size in bytes beyond which a file is no code that people have written.
const MaxSize = 512 << 10

// Reader looks at files of code while the walk still goes on. Its goroutines end when all that it
// was told of is read; Done waits for them.
type Reader struct {
	fsys   *reading.Files
	jobs   chan folder
	folder folder // that is being told of
	wait   beside.Group

	mu    sync.Mutex
	found Found
}

// Found is what was found in code.
type Found struct {
	Files   []File // that read anything, in the outer folders first
	Gives   []Gives
	Loads   []Load
	Written []Address
}

// Load is a settings file that code loads by its path, which is relative to the folder that the
// program runs in or, where Beside is true, to that of the code.
type Load struct {
	Path   string
	Beside bool
	At     stack.Place
}

// folder is a folder's files of code.
type folder struct {
	dir   string
	names []string
}

// File is what one file reads.
type File struct {
	Dir, Name string
	Reads     []stack.Read // without their project
}

// Gives is a variable that code itself sets.
type Gives struct{ Dir, Name string }

// New makes a reader, whose goroutines wait for files of code. All must be called, and Done.
func New(fsys *reading.Files) *Reader {
	c := &Reader{fsys: fsys, jobs: make(chan folder, 64)}
	for range 2 * runtime.NumCPU() {
		c.wait.Go(func() {
			buffer := make([]byte, MaxSize+1)
			for f := range c.jobs {
				if tree.Aside.MatchString(f.dir) || tree.OfTests.MatchString(f.dir+"/") {
					continue
				}
				c.read(f, buffer)
			}
		})
	}
	return c
}

// Tell takes a file of code; those of a folder come one after the other.
func (c *Reader) Tell(dir, name string) {
	if dir != c.folder.dir && len(c.folder.names) > 0 {
		c.jobs <- c.folder
		c.folder = folder{}
	}
	c.folder.dir = dir
	c.folder.names = append(c.folder.names, name)
}

// All says that no more files come.
func (c *Reader) All() {
	if len(c.folder.names) > 0 {
		c.jobs <- c.folder
	}
	close(c.jobs)
}

// Done waits until everything is read, and gives what was found.
func (c *Reader) Done() *Found {
	c.wait.Wait()
	slices.SortFunc(c.found.Files, func(a, b File) int {
		return cmp.Or(tree.ByDepth(a.Dir, b.Dir), strings.Compare(a.Name, b.Name))
	})
	slices.SortFunc(c.found.Written, func(a, b Address) int {
		return cmp.Or(strings.Compare(a.At.File, b.At.File), a.At.Line-b.At.Line)
	})
	return &c.found
}

func (c *Reader) read(f folder, buffer []byte) {
	for _, name := range f.names {
		if mayBeTest(name) && tree.OfTests.MatchString(name) {
			continue
		}
		if reads := c.readsOf(path.Join(f.dir, name), buffer); len(reads) > 0 {
			c.mu.Lock()
			c.found.Files = append(c.found.Files, File{f.dir, name, reads})
			c.mu.Unlock()
		}
	}
}

// mayBeTest is a quick look at a name before tree.OfTests.
func mayBeTest(name string) bool {
	lower := strings.ToLower(name)
	return strings.Contains(lower, "test") || strings.Contains(lower, "spec") ||
		strings.Contains(lower, "stories")
}

var (
	givesUp = expr.New(`\b(throw|raise|panic|exit|abort|Fatal|fail)\b`)
	// goesOn finds what is done first where something is absent.
	goesOn = expr.New(`\b(throw|raise|panic|exit|abort|Fatal|fail|return|continue|pass|next)\b`)
	// comment is how a line begins, or goes on, that is none of the program's.
	comment = expr.New(`^\s*(//|#|\*|/\*|<!--|--)|\s(//|#) `)
	// condition is a line whose block is run only in some case.
	condition = expr.New(`^(\}\s*)?(if|elif|else if|else|elsif|unless|case|when|catch|except|rescue|switch|match)\b`)
	// always is a condition that holds wherever the file is run as a program.
	always = expr.New(`__name__|require\.main|\$0|import\.meta\.main`)
)

// inComment reports whether the line that the text ends in is a comment by then.
func inComment(before string) bool {
	line := before[strings.LastIndexByte(before, '\n')+1:]
	return strings.ContainsAny(line, "/#*-") && comment.MatchString(line)
}

// maxAbove is how many lines above a place are looked at.
const maxAbove = 300

// underCondition reports whether the line that the text ends in lies in a block, by its
// indentation, that is run only in some case.
func underCondition(before string) bool {
	indentOf := func(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }
	start := strings.LastIndexByte(before, '\n') + 1
	indent := indentOf(before[start:])
	for range maxAbove {
		if start == 0 || indent == 0 {
			return false
		}
		end := start - 1
		start = strings.LastIndexByte(before[:end], '\n') + 1
		line := strings.TrimRight(before[start:end], "\r")
		if strings.TrimSpace(line) == "" || indentOf(line) >= indent {
			continue
		}
		indent = indentOf(line)
		if head := strings.TrimSpace(line); condition.MatchString(head) &&
			!always.MatchString(head) {
			return true
		}
	}
	return false
}

// looksFirst is a line that lets the next one run only under a condition.
var looksFirst = expr.New(`^(\}\s*)?(if|elif|else if|elsif|unless)\b`)

// asks tells whether code asks for what follows only to see if it is there, or if it is absent.
func asks(before, name string) (there, absent bool) {
	start := strings.LastIndexByte(before, '\n') + 1
	line := before[start:]
	above := strings.TrimRight(before[:start], "\r\n")
	above = strings.TrimSpace(above[strings.LastIndexByte(above, '\n')+1:])
	if above == "try:" || looksFirst.MatchString(above) && strings.Contains(above, name) {
		return true, false // its absence is taken care of
	}
	bare := strings.TrimRight(line, " \t(")
	word := func(s, w string) bool {
		rest, ok := strings.CutSuffix(s, w)
		return ok && (rest == "" || strings.ContainsRune(" \t({};", rune(rest[len(rest)-1])))
	}
	switch {
	case word(bare, "if"), word(bare, "elif"), word(bare, "when"), strings.HasSuffix(bare, "||"),
		strings.HasSuffix(bare, "??"):
		return true, false
	case word(bare, "unless"):
		return false, true
	}
	if rest, ok := strings.CutSuffix(bare, "!"); ok {
		bare = rest
	} else if rest, ok := strings.CutSuffix(bare, "not"); ok {
		bare = rest
	} else {
		return false, false
	}
	bare = strings.TrimRight(bare, " \t(")
	return false, word(bare, "if") || word(bare, "elif")
}

var (
	// keeps is a line's beginning that keeps what follows under a name.
	keeps = expr.New(`(?:^|[\s;({,])([A-Za-z_]\w*)\s*(?::\s*[\w.<>| ]+)?\s*:?=\s*(?:str\(|String\()?$`)
	// isAbsent is what stands before a name whose absence is asked for, isNothing what stands
	// behind one, with asksIf before it, and insists what stands before one that must be there.
	isAbsent  = expr.New(`^(?:\}\s*)?(?:(?:if|elif|else if)\s*\(?\s*(?:!|not\s)\s*\(?|unless\s*\(?\s*)$`)
	asksIf    = expr.New(`^(?:\}\s*)?(?:if|elif|else if)\s*\(?\s*(?:len\()?$`)
	isNothing = expr.New(`^(?:\)\s*==\s*0|\s*(?:===?|is)\s*(?:""|''|nil|null|undefined|None)|` +
		`\.(?:is_?[eE]mpty|blank\?|nil\?)\b)`)
	insists = expr.New(`^(?:assert|invariant)\s*\(?\s*$`)
)

// givesUpWithout reports whether code keeps a variable under a name, and ends soon after if there
// is nothing under it.
func givesUpWithout(before, after string) bool {
	kept := keeps.FindStringSubmatch(before[strings.LastIndexByte(before, '\n')+1:])
	if kept == nil {
		return false
	}
	for from := 0; ; {
		i := strings.Index(after[from:], kept[1])
		if i < 0 {
			return false
		}
		at, end := from+i, from+i+len(kept[1])
		from = end
		if at > 0 && wordSign(after[at-1]) || end < len(after) && wordSign(after[end]) {
			continue
		}
		head := strings.TrimLeft(after[strings.LastIndexByte(after[:at], '\n')+1:at], " \t;")
		switch tail := after[end:min(len(after), end+160)]; {
		case insists.MatchString(head):
			return true
		case isAbsent.MatchString(head), asksIf.MatchString(head) && isNothing.MatchString(tail):
			return givesUp.MatchString(goesOn.FindString(tail))
		}
	}
}

// formAt is a form whose anchor stands in a file, from that place on.
type formAt struct {
	form *ecosystem.CodeForm
	from int
}

// formsIn finds the forms that may fit in a file. Each hint is looked for once.
func formsIn(data []byte, forms []ecosystem.CodeForm) (found []formAt) {
	hint, at := "", -1
	for i := range forms {
		f := &forms[i]
		text, inAnchor := f.Hint()
		if text != hint {
			hint, at = text, bytes.Index(data, []byte(text))
		}
		if at < 0 {
			continue
		}
		from := 0
		if inAnchor {
			from = max(0, at-len(f.Anchor))
		}
		if k := bytes.Index(data[from:], []byte(f.Anchor)); k >= 0 {
			found = append(found, formAt{f, from + k})
		}
	}
	return found
}

// readsOf finds what one file reads. The buffer is for its content, and larger than any file of
// code.
func (c *Reader) readsOf(file string, buffer []byte) []stack.Read {
	n, err := c.fsys.Pass(file, buffer)
	if err != nil || n > MaxSize {
		return nil
	}
	of := ecosystem.OfCode(path.Ext(file))
	data := buffer[:n]
	c.loadsOf(file, data)
	if of == ecosystem.Named("node") {
		c.addressesOf(file, data)
	}
	found := formsIn(data, of.Reads)
	schemas := slices.DeleteFunc(slices.Clone(of.Schemas), func(s ecosystem.Schema) bool {
		return len(found) == 0 && (s.Root == "" || !bytes.Contains(data, []byte(s.Root)))
	})
	if len(found) == 0 && len(schemas) == 0 {
		return nil
	}
	text := string(data)
	var out []stack.Read
	for _, f := range found {
		out = readsBy(out, f, text, file, func(name string) {
			c.mu.Lock()
			c.found.Gives = append(c.found.Gives, Gives{path.Dir(file), strings.Clone(name)})
			c.mu.Unlock()
		})
	}
	for _, schema := range schemas {
		out = checkedBy(out, &schema, text, file)
	}
	slices.SortStableFunc(out, func(a, b stack.Read) int { return a.At.Line - b.At.Line })
	return out
}

var (
	loadsFile = expr.New(
		`(?:config\(\s*\{[^}]*?path:|load_dotenv\(|dotenv_path\s*=|env_file\s*=|godotenv\.(?:Load|Overload)\()` +
			`\s*(?:(?:path\.)?(?:resolve|join)\(\s*(__dirname|import\.meta\.dirname|process\.cwd\(\))\s*,\s*)?` +
			`["'\x60]([\w./-]+)["'\x60]`,
	)
	// Such are the names of files in which programs begin, or are told how to.
	loadingNames = []string{"config", "server", "main", "index", "app", "env", "settings", "load",
		"db", "database",
		"bootstrap", "setup"}
	loadAnchors = [][]byte{[]byte("dotenv"), []byte("env_file")}
)

// loadsOf keeps which settings files a file of code loads.
func (c *Reader) loadsOf(file string, data []byte) {
	if name := path.Base(file); !slices.ContainsFunc(
		loadingNames,
		func(word string) bool { return strings.Contains(name, word) },
	) || !slices.ContainsFunc(loadAnchors, func(a []byte) bool { return bytes.Contains(data, a) }) {
		return
	}
	for _, m := range loadsFile.FindAllSubmatchIndex(data, -1) {
		load := Load{Path: string(data[m[4]:m[5]]),
			At: stack.Place{File: file, Line: 1 + bytes.Count(data[:m[0]], []byte("\n"))}}
		load.Beside = m[2] >= 0 && data[m[2]] != 'p'
		c.mu.Lock()
		c.found.Loads = append(c.found.Loads, load)
		c.mu.Unlock()
	}
}

// checkedBy adds the variables that a file lists in a schema of the environment.
func checkedBy(out []stack.Read, schema *ecosystem.Schema, text, file string) []stack.Read {
	has := func(word string) bool { return strings.Contains(text, word) }
	if !slices.ContainsFunc(schema.Library, has) || !slices.ContainsFunc(schema.With, has) {
		return out
	}
	if schema.Scope == nil {
		return entriesOf(out, schema, text, 0, "", file, text)
	}
	for _, c := range classesOf(schema, text) {
		out = entriesOf(out, schema, c.body, c.offset, c.prefix, file, text)
	}
	return out
}

// class is a named part of a file of code with entries.
type class struct {
	name, body, prefix string
	offset             int      // of the body in the file
	of                 []string // what it is made of
	counts             bool
}

// classesOf finds the parts of a file whose entries are variables: those made of the schema's root,
// directly or by way of others, and all that such a part is made of, which take over its prefix.
func classesOf(schema *ecosystem.Schema, text string) (out []*class) {
	byName := map[string]*class{}
	var all []*class
	for _, at := range schema.Scope.FindAllStringSubmatchIndex(text, -1) {
		c := &class{name: text[at[2]:at[3]], body: text[at[1]:], offset: at[1],
			of: strings.FieldsFunc(text[at[4]:at[5]],
				func(r rune) bool { return !wordSign(byte(r)) })}
		if end := unindented.FindStringSubmatchIndex(c.body); end != nil {
			c.body = c.body[:end[0]]
		}
		if m := schema.Prefix.FindStringSubmatch(c.body); m != nil {
			c.prefix = m[1]
		}
		byName[c.name], all = c, append(all, c)
	}
	var count func(c *class, prefix string)
	count = func(c *class, prefix string) {
		if c == nil || c.counts {
			return
		}
		c.counts = true
		if c.prefix == "" {
			c.prefix = prefix
		}
		for _, name := range c.of {
			count(byName[name], c.prefix)
		}
	}
	settings := map[string]bool{schema.Root: true}
	for _, c := range all { // a class stands before those that are made of it
		if slices.ContainsFunc(c.of, func(name string) bool { return settings[name] }) {
			settings[c.name] = true
		}
	}
	for _, c := range all {
		if settings[c.name] {
			count(c, c.prefix)
		}
	}
	for _, c := range all {
		if c.counts {
			out = append(out, c)
		}
	}
	return out
}

// unindented is the beginning of a line that stands at the margin.
var unindented = expr.New(`\n[^\s#]`)

// entriesOf adds the entries of a part of a file that begins at an offset of the whole text.
func entriesOf(out []stack.Read, schema *ecosystem.Schema, part string, offset int, prefix, file,
	text string) []stack.Read {
	for _, m := range schema.Entry.FindAllStringSubmatchIndex(part, -1) {
		name, entry := part[m[2]:m[3]], entryFrom(part[m[1]:])
		if schema.Scope != nil {
			if strings.HasPrefix(name, "model_") {
				continue // what the class itself is told
			}
			entry = lineFrom(part[m[1]:])
			name = strings.ToUpper(prefix + name)
		}
		if ecosystem.Given(name) {
			continue
		}
		open := schema.Open.MatchString(entry)
		needed := !open && (schema.Needed == nil || schema.Needed.MatchString(entry))
		out = append(out, stack.Read{Name: name, Default: open, Must: needed,
			At: stack.Place{File: file, Line: 1 + strings.Count(text[:offset+m[2]], "\n")}})
	}
	return out
}

// entryFrom is the rest of an entry of a list: up to the comma, or the end, that is not in brackets
// of its own.
func entryFrom(text string) string { return until(text, ",;", true) }

// lineFrom is the rest of a line, and those below it as long as a bracket is open.
func lineFrom(text string) string { return until(text, "\n", false) }

// until is a text up to the first of the ends that is not in brackets of its own. With closed a
// bracket that closes more than the text has opened is an end, too.
func until(text, ends string, closed bool) string {
	text = text[:min(len(text), maxForm)]
	depth := 0
	for i, c := range text {
		switch {
		case strings.ContainsRune("([{", c):
			depth++
		case strings.ContainsRune(")]}", c):
			if depth--; closed && depth < 0 {
				return text[:i]
			}
		case depth <= 0 && strings.ContainsRune(ends, c):
			return text[:i]
		}
	}
	return text
}

// assigns reports whether what follows a variable gives it a value.
func assigns(after string) bool {
	after = strings.TrimLeft(after, " \t")
	return len(after) > 1 && after[0] == '=' && after[1] != '=' && after[1] != '~'
}

// readsBy adds the variables that a file reads in one form, and tells those that it sets.
func readsBy(out []stack.Read, f formAt, text, file string, gives func(name string)) []stack.Read {
	form, line, counted := f.form, 1, 0
	python := path.Ext(file) == ".py" // which looks into the environment in ways of its own
	sets, looks := python && strings.Contains(text, "setdefault("), python &&
		strings.Contains(text, " in os.environ")
	for from := f.from; ; {
		i := strings.Index(text[from:], form.Anchor)
		if i < 0 {
			return out
		}
		at := from + i
		from = at + len(form.Anchor)
		if at > 0 && wordSign(text[at-1]) && wordSign(form.Anchor[0]) {
			continue
		}
		m := form.Form.FindStringSubmatchIndex(text[at:min(len(text), at+maxForm)])
		if m == nil {
			continue
		}
		name, end := text[at+m[2]:at+m[3]], at+m[1]
		if strings.HasSuffix(text[:at], "del ") || ecosystem.Given(name) ||
			assigns(text[end:min(len(text), end+8)]) {
			gives(name)
			continue
		}
		fallback := len(m) > 5 && m[4] >= 0 && m[4] < m[5]
		if fallback && emptyText.MatchString(text[end:min(len(text), end+maxForm)]) {
			fallback = false // nothing is no value of its own
		}
		if inComment(text[:at]) {
			continue
		}
		must := form.Must && !underCondition(text[:at])
		switch asked, absent := asks(text[:at], name); {
		case asked: // the code looks whether it is there
			fallback = true
		case absent:
			does := goesOn.FindString(text[end:min(len(text), end+160)])
			must = must || givesUp.MatchString(does)
			fallback = fallback || does != "" &&
				!must // what it does without it is all that it does
		case !fallback && !must:
			must = givesUpWithout(text[:at], text[end:min(len(text), end+maxForm)]) &&
				!underCondition(text[:at])
		}
		fallback = fallback || looks && (strings.Contains(text, name+`" in os.environ`) ||
			strings.Contains(text, name+`' in os.environ`)) || sets &&
			(strings.Contains(text, `setdefault("`+name) ||
				strings.Contains(text, `setdefault('`+name))
		line, counted = line+strings.Count(text[counted:at], "\n"), at
		out = append(out, stack.Read{Name: name, At: stack.Place{File: file, Line: line},
			Default: fallback, Must: must && !fallback})
	}
}

// emptyText is a text with nothing in it, where it is all that the code has instead of a variable.
var emptyText = expr.New("^\\s*(?:\"\"|''|``)\\s*(?:[),;\\n}]|$)")

// maxForm is how long a form in which a variable is read can be.
const maxForm = 400

func wordSign(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}
