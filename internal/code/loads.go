package code

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Load is a settings file that code loads by its path, which is relative to the folder that the
// program runs in or, where Beside is true, to that of the code.
type Load struct {
	Path   string
	Beside bool
	At     stack.Place
}

var (
	// Such are the names of files in which programs begin, or are told how to.
	loadingNames = []string{"config", "server", "main", "index", "app", "env", "settings", "load",
		"db", "database", "bootstrap", "setup"}
	loadAnchors = [][]byte{[]byte("dotenv"), []byte("env_file")}
	// pathWords lead from the file of code, or the folder that the program runs in, to a path.
	pathWords = []string{"path", "resolve", "join", "__dirname", "import", "meta", "dirname",
		"process", "cwd", "os", "abspath", "Path", "__file__", "parent", "filepath"}
	plainPath = expr.New(`^[\w./-]+$`)
)

// mayLoad is a quick look whether a file loads files of settings.
func mayLoad(file string, data []byte) bool {
	base := path.Base(file)
	return slices.ContainsFunc(loadingNames,
		func(w string) bool { return strings.Contains(base, w) }) &&
		slices.ContainsFunc(loadAnchors, func(a []byte) bool { return bytes.Contains(data, a) })
}

// loads are the settings files that a program loads.
func (p *program) loads() (out []Load) {
	for i := range p.tokens {
		from := p.loadedAt(i)
		if from < 0 {
			continue
		}
		if l, ok := p.pathIn(from, p.entryEnd(from)); ok {
			l.At = p.place(i)
			out = append(out, l)
		}
	}
	return out
}

// loadedAt is where the path of a settings file begins that a token says to load; -1 for none.
func (p *program) loadedAt(i int) int {
	switch {
	case p.is(i, "load_dotenv") && p.is(i+1, "("),
		p.is(i, "Load", "Overload") && p.is(i-1, ".") && p.is(i-2, "godotenv") && p.is(i+1, "("):
		if p.token(i+2).kind == name && p.is(i+3, "=") {
			return -1 // by the argument's name
		}
		return i + 2
	case p.is(i, "dotenv_path", "env_file") && p.is(i+1, "="):
		return i + 2
	case p.is(i, "path") && p.is(i+1, ":"):
		object := p.around(i, 40)
		if p.is(object, "{") && p.is(object-1, "(") && p.is(object-2, "config") {
			return i + 2
		}
	}
	return -1
}

// pathIn is the path that a value comes to, where it is made of nothing else than texts and words
// for this file's folder or the one that the program runs in.
func (p *program) pathIn(from, to int) (l Load, ok bool) {
	var parts []string
	above := 0
	for _, t := range p.tokens[from:to] {
		switch {
		case t.kind == text && plainPath.MatchString(t.text):
			parts = append(parts, t.text)
		case t.kind == sign && strings.Contains("()./,+", t.text):
		case t.kind != name || !slices.Contains(pathWords, t.text):
			return l, false
		case t.text == "parent", t.text == "dirname":
			above++
		}
		l.Beside = l.Beside || t.is("__dirname") || t.is("dirname") || t.is("__file__")
	}
	if len(parts) == 0 {
		return l, false
	}
	for range above - 1 {
		parts = append([]string{".."}, parts...)
	}
	l.Path = path.Join(parts...)
	return l, true
}
