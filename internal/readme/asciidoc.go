package readme

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
)

var (
	// A head, and the one of Markdown, which AsciiDoc takes too ("Section titles").
	asciiHead = expr.New(`^(?:={1,6}|#{1,6})\s+(\S.*)$`)
	// What a block is: [source,bash], [,console], [listing].
	asciiStyle = expr.New(`^\[(source|listing|literal)?(?:\s*,\s*([\w-]*))?[^\]]*\]$`)
	// Where a block of lines that are taken as they stand begins and ends.
	asciiFence = expr.New("^(-{4,}|\\.{4,}|`{3,})([\\w-]*)\\s*$")
	asciiItem  = expr.New(`^\s*(?:\*+|\.+|-|\d+\.)\s+(\S.*)$`)
	asciiSpan  = expr.New("`\\+?([^`]+?)\\+?`")
)

// asciidoc reads AsciiDoc: listing and literal blocks with the language that their style names,
// indented paragraphs, entries of lists, and words between backticks.
func (r *reader) asciidoc([]byte) {
	var block, paragraph []line
	fence, lang, styled := "", "", false
	for i, text := range append(r.Lines, "end") { // where the last block ends, too
		number, trimmed := i+1, strings.TrimRight(text, " \t")
		if fence != "" {
			if trimmed == fence {
				if slices.Contains(fences, lang) {
					r.block(block, isShell(lang))
				}
				fence, lang, block = "", "", nil
				continue
			}
			block = append(block, line{number, text})
			continue
		}
		if m := asciiFence.FindStringSubmatch(trimmed); m != nil {
			if fence = m[1]; m[2] != "" || !styled {
				lang = strings.ToLower(m[2])
			}
			styled = false
			continue
		}
		if m := asciiStyle.FindStringSubmatch(trimmed); m != nil {
			lang, styled = strings.ToLower(m[2]), true
			continue
		}
		literal := trimmed != "" && indentation(text) > 0 && !asciiItem.MatchString(text)
		if !literal && trimmed != "" {
			r.block(paragraph, false)
			paragraph = nil
		}
		switch m := asciiHead.FindStringSubmatch(trimmed); {
		case m != nil:
			r.section(m[1], number)
		case literal:
			paragraph = append(paragraph, line{number, strings.TrimSpace(text)})
		default:
			if m := asciiItem.FindStringSubmatch(text); m != nil {
				r.entry(line{number, m[1]})
			}
			for _, m := range asciiSpan.FindAllStringSubmatch(text, -1) {
				r.span(line{number, m[1]})
			}
		}
		// A title may stand between a style and its block.
		styled = styled && strings.HasPrefix(trimmed, ".")
	}
}
