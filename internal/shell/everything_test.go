package shell

import (
	"strings"
	"testing"
)

// TestEverything finds the commands that stand inside of words too.
func TestEverything(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"a b":                            "a b",
		"a $(b c) `d`":                   "a $(b c) `d` | b c | d",
		"x=$(a $(b)); c":                 "| c | a $(b) | b",
		"diff <(a) >(b)":                 "diff <(a) >(b) | a | b",
		"cat <<E\n$(a)\nE":               "cat | a",
		"\"$(a)\" '$(b)'":                "\"$(a)\" $(b) | a",
		"if [ -n \"$(a)\" ]; then b; fi": "[ -n \"$(a)\" ] | b | a",
		"for i in $(a); do b $i; done":   "a | b $i | a",
		"f() { a; }; f":                  "a | f",
		"a ' && b; c":                    "a ' | b | c",
		"":                               "",
	} {
		var got []string
		for _, c := range Everything(line) {
			got = append(got, strings.Join(c.Words, " "))
		}
		if strings.Join(got, " | ") != strings.TrimPrefix(want, " ") &&
			strings.Join(got, " | ") != " "+want {
			t.Errorf("%q has %q, want %q", line, strings.Join(got, " | "), want)
		}
	}
}
