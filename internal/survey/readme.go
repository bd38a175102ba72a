package survey

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// demand is a command that a README, or a dev container's definition, asks for.
type demand struct {
	at      stack.Place
	command string
	cwd     string // the folder that it is meant for
	parts   []shell.Command
	mention bool // whether it stands in a sentence or a heading
}

// shellWords begin a line that is a command of no ecosystem.
var shellWords = strings.Fields(
	"git docker docker-compose podman cp copy mv sudo source export set openssl cd curl sh bash" +
		" conda django-admin celery alembic bundler ./gradlew.bat iex mysql gem")

// commandWord reports whether a word begins a line that is a command, where nothing else says that it is one.
func commandWord(word string) bool {
	return slices.Contains(shellWords, word) || ecosystem.IsProgram(word) || protocol.OfClient(word) != nil ||
		protocol.OfProgram(word) != nil || word == "redis-cli"
}

const (
	maxReadme  = 1 << 20
	maxDemands = 300
)

// readmes collects what READMEs and dev containers ask for, in their order: those of the checkouts' tops first.
func (s *surveyor) readmes() {
	files := slices.Clone(s.tree.readmes)
	rank := func(file string) int {
		if isReadme(file) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(files, func(a, b string) int {
		if path.Dir(a) == path.Dir(b) {
			return rank(a) - rank(b)
		}
		return byDepth(a, b)
	})
	led := s.ledTo(files)
	for _, file := range files {
		dir := path.Dir(file)
		if led[file] {
			// somebody says to read it, wherever it lies
		} else if aside.MatchString(dir) || rank(file) == 1 && !slices.Contains(s.tops(), dir) ||
			!slices.Contains(s.tops(), dir) && s.stack.Project(dir, "") == nil && !s.holdsComposeFile(dir) {
			continue
		}
		folder := s.tree.at(dir)
		data, err := folder.Read(path.Base(file))
		if err != nil || len(data) > maxReadme || strings.ContainsRune(string(data[:min(len(data), 4096)]), 0) {
			s.remark(stack.Note, stack.CodeReadmeUnreadable, stack.Place{File: file},
				"the README is not looked at: it can't be read, is too big or is no text", "")
			continue
		}
		s.instructions = append(s.instructions, file)
		s.demands = append(s.demands, demandsOf(file, data, s.ownPrograms()...)...)
	}
	for _, f := range s.tree.folders {
		s.devContainer(f.Path)
	}
	if _, isProject := s.tree.byPath["."]; isProject && !slices.ContainsFunc(s.stack.Projects,
		func(p stack.Project) bool { return p.Path == "." }) {
		s.devContainer(".")
	}
	if len(s.demands) > maxDemands {
		s.demands = s.demands[:maxDemands]
		s.remark(stack.Note, stack.CodeReadmeLong, s.demands[0].at,
			"only the first 300 commands of the READMEs are compared with the order", "")
	}
}

// ledTo are the files among those with instructions that a README at a top names by their path and, where none at the
// top has a command, those in its folders of documents.
func (s *surveyor) ledTo(files []string) map[string]bool {
	out := map[string]bool{}
	for _, top := range s.tops() {
		told := false
		var texts []string
		for _, file := range files {
			if path.Dir(file) != top {
				continue
			}
			if data, err := s.fsys.ReadFile(file); err == nil && len(data) <= maxReadme {
				told = told || len(demandsOf(file, data)) > 0
				if isReadme(file) {
					texts = append(texts, string(data))
				}
			}
		}
		for _, file := range files {
			rel, below := strings.CutPrefix(file, strings.TrimPrefix(top+"/", "./"))
			if !below || !strings.Contains(rel, "/") || isReadme(file) && aside.MatchString(path.Dir(rel)) {
				continue
			}
			out[file] = out[file] || !told && documents.MatchString(path.Dir(rel)) ||
				slices.ContainsFunc(texts, func(text string) bool { return strings.Contains(text, rel) })
		}
	}
	return out
}

// holdsComposeFile reports whether a compose file lies in the folder itself.
func (s *surveyor) holdsComposeFile(dir string) bool {
	return slices.ContainsFunc(s.tree.compose, func(file string) bool { return path.Dir(file) == dir })
}

func isReadme(file string) bool { return strings.HasPrefix(strings.ToLower(path.Base(file)), "readme") }

// documents are folders in which instructions lie.
var documents = expr.New(`(?i)^docs?$|^documentation$`)

func (s *surveyor) devContainer(dir string) {
	folder := s.tree.at(dir)
	d, err := folder.DevContainer()
	if err != nil {
		s.faults = append(s.faults, stack.AllFaults(err)...)
	}
	if d == nil {
		return
	}
	for _, c := range d.Commands {
		s.demands = append(s.demands, demandOf(d.At, strings.TrimSpace(c), dir))
	}
	says := "a dev container is defined here"
	if d.Image != "" {
		says += ", of " + d.Image
	}
	s.remark(stack.Note, stack.CodeDevContainer, d.At, says+"; nharbor uses its commands and ports as hints only", "")
}

var fences = []string{"", "sh", "bash", "shell", "zsh", "console", "shell-session", "terminal", "shellsession", "cmd",
	"powershell", "text", "bat", "fish"}

// ownPrograms are the programs that the projects bring.
func (s *surveyor) ownPrograms() (out []string) {
	for _, p := range s.stack.Projects {
		for _, part := range p.Parts {
			out = append(out, part.Programs...)
		}
	}
	return out
}

// demandsOf reads the commands of one README; own are words that begin commands, beside the known ones. Markdown is
// read as CommonMark says; in other texts the indented lines count.
func demandsOf(file string, data []byte, own ...string) []demand {
	r := &reader{file: file, dir: path.Dir(file), data: data, own: own}
	if !isReadme(file) {
		r.dir = spokenOf(r.dir)
	}
	ext := strings.ToLower(path.Ext(file))
	if ext == ".rst" || ext == ".txt" || ext == ".rdoc" || ext == "" {
		outside := literalsOnly(ext)
		for i, line := range strings.Split(string(data), "\n") {
			if outside(line) {
				continue
			}
			if strings.HasPrefix(line, "    ") || strings.HasPrefix(line, "\t") || strings.HasPrefix(line, "   ") {
				r.line(i+1, strings.TrimSpace(line), false, r.dir)
			}
		}
		if ext != "" || len(r.out) > 0 {
			return r.out
		}
	}
	data = reading.Markdown(data)
	doc := goldmark.DefaultParser().Parse(text.NewReader(data))
	ast.Walk(doc, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if !entering {
			return ast.WalkContinue, nil
		}
		switch n := n.(type) {
		case *ast.FencedCodeBlock:
			if lang := strings.ToLower(string(n.Language(data))); slices.Contains(fences, lang) {
				r.block(n.Lines(), lang != "" && lang != "text")
			}
		case *ast.CodeBlock:
			r.block(n.Lines(), false)
		case *ast.TextBlock, *ast.Paragraph:
			if _, item := n.Parent().(*ast.ListItem); item && n.Lines().Len() == 1 {
				r.entry(n.Lines().At(0))
			}
		case *ast.CodeSpan:
			var b strings.Builder
			at := -1
			for c := n.FirstChild(); c != nil; c = c.NextSibling() {
				if t, ok := c.(*ast.Text); ok {
					if at < 0 {
						at = t.Segment.Start
					}
					b.Write(t.Segment.Value(data))
				}
			}
			span := strings.TrimSpace(b.String())
			words := strings.Fields(strings.TrimPrefix(span, "$ "))
			if len(words) > 1 && commandWord(words[0]) && (words[0] != "cd" || strings.Contains(span, "&&")) &&
				!strings.Contains(span, "\n") && !standIn.MatchString(span) && !strings.HasSuffix(words[1], ":") {
				before := len(r.out)
				r.line(r.lineAt(at), span, false, r.dir)
				for i := range r.out[before:] {
					r.out[before+i].mention = true
				}
			}
			return ast.WalkSkipChildren, nil
		}
		return ast.WalkContinue, nil
	})
	return slices.DeleteFunc(r.out, func(d demand) bool {
		return d.mention && slices.ContainsFunc(r.out, func(o demand) bool {
			return !o.mention && strings.HasPrefix(o.command, d.command+" ")
		})
	})
}

// literalsOnly gives a function that is told the lines of a text in turn, and reports those that no literal block
// holds: in reStructuredText a block begins below a line that ends in two colons, or as people write in one, and most
// directives hold prose. Lines with a prompt stand for themselves; of other texts nothing is left out.
func literalsOnly(ext string) func(line string) bool {
	base := -1 // the indentation of what announces the block; -1 outside of one
	return func(line string) bool {
		text := strings.TrimSpace(line)
		if ext != ".rst" || text == "" {
			return false
		}
		indent := len(line) - len(strings.TrimLeft(line, " \t"))
		if base >= 0 && indent > base {
			return false
		}
		if base = -1; announcesCode.MatchString(text) {
			base = indent + len(listMark.FindString(text))
		}
		return !strings.HasPrefix(text, "$ ")
	}
}

// listMark begins an entry of a list in reStructuredText.
var listMark = expr.New(`^([-*+]|\(?[0-9a-z#]{1,3}[.)])\s+`)

// announcesCode is a line of reStructuredText below which a block is taken as it stands.
var announcesCode = expr.New(
	`^(\.\. (code|code-block|sourcecode|prompt|parsed-literal|console|highlight)::.*|[^.].*:|\.[^.].*:|:+)$`)

// spokenOf is the folder that instructions in a folder speak of: of documents, the one that holds them.
func spokenOf(dir string) string {
	parts := strings.Split(dir, "/")
	if at := slices.IndexFunc(parts, documents.MatchString); at >= 0 {
		return path.Join(append([]string{"."}, parts[:at]...)...)
	}
	return dir
}

type reader struct {
	file, dir string
	data      []byte
	out       []demand
	cloned    []string // the folders that were cloned into by then
	own       []string // words that begin a command of the checkout's own
}

func (r *reader) lineAt(offset int) int {
	return 1 + strings.Count(string(r.data[:max(0, min(offset, len(r.data)))]), "\n")
}

var (
	prompt      = expr.New(`^\s*(?:\([\w.-]+\)\s*)?(?:[\w.-]+@[\w.-]+[:\w/~.-]*)?[$%>❯]\s+`)
	setsOnly    = expr.New(`^[A-Za-z_][\w.-]*\s?=\s?\S*$`) // a line of a settings file
	assignments = expr.New(`^(?:[A-Za-z_]\w*=\S*\s+)+`)
)

// block reads the lines of a code block. Where some have a prompt, only those are commands.
func (r *reader) block(lines *text.Segments, inShell bool) {
	prompts := false
	for i := range lines.Len() {
		at := lines.At(i)
		prompts = prompts || prompt.Match(at.Value(r.data))
	}
	cwd, joined, here, first := r.dir, "", "", 0
	for i := range lines.Len() {
		at := lines.At(i)
		line := strings.TrimRight(string(at.Value(r.data)), "\r\n \t")
		if joined == "" {
			first = r.lineAt(at.Start)
			if prompts && !prompt.MatchString(line) {
				continue
			}
		}
		if before, more := strings.CutSuffix(line, `\`); more {
			joined += strings.TrimSpace(before) + " "
			continue
		}
		if here != "" {
			if strings.TrimSpace(line) == here {
				here = ""
			}
			continue // what is given to a command, and no command itself
		}
		if m := hereText.FindStringSubmatch(line); m != nil {
			here = m[1]
		}
		if line = joined + strings.TrimSpace(line); strings.HasSuffix(line, "&&") || strings.HasSuffix(line, "||") {
			joined = line + " "
			continue
		}
		joined = ""
		cwd = r.line(first, line, inShell || prompts, cwd)
	}
}

func (r *reader) commandWord(word string) bool {
	return commandWord(word) || slices.Contains(r.own, word) || ownPath.MatchString(word)
}

// entry reads an entry of a list that is nothing but a command, as it stands: one whose meaning is known.
func (r *reader) entry(at text.Segment) {
	line := strings.TrimSpace(string(at.Value(r.data)))
	words := strings.Fields(strings.TrimPrefix(line, "$ "))
	if role, _ := ecosystem.Meaning(words); len(words) > 1 && role != "" && !slices.ContainsFunc(words,
		func(w string) bool { return !plainWords.MatchString(w) }) {
		r.line(r.lineAt(at.Start), line, false, r.dir)
	}
}

// plainWords are those of a command that is written into a sentence's place.
var plainWords = expr.New(`^(\$|-{0,2}[a-z0-9][\w./:=@-]*[\w/]|[a-z.]|-[a-zA-Z])$`)

// standIn is what stands in a command for something of the reader's own.
var standIn = expr.New(`<[^<>]*>`)

// ownPath is a program of the checkout, or one that an install puts there.
var ownPath = expr.New(`^\./(bin|vendor/bin|scripts?|node_modules/\.bin|\.venv/bin)/[\w.-]+$`)

// line adds a command, and tells the folder that the next line of its block is meant for.
func (r *reader) line(at int, line string, inShell bool, cwd string) string {
	line = strings.TrimSpace(prompt.ReplaceAllString(line, ""))
	if i := strings.Index(line, " #"); i >= 0 && !strings.ContainsAny(line[i:], `"'`) {
		line = strings.TrimSpace(line[:i])
	}
	if line == "" || line[0] == '#' || strings.HasPrefix(line, "//") || strings.HasPrefix(line, "REM ") ||
		len(line) > 400 {
		return cwd
	}
	if setsOnly.MatchString(line) {
		return cwd
	}
	words := strings.Fields(assignments.ReplaceAllString(strings.TrimLeft(line, "("), ""))
	if len(words) == 0 || noCommand.MatchString(line) || len(words) == 1 && slices.Contains(aloneNothing, words[0]) ||
		!inShell && !r.commandWord(words[0]) ||
		inShell && !r.commandWord(words[0]) && (strings.HasSuffix(words[0], ":") || !strings.ContainsFunc(words[0],
			unicode.IsLetter)) {
		return cwd
	}
	d := demandOf(stack.Place{File: r.file, Line: at}, line, path.Clean(cwd))
	inside, asks := cwd, false
	for _, part := range d.parts {
		if len(part.Words) == 0 || slices.Contains(looksRound, part.Words[0]) {
			continue
		}
		if entered := path.Join(cwd, part.Folder); part.Words[0] == "cd" || part.Words[0] == "pushd" {
			inside = r.enteredBy(part, entered)
			continue
		}
		if name := clonedInto(part.Words); name != "" {
			r.cloned = append(r.cloned, name)
		}
		asks = true
	}
	if asks {
		r.out = append(r.out, d)
	}
	if len(d.parts) > 1 && asks {
		return cwd // a folder that is entered for one line only
	}
	return inside
}

// hereText begins a text that follows a command.
var hereText = expr.New(`<<-?\s*["']?(\w+)["']?`)

// noCommand are lines of code blocks that are no commands: names of variables, what a program says when it fails, the
// settings and the key words of a shell, and prose that begins with an interpreter's name.
var noCommand = expr.New(`^(?:[A-Z][A-Z0-9_]*(?:$|\s*;)|[A-Z]{4,}\s.*;$|\w+ (?:ERR!|error:|warn(?:ing)?:)|` +
	`set [-+][a-z]+$|exec "\$@"$|[A-Z][a-z]+\s|.*\w\.\.\.$|\.$|` +
	`(?:function|while|until|for|if|elif|then|else|fi|do|done|case|esac)(?:\s|;|$)|\w+\(\)\s*\{|[{}]$|` +
	`(?:python3?|node|ruby|perl)(?: [a-z]+){3,}$)`)

// aloneNothing are programs that do nothing without words: where they stand alone, they are only named.
var aloneNothing = []string{
	"npm",
	"curl",
	"wget",
	"git",
	"docker",
	"node",
	"python",
	"python3",
	"pip",
	"pip3",
	"psql",
	"mysql",
	"php",
	"ruby",
	"java",
	"go",
	"cargo",
	"docker-compose",
}

// looksRound are commands that ask for nothing.
var looksRound = []string{"mkdir", "ls", "dir", "clear", "pwd", "code", "echo", "cat", "popd", "exit", "vim", "vi",
	"nano", "open", "tree",
	"start"}

// enteredBy is the folder that a cd leads to. One that a clone before has made is the checkout itself, also where a
// folder in it has the same name.
func (r *reader) enteredBy(cd shell.Command, from string) string {
	if len(cd.Words) < 2 || strings.HasPrefix(cd.Words[1], "-") || strings.ContainsAny(cd.Words[1], "<$~") {
		return from
	}
	top, rest, _ := strings.Cut(strings.TrimPrefix(cd.Words[1], "./"), "/")
	if slices.Contains(r.cloned, top) && from == r.dir {
		return path.Join(from, rest)
	}
	return path.Join(from, cd.Words[1])
}

// clonedInto is the name of the folder that a command of git's clones into; empty if it doesn't.
func clonedInto(words []string) string {
	if len(words) < 3 || words[0] != "git" || words[1] != "clone" {
		return ""
	}
	last := words[len(words)-1]
	return strings.TrimSuffix(path.Base(strings.TrimSuffix(last, "/")), ".git")
}

func demandOf(at stack.Place, command, cwd string) demand {
	return demand{at: at, command: command, cwd: cwd, parts: shell.Parse(command)}
}

// toldToRun finds the demand that tells to run a compose service by its name, as a job or, with up, to stay.
func (s *surveyor) toldToRun(service string) (told *demand, stays bool) {
	for i := range s.demands {
		d := &s.demands[i]
		for _, part := range d.parts {
			for _, l := range s.leaves(part, d.cwd) {
				verb, args := composeCall(l.Words)
				switch {
				case verb == "run" && len(args) > 0 && args[0] == service:
					return d, false
				case verb == "up" && slices.Contains(args, service):
					return d, true
				}
			}
		}
	}
	return nil, false
}

// composeFiles are the files that a call of the compose command names.
func composeFiles(words []string) (files []string) {
	for i, w := range words {
		option, value, joined := strings.Cut(w, "=")
		if option != "-f" && option != "--file" {
			continue
		}
		if !joined {
			if i+1 == len(words) {
				break
			}
			value = words[i+1]
		}
		files = append(files, value)
		if verb, _ := composeCall(words[:i+1]); verb != "" {
			return files[:len(files)-1] // an option of the verb, such as logs -f
		}
	}
	return files
}

// composeCall splits a command that goes to the container engine's compose files: the verb, and the words after it
// without options.
func composeCall(words []string) (verb string, args []string) {
	switch {
	case len(words) > 2 && (words[0] == "docker" || words[0] == "podman") && words[1] == "compose":
		words = words[2:]
	case len(words) > 1 && (words[0] == "docker-compose" || words[0] == "podman-compose"):
		words = words[1:]
	default:
		return "", nil
	}
	takes := map[string]bool{"-f": true, "--file": true, "--profile": true, "-p": true, "--project-name": true,
		"--env-file": true, "-e": true, "--env": true, "-u": true, "--user": true, "-w": true, "--workdir": true,
		"--entrypoint": true, "-v": true, "--wait-timeout": true, "--timeout": true, "-t": true, "--scale": true,
		"--pull": true, "--exit-code-from": true}
	skip := false
	for _, w := range words {
		switch {
		case skip:
			skip = false
		case strings.HasPrefix(w, "-") && len(args) == 0:
			skip = takes[w]
		case verb == "":
			verb = w
		default:
			args = append(args, w)
		}
	}
	return verb, args
}
