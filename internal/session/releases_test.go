package session

import (
	"fmt"
	"os/exec"
	"strings"
	"testing"
)

// tagged makes a repository with a tag for each of the manifests, the oldest first, beside projects
// that stay the same.
func tagged(t testing.TB, manifests ...string) string {
	t.Helper()
	dir := t.TempDir()
	in := &strings.Builder{}
	for i, text := range manifests {
		fmt.Fprintf(in, "commit refs/heads/main\ncommitter Ida <ida@quay.example> %d "+
			"+0000\ndata 4\ntide\n", 1700000000+i)
		if i == 0 {
			for k := range 8 {
				module := fmt.Sprintf("module quay.example/p%d\n", k)
				fmt.Fprintf(in, "M 644 inline parts/p%d/go.mod\ndata %d\n%s\n", k, len(module),
					module)
			}
		}
		fmt.Fprintf(in, "M 644 inline web/package.json\ndata %d\n%s\n", len(text), text)
		fmt.Fprintf(in, "tag v%d.0.0\nfrom refs/heads/main\ntagger Ida <ida@quay.example> %d "+
			"+0000\ndata 1\nx\n", i+1, 1700000000+i)
	}
	for _, words := range [][]string{{"init", "-q", "-b", "main"}, {"fast-import", "--quiet"}} {
		cmd := exec.Command("git", words...)
		cmd.Dir, cmd.Stdin = dir, strings.NewReader(in.String())
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("git %v: %v\n%s", words, err, out)
		}
	}
	return dir
}

func wanting(node string) string {
	return fmt.Sprintf(`{"engines": {"node": %q}, "scripts": {"start": "node x.js"}}`, node)
}

// TestFitting finds the newest tag that takes what a machine has.
func TestFitting(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name      string
		manifests []string
		here      map[string]string
		tag       string
		against   int
		says      string
	}{
		{"the newest", []string{wanting("^18"), wanting("^20")},
			map[string]string{"node": "20.1.0"}, "v2.0.0", 0, ""},
		{"an older one", []string{wanting("^18"), wanting("^20"), wanting("^22")},
			map[string]string{"node": "18.3.0"}, "v1.0.0", 2, ""},
		{"none", []string{wanting("^18"), wanting("^20")}, map[string]string{"node": "16.0.0"}, "",
			0, "v2.0.0 asks for node ^20, and here is 16.0.0"},
		{"a tool that is not here", []string{wanting("^18"), wanting("^20")}, nil, "v2.0.0", 0, ""},
		{"a manifest that can't be read", []string{wanting("^18"), "{"},
			map[string]string{"node": "18.3.0"}, "v1.0.0", 1, ""},
		{"no tags", nil, nil, "", 0, "it has no tags"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			tag, against, err := Fitting(t.Context(), tagged(t, c.manifests...),
				func(tool string) string { return c.here[tool] })
			if tag != c.tag || len(against) != c.against || (err == nil) != (c.says == "") ||
				err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%q, against newer ones %q, %v", tag, against, err)
			}
		})
	}
}

// BenchmarkFitting reads the manifests of 500 tags, none of which fits (asked: at most 1 s).
func BenchmarkFitting(b *testing.B) {
	var manifests []string
	for i := range 500 {
		manifests = append(manifests,
			strings.Replace(wanting("^22"), "{", fmt.Sprintf(`{"version": "%d.0.0", `, i), 1))
	}
	dir := tagged(b, manifests...)
	for b.Loop() {
		if _, _, err := Fitting(b.Context(), dir,
			func(string) string { return "20.1.0" }); err == nil {
			b.Fatal("one fits")
		}
	}
}
