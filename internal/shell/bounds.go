package shell

import "strings"

// A line of a checkout can be nested as deeply, and joined of as many parts, as its author likes; a
// parser that goes down with each of them would exhaust its stack, which nothing survives. What is
// beyond these bounds is no line that somebody has written for a shell: it is taken apart at
// blanks.
const (
	maxText = 1 << 20 // bytes
	// of brackets, quotes in brackets, and words that begin a command which needs an end
	maxDepth = 100
	maxParts = 2000 // of one command, joined by operators
)

// within reports whether a text is within the bounds. It counts more rather than less: brackets in
// quotes count too.
func within(text string) bool {
	if len(text) > maxText {
		return false
	}
	depth, deepest, parts, ticks := 0, 0, 0, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '(', '{', '[':
			depth++
			deepest = max(deepest, depth)
		case ')', '}', ']':
			depth = max(depth-1, 0)
		case '`':
			ticks++
		case '|', '&', '!':
			if parts++; parts > maxParts {
				return false
			}
		case '\n', ';':
			parts = 0
		case '\\':
			i++
		}
		if deepest > maxDepth || ticks > maxParts {
			return false
		}
	}
	return begins(text) <= maxDepth
}

// opens are the words that begin a command which needs an end, and closes those that end one.
var (
	opens = map[string]bool{"if": true, "while": true, "until": true, "for": true, "case": true, "select": true,
		"time": true, "coproc": true, "function": true}
	closes = map[string]bool{"fi": true, "done": true, "esac": true}
)

// begins is how deeply commands are nested that need an end, at most.
func begins(text string) (most int) {
	depth := 0
	for word := range strings.FieldsFuncSeq(text, func(r rune) bool { return strings.ContainsRune(" \t\n;|&()", r) }) {
		switch {
		case opens[word]:
			depth++
			most = max(most, depth)
		case closes[word]:
			depth = max(depth-1, 0)
		}
	}
	return most
}
