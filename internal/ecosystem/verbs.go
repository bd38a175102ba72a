package ecosystem

import (
	"nimbleharbor/internal/expr"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// Verbs are written as beginnings of commands, word by word. A word may list alternatives with |,
// begin or end with * for any letters there, or be * for any word; $ is the command's end. Words of
// the command that begin with - are passed over, except where the pattern names one: it may then
// stand anywhere.

// fits reports whether a command begins as the pattern says.
func fits(pattern string, words []string) bool {
	plain := plainWords(words)
	at := 0
	for _, p := range strings.Fields(pattern) {
		switch {
		case p == "$":
			return at == len(plain)
		case p[0] == '-':
			if !slices.ContainsFunc(words, func(w string) bool { return wordFits(p, w) }) {
				return false
			}
		case at >= len(plain) || !wordFits(p, plain[at]):
			return false
		default:
			at++
		}
	}
	return true
}

func wordFits(pattern, word string) bool {
	for _, p := range strings.Split(pattern, "|") {
		begin, end, any := strings.Cut(p, "*")
		if !any && p == word || any && len(word) >= len(begin)+len(end) &&
			strings.HasPrefix(word, begin) && strings.HasSuffix(word, end) {
			return true
		}
	}
	return false
}

func plainWords(words []string) []string {
	return slices.DeleteFunc(slices.Clone(words),
		func(w string) bool { return strings.HasPrefix(w, "-") })
}

// called are an ecosystem's own ways to call things, and those of its managers.
type called struct {
	ecosystem *Ecosystem
	manager   *Manager // nil for the ecosystem's own
	verbs     []Verb
	aliases   map[string]string
	wrappers  []string
}

var calls = once(func() []called {
	var out []called
	for _, e := range All {
		out = append(out, called{e, nil, e.Verbs, e.Aliases, e.Wrappers})
		for _, m := range e.Managers {
			out = append(out, called{e, m, m.Verbs, m.Aliases, m.Wrappers})
		}
	}
	return out
})

// Canonical makes of a command what is the same however it is called: without what only says with
// which tools it runs, by the usual name of its program, and a script of the manifest as "script
// NAME".
func Canonical(words []string) []string {
	words = unwrapped(words)
	if len(words) == 0 {
		return nil
	}
	if m := inEnvironment.FindStringSubmatch(words[0]); m != nil {
		return Canonical(append([]string{m[1]}, words[1:]...))
	}
	for _, c := range calls() {
		for from, to := range c.aliases {
			if n := len(strings.Fields(from)); fits(from, words[:min(n, len(words))]) {
				words = append(strings.Fields(to), words[n:]...)
				return Canonical(words)
			}
		}
	}
	if name := scriptIn(words); name != "" {
		return []string{"script", name}
	}
	return words
}

// inEnvironment is a program by its path in the folder where an install puts the folder's own.
var inEnvironment = expr.New(`^(?:\.{1,2}/)*(?:\.?v?env/(?:bin|Scripts)|` +
	`node_modules/\.bin)/([^/]+)$`)

// ScriptRun is the name of the script of the manifest that a command says it runs; empty if it runs
// none, or could as well run a program of that name.
func ScriptRun(words []string) string {
	if words = unwrapped(words); len(words) < 3 {
		return ""
	}
	m := ManagerNamed(words[0])
	if m.Scripts == nil || words[1] != m.Scripts.Run || strings.HasPrefix(words[2], "-") {
		return ""
	}
	return words[2]
}

// EitherRun is what a command runs by a name, and the words that it gives to that, where its
// manager runs the manifest's scripts and programs alike; ok is false for other commands.
func EitherRun(words []string) (name string, given []string, ok bool) {
	m := ManagerNamed(words[0])
	if m.Scripts == nil || !m.Scripts.Programs || len(words) < 2 {
		return "", nil, false
	}
	at := 1
	if words[1] == m.Scripts.Run {
		at++
	}
	if len(words) <= at || strings.HasPrefix(words[at], "-") || at == 1 &&
		slices.Contains(m.Scripts.Own, words[1]) {
		return "", nil, false
	}
	return words[at], words[at+1:], true
}

// ProgramRun is the name of the program that a command compiles and runs, by go run FOLDER or cargo
// run, and the words that the program is given; the name is empty where the command doesn't tell
// it, and ok is false for other commands.
func ProgramRun(words []string) (name string, given []string, ok bool) {
	if len(words) < 2 || words[1] != "run" {
		return "", nil, false
	}
	switch words[0] {
	case "go":
		if len(words) < 3 || strings.HasPrefix(words[2], "-") {
			return "", nil, false
		}
		return path.Base(words[2]), words[3:], true
	case "cargo":
		if at := slices.Index(words, "--"); at > 0 {
			words, given = words[:at], words[at+1:]
		}
		if at := slices.Index(words, "--bin"); at > 0 && at+1 < len(words) {
			name = words[at+1]
		}
		return name, given, true
	}
	return "", nil, false
}

// RunsHelper reports whether a command compiles and runs a program that prepares or tests
// something, by its name.
func RunsHelper(words []string) bool {
	name, _, ok := ProgramRun(words)
	return ok && goOtherMain.MatchString(name)
}

// WithWords is such a command with words for the program.
func WithWords(command, words []string) []string {
	if command[0] == "cargo" {
		command = append(slices.Clone(command), "--")
	}
	return slices.Concat(command, words)
}

// scriptIn is the name of the script of the manifest that a command runs; empty if it runs none.
func scriptIn(words []string) string {
	m := ManagerNamed(words[0])
	plain := plainWords(words[1:])
	if m.Scripts == nil || len(plain) == 0 {
		return ""
	}
	if plain[0] == m.Scripts.Run && len(plain) > 1 {
		return plain[1]
	}
	if m.Scripts.Bare && !slices.Contains(m.Scripts.Own, plain[0]) ||
		slices.Contains(m.Scripts.Short, plain[0]) {
		return plain[0]
	}
	return ""
}

// wrapperValues are options of wrappers that take a value.
var wrapperValues = []string{"--package", "--project", "--directory", "--with", "--python",
	"--env-file", "--extra", "--group"}

// WrappedBy is the ecosystem whose wrapper a command begins with; nil for none.
func WrappedBy(words []string) *Ecosystem {
	for _, c := range calls() {
		for _, wrapper := range c.wrappers {
			if w := strings.Fields(wrapper); len(words) > len(w) &&
				slices.Equal(words[:len(w)], w) {
				return c.ecosystem
			}
		}
	}
	return nil
}

// unwrapped takes away what stands before the command itself.
func unwrapped(words []string) []string {
	for {
		before := len(words)
		for _, c := range calls() {
			for _, wrapper := range c.wrappers {
				w := strings.Fields(wrapper)
				if len(words) <= len(w) || !slices.Equal(words[:len(w)], w) {
					continue
				}
				words = words[len(w):]
				for len(words) > 0 && strings.HasPrefix(words[0], "-") {
					if slices.Contains(wrapperValues, words[0]) && len(words) > 1 {
						words = words[1:]
					}
					words = words[1:]
				}
			}
		}
		if len(words) == before {
			return words
		}
	}
}

// Key is a command's first words in their usual form, without options: two commands with the same
// key do the same.
func Key(words []string) string {
	key := plainWords(Canonical(words))
	return strings.Join(key[:min(4, len(key))], " ")
}

// precedence is the order in which meanings are tried: what could be two things is the first of
// them.
var precedence = []stack.Role{SetsUp, MakesKey, stack.Install, stack.Test, Serves, stack.Build}

// Meaning tells what a command is for as people write it, and the ecosystem that it belongs to; the
// role is empty for a command that isn't known.
func Meaning(words []string) (stack.Role, *Ecosystem) {
	usual := Canonical(words)
	for _, role := range precedence {
		for _, c := range calls() {
			for _, v := range c.verbs {
				if v.Does != role {
					continue
				}
				for _, pattern := range v.Words {
					if fits(pattern, usual) || role == SetsUp && fits(pattern, words) {
						return role, c.ecosystem
					}
				}
			}
		}
	}
	return "", nil
}

// Of gives the ecosystem that a command belongs to, by what it is for or else by its program; nil
// for none.
func Of(words []string) *Ecosystem {
	if _, e := Meaning(words); e != nil {
		return e
	}
	usual := Canonical(words)
	if len(usual) == 0 {
		return nil
	}
	for _, c := range calls() {
		tools := c.ecosystem.Tools
		if c.manager != nil {
			tools = c.manager.Tools
		}
		own := slices.ContainsFunc(tools,
			func(t Tool) bool { return t.Name == usual[0] || t.Name == words[0] }) ||
			slices.ContainsFunc(c.verbs, func(v Verb) bool {
				return slices.ContainsFunc(v.Words, func(w string) bool {
					first, _, _ := strings.Cut(w, " ")
					return slices.Contains(strings.Split(first, "|"), usual[0])
				})
			})
		if own {
			return c.ecosystem
		}
	}
	return nil
}

// programs are the first words of commands that belong to some ecosystem.
var programs = once(func() map[string]bool {
	out := map[string]bool{}
	add := func(text string) {
		first, _, _ := strings.Cut(text, " ")
		for _, p := range strings.Split(first, "|") {
			if !strings.Contains(p, "*") && p != "script" {
				out[p] = true
			}
		}
	}
	for _, c := range calls() {
		for _, v := range c.verbs {
			for _, w := range v.Words {
				add(w)
			}
		}
		for from, to := range c.aliases {
			add(from)
			add(to)
		}
		for _, w := range c.wrappers {
			add(w)
		}
	}
	for _, t := range Tools() {
		if t.Headers == nil && !t.Family {
			add(t.Name)
		}
	}
	for _, e := range All {
		for _, v := range e.VersionManagers {
			add(v)
		}
	}
	for _, v := range installers {
		add(v)
	}
	return out
})

// IsProgram reports whether a word begins commands of some ecosystem, or of what installs its
// tools.
func IsProgram(word string) bool { return programs()[word] }

// IsManifest reports whether a file of this name makes its folder a project.
func IsManifest(name string) bool {
	if manifestNames()[name] {
		return true
	}
	for _, p := range manifestPatterns() {
		if strings.HasSuffix(name, p[1]) && strings.HasPrefix(name, p[0]) &&
			len(name) >= len(p[0])+len(p[1]) {
			return true
		}
	}
	return false
}

var manifestNames = once(func() map[string]bool {
	out := map[string]bool{}
	for _, e := range All {
		for _, m := range e.Manifests {
			if !strings.Contains(m, "*") {
				out[m] = true
			}
		}
	}
	return out
})

// manifestPatterns are what stands before and behind the star.
var manifestPatterns = once(func() (out [][2]string) {
	for _, e := range All {
		for _, m := range e.Manifests {
			if begin, end, ok := strings.Cut(m, "*"); ok {
				out = append(out, [2]string{begin, end})
			}
		}
	}
	return out
})

// Usual names the manifests that are looked for, for a person who asks.
func Usual() string {
	var out []string
	for _, e := range All {
		for _, m := range e.Manifests {
			if ext := path.Ext(m); ext != ".kts" && ext != ".yaml" &&
				!strings.HasSuffix(m, "dist") && !strings.EqualFold(m, "GNUmakefile") &&
				m != "makefile" {
				out = append(out, m)
			}
		}
	}
	return strings.Join(out, ", ") + " and their like"
}

// Manifests lists the names of files, and patterns of them, that make a folder a project.
func Manifests() (out []string) {
	for _, e := range All {
		out = append(out, e.Manifests...)
	}
	return out
}
