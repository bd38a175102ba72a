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

// plain reads a text without markup: its indented lines are commands, as many as follow each other
// a block.
func (r *reader) plain([]byte) {
	r.underlined()
	var block []line
	for i, text := range append(r.Lines, "end") { // where the last block ends, too
		switch {
		case isIndented(text):
			block = append(block, line{i + 1, strings.TrimSpace(text)})
		case strings.TrimSpace(text) != "":
			r.block(block, false)
			block = nil
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
	other, lang := false, ""
	var block []line
	for i, text := range append(r.Lines, "end") { // where the last block ends, too
		trimmed := strings.TrimSpace(text)
		if trimmed == "" {
			continue
		}
		inside := base >= 0 && indentation(text) > base
		prompted := strings.HasPrefix(trimmed, "$ ") && isIndented(text)
		if !inside && !prompted {
			r.block(block, isShell(lang))
			block = nil
		}
		if !inside {
			base, lang = announced(text)
			other = lang != "" && !slices.Contains(fences, lang)
		}
		switch {
		case inside && other:
		case inside && isIndented(text), prompted:
			block = append(block, line{i + 1, trimmed})
		case !inside:
			for _, m := range literals.FindAllStringSubmatch(text, -1) {
				r.span(line{i + 1, m[1]})
			}
		}
	}
}

// announced tells whether a line announces a block of code: the indentation of what does, -1 for
// none, and the block's language or directive.
func announced(text string) (base int, lang string) {
	trimmed := strings.TrimSpace(text)
	if !announcesCode.MatchString(trimmed) {
		return -1, ""
	}
	if m := directive.FindStringSubmatch(trimmed); m != nil {
		lang = strings.ToLower(m[1])
	}
	return indentation(text) + len(listMark.FindString(trimmed)), lang
}
