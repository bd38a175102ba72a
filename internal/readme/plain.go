package readme

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
)

// underline is what stands below a head in plain text and in reStructuredText (its specification,
// "Sections").
var underline = expr.New("^(=+|-+|~+|\\^+|\\*+|#+|\\++|`+|\"+)\\s*$")

// underlined begins sections at lines that are underlined. A row of a table, and what is indented,
// are none.
func (r *reader) underlined() {
	for i := 1; i < len(r.Lines); i++ {
		head, below := r.Lines[i-1], strings.TrimSpace(r.Lines[i])
		isText := strings.TrimSpace(head) != "" && head[0] != ' ' && !underline.MatchString(head)
		if underline.MatchString(r.Lines[i]) && len(below) > 1 && isText &&
			!strings.Contains(head, "|") {
			r.section(head, i)
		}
	}
}

// indentation are the blanks that a line begins with.
func indentation(line string) int { return len(line) - len(strings.TrimLeft(line, " \t")) }

func isIndented(line string) bool { return strings.HasPrefix(line, "\t") || indentation(line) >= 3 }

// plain reads a text without markup: its indented lines are commands.
func (r *reader) plain([]byte) {
	r.underlined()
	for i, text := range r.Lines {
		if isIndented(text) {
			r.command(line{i + 1, strings.TrimSpace(text)}, false, r.dir)
		}
	}
}

// listMark begins an entry of a list in reStructuredText.
var listMark = expr.New(`^([-*+]|\(?[0-9a-z#]{1,3}[.)])\s+`)

// announcesCode is a line of reStructuredText below which a block is taken as it stands.
var announcesCode = expr.New(
	`^(\.\. (code|code-block|sourcecode|prompt|parsed-literal|console|highlight)::.*|[^.].*:|\.[^.].*:|:+)$`)

// directive is one that names a language for its block.
var directive = expr.New(`^\.\. (?:code|code-block|sourcecode|prompt)::\s*([\w-]*)`)

// literals are words of a sentence that stand for themselves.
var literals = expr.New("``([^`]+)``")

// restructured reads reStructuredText: a literal block begins below a line that ends in two colons,
// or as people write in one, or below a directive for code; most other directives hold prose. Lines
// with a prompt stand for themselves.
func (r *reader) restructured([]byte) {
	r.underlined()
	base := -1 // the indentation of what announces the block; -1 outside of one
	other := false
	for i, text := range r.Lines {
		trimmed := strings.TrimSpace(text)
		if trimmed == "" {
			continue
		}
		inside := base >= 0 && indentation(text) > base
		if !inside {
			if base = -1; announcesCode.MatchString(trimmed) {
				base = indentation(text) + len(listMark.FindString(trimmed))
				m := directive.FindStringSubmatch(trimmed)
				other = m != nil && !slices.Contains(fences, strings.ToLower(m[1]))
			}
		}
		switch {
		case inside && other:
		case inside && isIndented(text), strings.HasPrefix(trimmed, "$ ") && isIndented(text):
			r.command(line{i + 1, trimmed}, false, r.dir)
		case !inside:
			for _, m := range literals.FindAllStringSubmatch(text, -1) {
				r.span(line{i + 1, m[1]})
			}
		}
	}
}
