// Package code finds what programs read and open, in any language that the ecosystems know:
// environment variables, with whether the code can do without them; settings files that it loads by
// their path; addresses that are written into it.
package code

import (
	"bytes"
	"cmp"
	"maps"
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

	mu      sync.Mutex
	found   Found
	read    []folder
	helpers []helper
}

// Found is what was found in code.
type Found struct {
	Files   []File // that read anything, in the outer folders first
	Gives   []Gives
	Loads   []Load
	Written []Address
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
			w := newWorker()
			for f := range c.jobs {
				if tree.Aside.MatchString(f.dir) || tree.OfTests.MatchString(f.dir+"/") ||
					ofTools.MatchString(f.dir) {
					continue
				}
				c.folderOf(f, w)
			}
		})
	}
	return c
}

// ofTools are folders of what works on the checkout: build servers, editors.
var ofTools = expr.New(`(^|/)\.[A-Za-z]`)

// Tell takes a file of code; those of a folder come one after the other.
func (c *Reader) Tell(dir, name string) {
	if name == "build.rs" {
		return // the build tool runs it, and gives it what it reads
	}
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
	c.callers()
	slices.SortStableFunc(c.found.Files, func(a, b File) int {
		return cmp.Or(tree.ByDepth(a.Dir, b.Dir), strings.Compare(a.Name, b.Name))
	})
	slices.SortFunc(c.found.Written, func(a, b Address) int {
		return cmp.Or(strings.Compare(a.At.File, b.At.File), a.At.Line-b.At.Line)
	})
	return &c.found
}

// worker is the memory of one goroutine that reads code.
type worker struct {
	buffer []byte
	memory memory
}

func newWorker() *worker { return &worker{buffer: make([]byte, MaxSize+1)} }

func (c *Reader) folderOf(f folder, w *worker) {
	f.names = slices.DeleteFunc(f.names, func(name string) bool {
		return mayBeTest(name) && tree.OfTests.MatchString(name)
	})
	for _, name := range f.names {
		if reads := c.readsOf(path.Join(f.dir, name), w); len(reads) > 0 {
			c.keep(func(found *Found) {
				found.Files = append(found.Files, File{f.dir, name, reads})
			})
		}
	}
	c.keep(func(*Found) { c.read = append(c.read, f) })
}

// mayBeTest is a quick look at a name before tree.OfTests.
func mayBeTest(name string) bool {
	lower := strings.ToLower(name)
	return strings.Contains(lower, "test") || strings.Contains(lower, "spec") ||
		strings.Contains(lower, "stories")
}

// ways are those of a language, by the first word of their path; those of which only its end is
// given stand under "*".
type ways map[string][]*way

func (w ways) add(one *way) { w[one.path[0].text] = append(w[one.path[0].text], one) }

// may are the ways that can occur in a file, by a quick look at it; nil for none. They belong to
// the grammar.
func (g *grammar) may(data []byte) ways {
	var which uint64
	for _, hint := range g.hints {
		if bytes.Contains(data, []byte(hint.text)) {
			for k, one := range hint.ways {
				if len(one.With) == 0 || containsAny(data, one.With) {
					which |= 1 << (hint.first + k)
				}
			}
		}
	}
	if which == 0 {
		return nil
	}
	if known, ok := g.sets.Load(which); ok {
		return known.(ways)
	}
	out := ways{}
	for _, hint := range g.hints {
		for k, one := range hint.ways {
			if which&(1<<(hint.first+k)) != 0 {
				out.add(one)
			}
		}
	}
	g.sets.Store(which, out)
	return out
}

func containsAny(data []byte, texts []string) bool {
	return slices.ContainsFunc(texts,
		func(t string) bool { return bytes.Contains(data, []byte(t)) })
}

// readsOf finds what one file reads.
func (c *Reader) readsOf(file string, w *worker) (out []stack.Read) {
	n, err := c.fsys.Pass(file, w.buffer)
	if err != nil || n > MaxSize {
		return nil
	}
	of := ecosystem.OfCode(path.Ext(file))
	g, data := grammarOf(of.Language), w.buffer[:n]
	may := g.may(data)
	schemas := g.schemasIn(data, may != nil)
	loads, speaks := mayLoad(file, data), of == ecosystem.Named("node") && maySpeak(file, data)
	whole := len(schemas) > 0 || loads || speaks
	if may == nil && !whole {
		return nil
	}
	from, to := 0, n
	if !whole {
		from, to = g.part(data, may)
	}
	p := newProgram(file, g, string(data[from:to]), w.memory)
	p.above = bytes.Count(data[:from], []byte("\n"))
	l := lookInto(p, may)
	if to-from < n && (l.aliased || len(l.helpers) > 0) { // which the rest may use
		p = newProgram(file, g, string(data), p.memory)
		l = lookInto(p, may)
	}
	w.memory = p.memory
	out = append(out, l.reads...)
	c.keep(func(f *Found) {
		f.Gives = append(f.Gives, l.gave...)
		if loads {
			f.Loads = append(f.Loads, p.loads()...)
		}
		if speaks {
			f.Written = append(f.Written, p.addresses()...)
		}
	})
	for range maxHelpers { // some call each other
		if len(l.helpers) == 0 {
			break
		}
		c.keep(func(*Found) { c.helpers = append(c.helpers, helper{p.file, of, l.helpers}) })
		found := ways{}
		for _, h := range l.helpers {
			found.add(h)
		}
		l = lookInto(p, found)
		out = append(out, l.reads...)
	}
	for _, s := range schemas {
		out = append(out, p.listing().listed(s)...)
	}
	slices.SortStableFunc(out, func(a, b stack.Read) int { return a.At.Line - b.At.Line })
	return out
}

// schemasIn are the schemas that a file may have, by a quick look at it; reads tells whether it may
// read the environment, too.
func (g *grammar) schemasIn(data []byte, reads bool) (out []*ecosystem.Schema) {
	for i := range g.Schemas {
		s := &g.Schemas[i]
		if !reads && !containsAny(data, s.With) {
			continue
		}
		if containsAny(data, s.Library) {
			out = append(out, s)
		}
	}
	return out
}

// part is the part of a file that tells what it reads: from the head of the block at the margin
// before the one with the first place, up to the end of the block behind the last. All of it counts
// where comments or texts may go over lines before the part, since nobody knows then what lies in
// one.
func (g *grammar) part(data []byte, may ways) (from, to int) {
	from, to = len(data), 0
	last := ""
	for _, list := range may {
		for _, w := range list {
			if len(w.With) > 0 {
				return 0, len(data)
			}
			hint := w.Hint()
			if hint == last {
				continue
			}
			last = hint
			from = min(from, max(0, bytes.Index(data, []byte(hint))))
			to = max(to, bytes.LastIndex(data, []byte(hint))+maxKept)
		}
	}
	begins := func(at int) bool { // a line at the margin that says something
		return data[at-1] == '\n' && g.class[data[at]] != space && data[at] != '\n'
	}
	for range 2 {
		from = max(0, from-1)
		for from > 0 && (!begins(from) || data[from] == '}') {
			from--
		}
	}
	for to < len(data) && !begins(to) {
		to++
	}
	for _, mark := range g.overLines {
		if bytes.Contains(data[:from], []byte(mark)) {
			return 0, len(data)
		}
	}
	return from, min(to, len(data))
}

// maxHelpers is how many functions that read variables may call each other.
const maxHelpers = 3

// helper is a file of code with functions that read variables.
type helper struct {
	file string
	of   *ecosystem.Ecosystem
	ways []*way
}

// keep changes what was found.
func (c *Reader) keep(change func(*Found)) {
	c.mu.Lock()
	change(&c.found)
	c.mu.Unlock()
}

// lookInto looks at a program in some ways to variables.
func lookInto(p *program, ways ways) *look {
	l := &look{program: p, ways: ways}
	first := [256]bool{}
	for word := range ways {
		first[word[0]] = true
	}
	for i := range p.tokens {
		t := &p.tokens[i]
		if t.kind != name || !first[t.text[0]] && !first['*'] {
			continue
		}
		for _, list := range [2][]*way{l.ways[t.text], l.ways["*"]} {
			for _, w := range list {
				for _, u := range p.uses(w, i) {
					if l.use(u); u.isAliasing != "" {
						first[u.isAliasing[0]] = true
					}
				}
			}
		}
	}
	for i := range l.reads {
		if r := &l.reads[i]; slices.Contains(l.looked, r.Name) {
			r.Default, r.Must = true, false
		}
	}
	return l
}

// look is one at a program, in some ways to variables.
type look struct {
	*program
	ways    ways
	reads   []stack.Read
	gave    []Gives
	last    int      // the token behind the one at which a variable was read last
	looked  []string // variables for which the program asks, or which it sets if absent
	helpers []*way   // functions that read what their callers name
	aliased bool     // the environment as a whole has a name of the program's own
}

// use keeps what one use of a way comes to.
func (l *look) use(u use) {
	switch {
	case u.isAliasing != "":
		l.aliased = true
		if l.ways[u.isAliasing] == nil {
			l.ways = maps.Clone(l.ways)
			l.ways.add(&way{Access: &ecosystem.Access{Holds: true, Must: u.way.Must},
				path: []token{{kind: name, text: u.isAliasing}}})
		}
	case u.parameter != "":
		if h := l.helperOf(u); h != nil && !slices.ContainsFunc(l.helpers,
			func(o *way) bool { return o.path[0].text == h.path[0].text }) {
			l.helpers = append(l.helpers, h)
		}
	case u.onlyAsked || u.way.Sets:
		l.looked = append(l.looked, u.name)
	case l.gives(u):
		l.gave = append(l.gave, Gives{path.Dir(l.file), strings.Clone(u.name)})
	case l.last != u.from+1:
		l.last = u.from + 1
		fallback, must := l.weighing().weigh(u)
		l.reads = append(l.reads, stack.Read{Name: strings.Clone(u.name), At: l.place(u.from),
			Default: fallback, Must: must})
	}
}

// gives reports whether a place gives the variable a value, or takes it away; or something else
// always has.
func (p *program) gives(u use) bool {
	return ecosystem.Given(u.name) || p.is(u.from-1, "del", "delete", "unset") ||
		u.keptAs == "" && p.is(u.to, "=", "||=", "??=")
}

// place is that of a token.
func (p *program) place(i int) stack.Place {
	return stack.Place{File: p.file, Line: 1 + p.above + int(p.tokens[i].line)}
}

// callers reads the files that call other files' functions which read variables: those that name
// the function's file, as an import does, or lie in its folder.
func (c *Reader) callers() {
	if len(c.helpers) == 0 {
		return
	}
	var group beside.Group
	jobs := make(chan folder, 64)
	for range 2 * runtime.NumCPU() {
		group.Go(func() {
			w := newWorker()
			for f := range jobs {
				for _, name := range f.names {
					if reads := c.calledIn(path.Join(f.dir, name), w); len(reads) > 0 {
						c.keep(func(found *Found) {
							found.Files = append(found.Files, File{f.dir, name, reads})
						})
					}
				}
			}
		})
	}
	for _, f := range c.read {
		jobs <- f
	}
	close(jobs)
	group.Wait()
}

// calledIn are the variables that a file reads by other files' functions.
func (c *Reader) calledIn(file string, w *worker) (out []stack.Read) {
	of := ecosystem.OfCode(path.Ext(file))
	if !slices.ContainsFunc(c.helpers, func(h helper) bool { return h.of == of }) {
		return nil
	}
	n, err := c.fsys.Pass(file, w.buffer)
	if err != nil || n > MaxSize {
		return nil
	}
	data := w.buffer[:n]
	found := ways{}
	for _, h := range c.helpers {
		if h.of != of || h.file == file || !h.nearTo(file, data) {
			continue
		}
		for _, one := range h.ways {
			if bytes.Contains(data, []byte(one.path[0].text)) {
				found.add(one)
			}
		}
	}
	if len(found) == 0 {
		return nil
	}
	p := newProgram(file, grammarOf(of.Language), string(data), w.memory)
	w.memory = p.memory
	return lookInto(p, found).reads
}

// nearTo reports whether a file can call the functions of the helper's.
func (h helper) nearTo(file string, data []byte) bool {
	if path.Dir(file) == path.Dir(h.file) {
		return true
	}
	stem := strings.TrimSuffix(path.Base(h.file), path.Ext(h.file))
	if slices.Contains([]string{"index", "mod", "__init__", "lib", "main"}, stem) {
		stem = path.Base(path.Dir(h.file))
	}
	return bytes.Contains(data, []byte(stem))
}
