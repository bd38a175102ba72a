package survey

import (
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// codeForm finds where code reads an environment variable: group 1 is its name, group 2, if it is not empty, tells that
// the code has a value of its own. Must is true for a form that fails without the variable.
type codeForm struct {
	form *expr.Expr
	must bool
	with string // what the file has to have in it besides; empty for nothing
}

const envName = `([A-Z][A-Z0-9_]{2,})`

func forms(must bool, list ...string) (out []codeForm) {
	for _, f := range list {
		out = append(out, codeForm{form: expr.New(f), must: must})
	}
	return out
}

// codeForms are the forms by the ending of a file's name. They are made when code is read for the first time.
var codeForms = sync.OnceValue(func() map[string][]codeForm {
	readsScript := forms(false, `\b(?:process\.env|import\.meta\.env|Bun\.env)(?:\.|\?\.|\[['"])`+
		envName+`(?:['"]\])?\s*(\|\||\?\?|\?[^.]|===|!==|==|&&)?`, `\bDeno\.env\.get\(['"]`+
		envName+`['"]\)\s*(\|\||\?\?)?`)
	readsPython := slices.Concat(forms(true, `\bos\.environ\[['"]`+envName+`['"]\]()`),
		forms(false, `\bos\.(?:environ\.get|getenv)\(\s*['"]`+envName+`['"]\s*(,|\)\s*or\b)?`,
			`\benv(?:\.\w+)?\(\s*['"]`+envName+`['"]\s*(,)?`),
		[]codeForm{{form: expr.New(`\bconfig(?:\.\w+)?\(\s*['"]` + envName + `['"]\s*(,)?`),
			with: "decouple"}})
	readsRuby := slices.Concat(forms(true, `\bENV\.fetch\(?\s*['"]`+envName+`['"]\s*(,|\)\s*(?:\{|do\b))?`),
		forms(false, `\bENV\[['"]`+envName+`['"]\]\s*(\|\|)?`))
	readsPHP := forms(false, `\b(?:env|getenv)\(\s*['"]`+envName+`['"]\s*(,|\)\s*(?:\?\?|\?:))?`,
		`\$_ENV\[['"]`+envName+`['"]\]\s*(\?\?|\?:)?`)
	readsGo := forms(false, `\bos\.(?:Getenv|LookupEnv)\("`+envName+`"()`)
	readsJava := forms(false, `\bSystem\.getenv\("`+envName+`"()`)
	readsRust := forms(false, `\benv::var(?:_os)?\("`+envName+`"\)\s*(\.unwrap_or|\.ok\(\)|\.unwrap_or_else)?`)
	readsNet := forms(false, `\bGetEnvironmentVariable\("`+envName+`"\)\s*(\?\?)?`)
	readsElixir := slices.Concat(forms(true, `\bSystem\.fetch_env!\("`+envName+`"()`),
		forms(false, `\bSystem\.get_env\("`+envName+`"\s*(,|\)\s*\|\|)?`))
	return map[string][]codeForm{".js": readsScript, ".mjs": readsScript, ".cjs": readsScript, ".ts": readsScript,
		".mts": readsScript, ".jsx": readsScript, ".tsx": readsScript,
		".vue": readsScript, ".svelte": readsScript, ".astro": readsScript, ".py": readsPython, ".rb": readsRuby,
		".ru": readsRuby, ".php": readsPHP, ".go": readsGo,
		".java": readsJava, ".kt": readsJava, ".rs": readsRust, ".cs": readsNet, ".ex": readsElixir,
		".exs": readsElixir}
})

// codeEndings are the endings of files of code.
var codeEndings = map[string]bool{".js": true, ".mjs": true, ".cjs": true, ".ts": true, ".mts": true, ".jsx": true,
	".tsx": true, ".vue": true, ".svelte": true, ".astro": true, ".py": true, ".rb": true, ".ru": true, ".php": true,
	".go": true, ".java": true, ".kt": true, ".rs": true, ".cs": true, ".ex": true, ".exs": true}

// Files of tests and of tools say nothing of what a launch needs.
var notLaunched = expr.New(
	`(?i)(^|/)(tests?|specs?|__tests__|e2e|cypress|features|bench(marks?)?)/|[._-](test|spec|stories)\.[a-z]+$|(^|` +
		`/)test_[^/]*\.py$|_test\.(go|rb|py|exs)$`)

// setElsewhere are variables that the system, the shell or a framework itself gives.
var setElsewhere = map[string]bool{"NODE_ENV": true, "PATH": true, "HOME": true, "USER": true, "SHELL": true,
	"TERM": true, "LANG": true, "PWD": true, "TZ": true, "CI": true, "TMPDIR": true, "TEMP": true, "EDITOR": true,
	"HOSTNAME": true,
	"MODE":     true, "DEV": true, "PROD": true, "SSR": true, "BASE_URL": true, "RAILS_ENV": true, "RACK_ENV": true,
	"MIX_ENV": true, "APP_ENV": true, "FLASK_ENV": true, "GOPATH": true, "JAVA_HOME": true, "VERCEL": true,
	"VERCEL_URL":          true,
	"RAILS_LOG_TO_STDOUT": true, "RAILS_SERVE_STATIC_FILES": true, "DJANGO_SETTINGS_MODULE": true, "NEXT_RUNTIME": true,
	"NETLIFY": true, "GITHUB_ACTIONS": true, "PORT": true, "HOST": true, "DEBUG": true, "RAILS_MAX_THREADS": true,
	"WEB_CONCURRENCY": true, "PIDFILE": true, "BUNDLE_GEMFILE": true}

// Bounds of reading code.
const (
	maxCodeFiles = 5000
	maxCodeSize  = 512 << 10
)

// reads finds the environment variables that the files of code read.
func (s *surveyor) reads(code []string) {
	if !s.opt.ReadCode {
		return
	}
	s.homes = map[string]bool{}
	for i := range s.stack.Projects {
		for _, dir := range append([]string{s.stack.Projects[i].Path}, s.stack.Projects[i].Members...) {
			s.homes[dir] = true
		}
	}
	code = slices.DeleteFunc(code,
		func(f string) bool { return notLaunched.MatchString(f) || aside.MatchString(path.Dir(f)) })
	slices.SortFunc(code, byDepth)
	code = code[:min(len(code), maxCodeFiles)]
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
	data, err := fs.ReadFile(s.fsys, file)
	if err != nil || !strings.Contains(strings.ToLower(string(data)), "env") && path.Ext(file) != ".py" {
		return nil
	}
	text := string(data)
	project := s.projectOf(file)
	var out []stack.Read
	for _, r := range codeForms()[path.Ext(file)] {
		if !strings.Contains(text, r.with) {
			continue
		}
		for _, m := range r.form.FindAllStringSubmatchIndex(text, -1) {
			name := text[m[2]:m[3]]
			if setElsewhere[name] || strings.HasPrefix(name, "NPM_") {
				continue
			}
			fallback := len(m) > 5 && m[4] >= 0 && m[4] < m[5]
			must := r.must
			switch asked, absent := asks(text[:m[0]]); {
			case asked: // the code looks whether it is there
				fallback = true
			case absent && givesUp.MatchString(text[m[1]:min(len(text), m[1]+160)]):
				must = true
			}
			fallback = fallback || strings.Contains(text, `setdefault("`+name) ||
				strings.Contains(text, `setdefault('`+name)
			out = append(out,
				stack.Read{Name: name, Project: project,
					At:      stack.Place{File: file, Line: 1 + strings.Count(text[:m[2]], "\n")},
					Default: fallback, Must: must && !fallback})
		}
	}
	return out
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
