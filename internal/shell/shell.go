// Package shell reads lines that are meant for a shell: of READMEs, task files, Procfiles, scripts
// and compose files. It runs nothing. A line is read as POSIX and Bash say; what is no valid line
// is taken apart at blanks.
package shell

import (
	"path"
	"strings"
	"sync"

	"mvdan.cc/sh/v3/syntax"
)

// Command is one simple command of a line.
type Command struct {
	// Set are the variables that are set in front of it, KEY=VALUE; of a line that only sets
	// variables, those.
	Set []string
	// Words are the command and its arguments, without quotes. A word in which the shell would put
	// something else stands there as it is written.
	Words []string
	// Folder is where it runs, relative to where the line does, or absolute: cd is followed.
	Folder string
	// Text is the command as it is written.
	Text string
	// Expands is true if a word has something that only a shell can put in: a variable, a pattern,
	// another command.
	Expands bool
	// Plumbed is true if it is redirected or part of a pipe, so that the words alone are not all
	// that it does.
	Plumbed bool
	// Background is true if the line goes on without waiting for it.
	Background bool
	// Maybe is true behind ||, or where a condition decides.
	Maybe bool
}

// parsers are kept from line to line: making one costs more than most lines do.
var parsers = sync.Pool{New: func() any {
	return syntax.NewParser(syntax.Variant(syntax.LangBash))
}}

// parsed is a line as a shell takes it apart.
func parsed(line string) (*syntax.File, error) {
	p := parsers.Get().(*syntax.Parser)
	file, err := p.Parse(strings.NewReader(line), "")
	parsers.Put(p) // not where it panicked: then it isn't known what it holds
	return file, err
}

// Parse lists the simple commands of a line, or of several, in their order; cd itself is among
// them.
func Parse(line string) []Command {
	if !within(line) {
		return rough(line)
	}
	file, err := parsed(line)
	if err != nil {
		return rough(line)
	}
	r := reader{line: line}
	r.list(file.Stmts, place{folder: "."})
	return r.out
}

// Everything lists the commands as Parse does, and then those that stand inside of words: in $(…),
// in backquotes, in <(…), and those of a script that a shell is given as a word.
func Everything(line string) []Command {
	if !within(line) {
		return rough(line)
	}
	file, err := parsed(line)
	if err != nil {
		return rough(strings.NewReplacer(";", "&&", "\n", "&&", "|", "&&").Replace(line))
	}
	r := reader{line: line}
	r.list(file.Stmts, place{folder: "."})
	syntax.Walk(file, func(n syntax.Node) bool {
		switch n := n.(type) {
		case *syntax.CmdSubst:
			r.list(n.Stmts, place{folder: ".", plumbed: true})
		case *syntax.ProcSubst:
			r.list(n.Stmts, place{folder: ".", plumbed: true})
		}
		return true
	})
	return r.out
}

// rough takes apart a line that is no shell's.
func rough(line string) []Command {
	var out []Command
	for part := range strings.SplitSeq(line[:min(len(line), maxText)], "&&") {
		if len(out) == maxParts {
			break
		}
		if words := strings.Fields(part); len(words) > 0 {
			out = append(out, Command{Words: words, Folder: ".", Text: strings.TrimSpace(part),
				Expands: true})
		}
	}
	return out
}

type reader struct {
	line string
	out  []Command
}

// place is what holds for the commands of one part of a line.
type place struct {
	folder                     string
	plumbed, background, maybe bool
}

// list reads statements one after the other, and gives the folder in which the next one runs.
func (r *reader) list(stmts []*syntax.Stmt, at place) string {
	for _, s := range stmts {
		at.folder = r.statement(s, at)
	}
	return at.folder
}

func (r *reader) statement(s *syntax.Stmt, at place) string {
	at.background = at.background || s.Background
	at.plumbed = at.plumbed || len(s.Redirs) > 0
	switch c := s.Cmd.(type) {
	case *syntax.CallExpr:
		return r.call(s, c, at)
	case *syntax.BinaryCmd:
		if c.Op == syntax.Pipe || c.Op == syntax.PipeAll {
			at.plumbed = true
		}
		at.folder = r.statement(c.X, at)
		at.maybe = at.maybe || c.Op == syntax.OrStmt
		return r.statement(c.Y, at)
	case *syntax.Subshell:
		r.list(c.Stmts, at) // a folder that is entered there is left with it
	case *syntax.Block:
		return r.list(c.Stmts, at)
	case *syntax.DeclClause:
		r.declare(s, c, at)
	case nil:
	default:
		at.maybe = true
		syntax.Walk(c, func(n syntax.Node) bool {
			if inner, ok := n.(*syntax.Stmt); ok {
				r.statement(inner, at)
				return false
			}
			return true
		})
	}
	return at.folder
}

func (r *reader) call(s *syntax.Stmt, c *syntax.CallExpr, at place) string {
	out := Command{Folder: at.folder, Plumbed: at.plumbed, Background: at.background,
		Maybe: at.maybe}
	out.Text = strings.TrimSpace(r.source(c.Pos().Offset(), c.End().Offset()))
	if len(s.Redirs) > 0 {
		out.Text = strings.TrimRight(strings.TrimSpace(r.source(s.Pos().Offset(),
			s.End().Offset())), " &;")
	}
	for _, a := range c.Assigns {
		if a.Name == nil {
			continue
		}
		value, plain := "", true
		if a.Value != nil {
			value, plain = r.word(a.Value)
		}
		out.Set = append(out.Set, a.Name.Value+"="+value)
		out.Expands = out.Expands || !plain
	}
	for _, w := range c.Args {
		text, plain := r.word(w)
		out.Words = append(out.Words, text)
		out.Expands = out.Expands || !plain
	}
	r.out = append(r.out, out)
	if len(out.Words) > 1 && (out.Words[0] == "cd" || out.Words[0] == "pushd") {
		if to := out.Words[1]; !strings.ContainsAny(to, "<$~*") && !strings.HasPrefix(to, "-") {
			if path.IsAbs(to) {
				return path.Clean(to)
			}
			return path.Join(at.folder, to)
		}
	}
	return at.folder
}

// declare reads export and its like, which a shell reads as assignments.
func (r *reader) declare(s *syntax.Stmt, c *syntax.DeclClause, at place) {
	out := Command{Words: []string{c.Variant.Value}, Folder: at.folder, Plumbed: at.plumbed,
		Background: at.background,
		Maybe:      at.maybe, Text: strings.TrimSpace(r.source(s.Pos().Offset(), s.End().Offset()))}
	for _, a := range c.Args {
		text, plain := r.source(a.Pos().Offset(), a.End().Offset()), true
		if a.Name != nil && a.Value != nil {
			text, plain = r.word(a.Value)
			text = a.Name.Value + "=" + text
		}
		out.Words = append(out.Words, text)
		out.Expands = out.Expands || !plain
	}
	r.out = append(r.out, out)
}

func (r *reader) source(from, to uint) string {
	return r.line[min(from, uint(len(r.line))):min(to, uint(len(r.line)))]
}

// word gives a word without its quotes; plain is false if a shell would put something into it.
func (r *reader) word(w *syntax.Word) (text string, plain bool) {
	var b strings.Builder
	for _, p := range w.Parts {
		switch p := p.(type) {
		case *syntax.Lit:
			if value := unescaped(p.Value); value == p.Value &&
				strings.ContainsAny(value, "*?[{~") {
				return r.source(w.Pos().Offset(), w.End().Offset()), false
			}
			b.WriteString(unescaped(p.Value))
		case *syntax.SglQuoted:
			if p.Dollar {
				return r.source(w.Pos().Offset(), w.End().Offset()), false
			}
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			for _, inner := range p.Parts {
				lit, ok := inner.(*syntax.Lit)
				if !ok {
					return r.source(w.Pos().Offset(), w.End().Offset()), false
				}
				b.WriteString(unquoted(lit.Value))
			}
		default:
			return r.source(w.Pos().Offset(), w.End().Offset()), false
		}
	}
	return b.String(), true
}

// unescaped takes the backslashes out of a word outside of quotes (POSIX, 2.2.1).
func unescaped(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
			if s[i] == '\n' {
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// unquoted takes the backslashes out that mean something inside of double quotes (POSIX, 2.2.3).
func unquoted(s string) string {
	return strings.NewReplacer(`\$`, `$`, "\\`", "`", `\"`, `"`, `\\`, `\`, "\\\n", "").Replace(s)
}

// Words makes of a line the words of a command that needs no shell; any other line is given to one.
func Words(line string) []string {
	if all := Parse(line); len(all) == 1 {
		if c := all[0]; len(c.Set) == 0 && len(c.Words) > 0 && !c.Expands && !c.Plumbed &&
			!c.Background && !c.Maybe && !builtins[c.Words[0]] {
			return c.Words
		}
	}
	return []string{"sh", "-c", line}
}

// builtins are commands that only a shell knows.
var builtins = map[string]bool{"cd": true, "pushd": true, "popd": true, "source": true, ".": true,
	"export": true,
	"exec":   true, "set": true, "unset": true, "eval": true, "exit": true, "trap": true,
	"wait": true, "alias": true,
	"umask": true, "ulimit": true, ":": true, "read": true, "shift": true, "return": true,
	"command": true, "type": true}
