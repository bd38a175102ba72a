package dotenv

import (
	"errors"
	"strings"
	"testing"
)

var variables = map[string]string{"SET": "value", "EMPTY": "", "NAME": "SET", "_x1": "under"}

func lookup(name string) (string, bool) {
	v, ok := variables[name]
	return v, ok
}

func TestExpand(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ text, want string }{
		{"plain", "plain"},
		{"$SET and ${SET}", "value and value"},
		{"a${SET}b", "avalueb"},
		{"$SETTING", ""},
		{"${_x1}$_x1", "underunder"},
		{"$$SET $${SET} $$$SET", "$SET ${SET} $value"},
		{"cost: 5$", "cost: 5$"},
		{"$1 $- $", "$1 $- $"},
		{"${SET:-d}${EMPTY:-d}${UNSET:-d}", "valuedd"},
		{"${SET-d}|${EMPTY-d}|${UNSET-d}", "value||d"},
		{"${SET:+r}|${EMPTY:+r}|${UNSET:+r}", "r||"},
		{"${SET+r}|${EMPTY+r}|${UNSET+r}", "r|r|"},
		{"${SET:?no}${SET?no}${EMPTY?no}", "valuevalue"},
		{"${UNSET:-${SET}}", "value"},
		{"${UNSET:-${EMPTY:-${UNSET-deep}}}", "deep"},
		{"${UNSET:-a}b}", "ab}"},
		{"${UNSET:-$$}", "$"},
		{"${SET:-${UNSET:?never asked}}", "value"},
		{"${UNSET+${UNSET?never asked}}", ""},
		{"${UNSET:-x:y?z-w+v}", "x:y?z-w+v"},
		{"${EMPTY:+${UNSET?no}}x", "x"},
		{"größer ${SET}", "größer value"},
	} {
		got, _, err := Expand(c.text, lookup)
		if err != nil || got != c.want {
			t.Errorf("Expand(%q) = %q, %v; want %q", c.text, got, err, c.want)
		}
	}
}

func TestExpandFails(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		text     string
		offset   int
		says     string
		variable string
	}{
		{"ab${SET", 2, "closing brace", ""},
		{"${", 0, "name is expected", ""},
		{"${}", 0, "name is expected", ""},
		{"${1}", 0, "name is expected", ""},
		{"${SET!x}", 5, "is expected", ""},
		{"${SET:x}", 6, "is expected", ""},
		{"${SET:-open", 0, "closing brace", ""},
		{"${UNSET?}", 0, "UNSET is required", "UNSET"},
		{"x${EMPTY:?say why}", 1, "EMPTY is required: say why", "EMPTY"},
		{"${UNSET:-${OTHER:?inner}}", 9, "OTHER is required: inner", "OTHER"},
		{strings.Repeat("${A:-", 100) + strings.Repeat("}", 100), -1, "nested", ""},
	} {
		_, _, err := Expand(c.text, lookup)
		var e *ExpandError
		if !errors.As(err, &e) {
			t.Errorf("Expand(%q) fails with %v", c.text, err)
			continue
		}
		if c.offset >= 0 && e.Offset != c.offset || !strings.Contains(e.Text, c.says) ||
			e.Variable != c.variable {
			t.Errorf("Expand(%q): %q at %d, variable %q; want %q at %d, variable %q", c.text,
				e.Text, e.Offset, e.Variable, c.says, c.offset, c.variable)
		}
	}
}

func TestExpandTellsWhatItUsed(t *testing.T) {
	t.Parallel()
	_, uses, err := Expand("$SET ${UNSET} ${OTHER:-x} ${SET:+${INNER}} ${SET:-${NEVER}}", lookup)
	if err != nil {
		t.Fatal(err)
	}
	want := []Use{{"SET", true, false}, {"UNSET", false, false}, {"OTHER", false, true},
		{"SET", true, true}, {"INNER", false, false}, {"SET", true, true}}
	if len(uses) != len(want) {
		t.Fatalf("uses %v, want %v", uses, want)
	}
	for i := range want {
		if uses[i] != want[i] {
			t.Errorf("use %d is %v, want %v", i, uses[i], want[i])
		}
	}
}

func FuzzExpand(f *testing.F) {
	for _, s := range []string{"", "$", "${", "${A:-${B}}", "$$${A?x}", "${A:+", "${SET:-}}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		got, _, err := Expand(s, func(string) (string, bool) { return "", false })
		if err == nil && !strings.Contains(s, "$") && got != s {
			t.Errorf("a text without variables changed from %q to %q", s, got)
		}
		var e *ExpandError
		if err != nil && (!errors.As(err, &e) || e.Offset < 0 || e.Offset > len(s)) {
			t.Errorf("the error %v has no place in %q", err, s)
		}
	})
}
