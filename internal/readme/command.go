package readme

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/shell"
)

// Command is one that the text has.
type Command struct {
	Line   int
	Text   string
	Folder string // that it is meant for
	Parts  []shell.Command
	// Mentioned is true where it stands in a sentence or a head.
	Mentioned bool
}

// reader finds the commands of a document, whatever the markup that its lines were in.
type reader struct {
	*Document
	dir    string   // the folder that the document speaks of
	cloned []string // the folders that were cloned into by then
	own    []string // words that begin a command of the checkout's own
}

// line is one of the document, or a part of it.
type line struct {
	number int
	text   string
}

// shellWords begin a line that is a command of no ecosystem.
var shellWords = strings.Fields(
	"git docker docker-compose podman cp copy mv sudo source export set openssl cd curl sh bash" +
		" conda django-admin celery alembic bundler ./gradlew.bat iex mysql gem")

// commandWord reports whether a word begins a line that is a command, where nothing else says that
// it is one.
func commandWord(word string) bool {
	return slices.Contains(shellWords, word) || ecosystem.IsProgram(word) ||
		protocol.OfClient(word) != nil || protocol.OfProgram(word) != nil || word == "redis-cli"
}

var (
	prompt      = expr.New(`^\s*(?:\([\w.-]+\)\s*)?(?:[\w.-]+@[\w.-]+[:\w/~.-]*)?[$%>❯]\s+`)
	setsOnly    = expr.New(`^[A-Za-z_][\w.-]*\s?=\s?\S*$`) // a line of a settings file
	assignments = expr.New(`^(?:[A-Za-z_]\w*=\S*\s+)+`)
)

// block reads the lines of a code block. Where some have a prompt, only those are commands.
func (r *reader) block(lines []line, inShell bool) {
	if isUnit(lines) {
		return
	}
	prompts := slices.ContainsFunc(lines, func(l line) bool { return prompt.MatchString(l.text) })
	cwd, joined, here, first := r.dir, "", "", 0
	for _, l := range lines {
		text := strings.TrimRight(l.text, " \t")
		if joined == "" {
			first = l.number
			if prompts && !prompt.MatchString(text) {
				continue
			}
		}
		if before, more := strings.CutSuffix(text, `\`); more {
			joined += strings.TrimSpace(before) + " "
			continue
		}
		if here != "" {
			if strings.TrimSpace(text) == here {
				here = ""
			}
			continue // what is given to a command, and no command itself
		}
		if m := hereText.FindStringSubmatch(text); m != nil {
			here = m[1]
		}
		text = joined + strings.TrimSpace(text)
		if strings.HasSuffix(text, "&&") || strings.HasSuffix(text, "||") {
			joined = text + " "
			continue
		}
		joined = ""
		cwd = r.command(line{first, text}, inShell || prompts, cwd)
	}
}

// isUnit reports whether a block shows a file of sections with settings, whatever language it is
// said to be in.
func isUnit(lines []line) bool {
	heads := 0
	for i, l := range lines {
		if unitHead.MatchString(l.text) && i+1 < len(lines) &&
			unitEntry.MatchString(lines[i+1].text) {
			heads++
		}
	}
	return heads > 0
}

var (
	unitHead  = expr.New(`^\s*\[[A-Za-z][\w -]*\]\s*$`)
	unitEntry = expr.New(`^\s*[A-Za-z][\w.-]*\s*=`)
)

func (r *reader) commandWord(word string) bool {
	return commandWord(word) || slices.Contains(r.own, strings.TrimPrefix(word, "./")) ||
		ownPath.MatchString(word)
}

// entry reads an entry of a list that is nothing but a command, as it stands: one whose meaning is
// known.
func (r *reader) entry(l line) {
	text := strings.TrimSpace(l.text)
	words := strings.Fields(strings.TrimPrefix(text, "$ "))
	role, _ := ecosystem.Meaning(words)
	if len(words) > 1 && role != "" && !slices.ContainsFunc(words, func(w string) bool {
		return !plainWords.MatchString(w)
	}) {
		r.command(line{l.number, text}, false, r.dir)
	}
}

// span reads words that a sentence sets apart: a command where they begin as one, and have nothing
// in them for the reader to put in.
func (r *reader) span(l line) {
	text := strings.TrimSpace(l.text)
	words := strings.Fields(strings.TrimPrefix(text, "$ "))
	switch {
	case len(words) < 2 || strings.HasSuffix(words[1], ":"):
		return
	case !commandWord(words[0]) && !slices.Contains(r.own, words[0]):
		return
	case len(words) == 2 && words[1] == "run" && ecosystem.ManagerNamed(words[0]).Scripts != nil:
		return // nothing is run
	case slices.Contains(words, "--help"), slices.Contains(words, "--version"):
		return // which a sentence names for those who want to know more
	case words[0] == "cd" && !strings.Contains(text, "&&"): // a folder that is only named
		return
	case strings.Contains(text, "\n") || standIn.MatchString(text):
		return
	}
	before := len(r.Commands)
	r.command(line{l.number, text}, false, r.dir)
	for i := range r.Commands[before:] {
		r.Commands[before+i].Mentioned = true
	}
}

// plainWords are those of a command that is written into a sentence's place.
var plainWords = expr.New(`^(\$|-{0,2}[a-z0-9][\w./:=@-]*[\w/]|[a-z.]|-[a-zA-Z])$`)

// standIn is what stands in a command for something of the reader's own.
var standIn = expr.New(`<[^<>]*>`)

// ownPath is a program of the checkout, or one that an install puts there.
var ownPath = expr.New(`^\./(bin|vendor/bin|scripts?|node_modules/\.bin|\.venv/bin)/[\w.-]+$`)

// command adds a command, and tells the folder that the next line of its block is meant for.
func (r *reader) command(l line, inShell bool, cwd string) string {
	line := strings.TrimSpace(prompt.ReplaceAllString(l.text, ""))
	if i := strings.Index(line, " #"); i >= 0 && !strings.ContainsAny(line[i:], `"'`) {
		line = strings.TrimSpace(line[:i])
	}
	if line == "" || line[0] == '#' || strings.HasPrefix(line, "//") ||
		strings.HasPrefix(line, "REM ") || len(line) > 400 {
		return cwd
	}
	if setsOnly.MatchString(line) {
		return cwd
	}
	words := strings.Fields(assignments.ReplaceAllString(strings.TrimLeft(line, "("), ""))
	if len(words) == 0 || noCommand.MatchString(line) || isNoProgram(words) || len(words) == 1 &&
		slices.Contains(aloneNothing, words[0]) || !inShell && !r.commandWord(words[0]) ||
		inShell && !r.commandWord(words[0]) && (strings.HasSuffix(words[0], ":") ||
			!strings.ContainsFunc(words[0], unicode.IsLetter)) {
		return cwd
	}
	c := Command{Line: l.number, Text: line, Folder: path.Clean(cwd), Parts: shell.Parse(line)}
	inside, asks := cwd, false
	for _, part := range c.Parts {
		if len(part.Words) == 0 || slices.Contains(looksRound, part.Words[0]) {
			continue
		}
		if entered := path.Join(cwd, part.Folder); part.Words[0] == "cd" ||
			part.Words[0] == "pushd" {
			inside = r.enteredBy(part, entered)
			continue
		}
		if name := ClonedInto(part.Words); name != "" {
			r.cloned = append(r.cloned, name)
		}
		asks = true
	}
	if asks {
		r.Commands = append(r.Commands, c)
	}
	if len(c.Parts) > 1 && asks {
		return cwd // a folder that is entered for one line only
	}
	return inside
}

// isNoProgram reports whether the words are an address, a folder, or a file that nothing runs by
// its name: blocks show those too, as what there will be.
func isNoProgram(words []string) bool {
	first := words[0]
	if strings.Contains(first, "://") || strings.HasSuffix(first, "/") {
		return true
	}
	return len(words) == 1 && !strings.HasPrefix(first, "./") && path.Ext(first) != "" &&
		!runsAlone.MatchString(first)
}

// runsAlone are files that are run by their names.
var runsAlone = expr.New(`(?i)\.(sh|bash|zsh|fish|bat|cmd|ps1|exe|run|appimage|\d+)$`)

// hereText begins a text that follows a command.
var hereText = expr.New(`<<-?\s*["']?(\w+)["']?`)

// noCommand are lines of code blocks that are no commands: rows of a folder's list, what is typed
// into another program, names of variables, what a program says when it fails, the settings and the
// key words of a shell, and prose that begins with an interpreter's name.
var noCommand = expr.New(`^(?:[dl.-](?:[r-][w-][xsStT-]){3}\s|[\w.-]+(?:=[#>]|>)\s|` +
	`[A-Z][A-Z0-9_]*(?:$|\s*;)|[A-Z]{4,}\s.*;$|\w+ (?:ERR!|error:|warn(?:ing)?:)|` +
	`set [-+][a-z]+$|exec "\$@"$|[A-Z][a-z]+\s|.*\w\.\.\.$|\.$|` +
	`(?:function|while|until|for|if|elif|then|else|fi|do|done|case|esac)(?:\s|;|$)|\w+\(\)\s*\{|[{}]$|` +
	`(?:python3?|node|ruby|perl)(?: [a-z]+){3,}$)`)

// aloneNothing are programs that do nothing without words: where they stand alone, they are only
// named.
var aloneNothing = []string{"npm", "curl", "wget", "git", "docker", "node", "python", "python3",
	"pip", "pip3", "psql", "mysql", "php", "ruby", "java", "go", "cargo", "docker-compose"}

// looksRound are commands that ask for nothing.
var looksRound = []string{"mkdir", "ls", "dir", "clear", "pwd", "code", "echo", "cat", "popd",
	"exit", "vim", "vi", "nano", "open", "tree", "start"}

// enteredBy is the folder that a cd leads to. One that a clone before has made is the checkout
// itself, also where a folder in it has the same name.
func (r *reader) enteredBy(cd shell.Command, from string) string {
	if len(cd.Words) < 2 || strings.HasPrefix(cd.Words[1], "-") ||
		strings.ContainsAny(cd.Words[1], "<$~") {
		return from
	}
	top, rest, _ := strings.Cut(strings.TrimPrefix(cd.Words[1], "./"), "/")
	if slices.Contains(r.cloned, top) && from == r.dir {
		return path.Join(from, rest)
	}
	return path.Join(from, cd.Words[1])
}

// ClonedInto is the name of the folder that a command of git's clones into; empty if it doesn't.
func ClonedInto(words []string) string {
	if len(words) < 3 || words[0] != "git" || words[1] != "clone" {
		return ""
	}
	last := words[len(words)-1]
	return strings.TrimSuffix(path.Base(strings.TrimSuffix(last, "/")), ".git")
}
