package rule

import "testing"

func TestOrder(t *testing.T) {
	t.Parallel()
	asked := 0
	rules := []Rule[int, string]{
		{"small", func(n int) bool { return n < 10 }, "a"},
		{"even", func(n int) bool { asked++; return n%2 == 0 }, "b"},
		{"any", nil, "c"},
	}
	for n, want := range map[int]string{3: "small", 12: "even", 13: "any"} {
		if r := First(rules, n); r == nil || r.Name != want {
			t.Errorf("of %d it is %+v, want %s", n, r, want)
		}
	}
	if asked != 2 {
		t.Errorf("a rule behind the one that decides was asked: %d times", asked)
	}
	if r := First(rules[:1], 10); r != nil {
		t.Errorf("none holds, and it is %+v", r)
	}
	all := ""
	for r := range Holding(rules, 4) {
		all += r.Then
	}
	if all != "abc" {
		t.Errorf("those that hold of 4 are %s", all)
	}
}
