package survey

import (
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Files of tests and of tools say nothing of what a launch needs.
var notLaunched = expr.New(
	`(?i)(^|/)(tests?|specs?|__tests__|e2e|cypress|features|bench(marks?)?)/|[._-](test|spec|stories)\.[a-z]+$|(^|` +
		`/)test_[^/]*\.py$|_test\.(go|rb|py|exs)$`)

// maxCodeSize is the size in bytes beyond which a file is no code that people have written.
const maxCodeSize = 512 << 10

// codeFile is a file of code.
type codeFile struct{ dir, name string }

// reads finds the environment variables that the files of code read.
func (s *surveyor) reads() {
	if !s.opt.ReadCode {
		return
	}
	s.homes = map[string]bool{}
	for i := range s.stack.Projects {
		for _, dir := range append([]string{s.stack.Projects[i].Path}, s.stack.Projects[i].Members...) {
			s.homes[dir] = true
		}
	}
	code := s.launched()
	found := make([][]stack.Read, len(code))
	var wait sync.WaitGroup
	next := make(chan int)
	for range 4 {
		wait.Go(func() {
			for i := range next {
				found[i] = s.readsOf(code[i])
			}
		})
	}
	for i := range code {
		next <- i
	}
	close(next)
	wait.Wait()
	at := map[[2]string]int{}
	for _, list := range found {
		for _, r := range list {
			if i, seen := at[[2]string{r.Project, r.Name}]; seen {
				known := &s.stack.Reads[i]
				known.Default, known.Must = known.Default || r.Default, known.Must || r.Must
				continue
			}
			at[[2]string{r.Project, r.Name}] = len(s.stack.Reads)
			s.stack.Reads = append(s.stack.Reads, r)
		}
	}
	s.missingNames()
}

// launched lists the files of code that have to do with a launch, those of outer folders first.
func (s *surveyor) launched() []string {
	asides, code := map[string]bool{}, []string{}
	for _, f := range s.code {
		out, known := asides[f.dir]
		if !known {
			out = aside.MatchString(f.dir) || notLaunched.MatchString(f.dir+"/")
			asides[f.dir] = out
		}
		if !out && !notLaunched.MatchString(f.name) {
			code = append(code, path.Join(f.dir, f.name))
		}
	}
	slices.SortFunc(code, byDepth)
	return code
}

var givesUp = expr.New(`\b(throw|raise|panic|exit|abort|Fatal|fail)\b`)

// asks tells whether code asks for what follows only to see if it is there, or if it is absent.
func asks(before string) (there, absent bool) {
	line := before[strings.LastIndexByte(before, '\n')+1:]
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

func (s *surveyor) readsOf(file string) []stack.Read {
	info, err := fs.Stat(s.fsys, file)
	if err != nil || info.Size() > maxCodeSize {
		return nil
	}
	data, err := s.fsys.Pass(file)
	if err != nil || !strings.Contains(strings.ToLower(string(data)), "env") && path.Ext(file) != ".py" {
		return nil
	}
	text := string(data)
	project := s.projectOf(file)
	var out []stack.Read
	for _, form := range ecosystem.OfCode(path.Ext(file)).Reads {
		if strings.Contains(text, form.With) {
			out = readsBy(out, &form, text, file, project)
		}
	}
	slices.SortStableFunc(out, func(a, b stack.Read) int { return a.At.Line - b.At.Line })
	return out
}

// readsBy adds the variables that a file reads in one form.
func readsBy(out []stack.Read, form *ecosystem.CodeForm, text, file, project string) []stack.Read {
	line, counted := 1, 0
	for from := 0; ; {
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
		if ecosystem.Given(name) {
			continue
		}
		fallback := len(m) > 5 && m[4] >= 0 && m[4] < m[5]
		must := form.Must
		switch asked, absent := asks(text[:at]); {
		case asked: // the code looks whether it is there
			fallback = true
		case absent && givesUp.MatchString(text[end:min(len(text), end+160)]):
			must = true
		}
		fallback = fallback || strings.Contains(text, `setdefault("`+name) ||
			strings.Contains(text, `setdefault('`+name)
		line, counted = line+strings.Count(text[counted:at], "\n"), at
		out = append(out, stack.Read{Name: name, Project: project, At: stack.Place{File: file, Line: line},
			Default: fallback, Must: must && !fallback})
	}
}

// maxForm is how long a form in which a variable is read can be.
const maxForm = 400

func wordSign(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// projectOf is the folder of the innermost project that a file lies in.
func (s *surveyor) projectOf(file string) string {
	best := "."
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		if s.homes[dir] {
			return dir
		}
	}
	return best
}
