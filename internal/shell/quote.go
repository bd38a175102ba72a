package shell

import "strings"

// Word is a text as a shell takes it for one word.
func Word(s string) string {
	if s != "" && !strings.ContainsAny(s, " \t\n\"'$`&|;<>()*?#~!\\{}[]") {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Line is a command as a shell would take it.
func Line(words []string) string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = Word(w)
	}
	return strings.Join(out, " ")
}
