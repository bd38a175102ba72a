package view

import (
	"bytes"
	"testing"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/stack"
)

// TestVouch shows each line once that several commands share, and what has changed.
func TestVouch(t *testing.T) {
	t.Parallel()
	lines := []string{"FROM scratch", "COPY a /a", "COPY b /b", "CMD /a"}
	var out bytes.Buffer
	(&Text{Out: &out, Width: 80}).Vouch([]consent.Command{
		{ID: "service:office", Shows: "container built from Dockerfile",
			Detail: append(lines[:4:4], "runs: /a"),
			At:     stack.Place{File: "compose.yaml", Line: 2}},
		{ID: "service:rota", Shows: "container built from Dockerfile",
			Detail: append(lines[:4:4], "runs: /b"), New: true},
		{ID: "service:mail", Shows: "mailpost", Detail: lines[:3], New: true, Changed: true},
	})
	const want = `office
    container built from Dockerfile
      FROM scratch
      COPY a /a
      COPY b /b
      CMD /a
      runs: /a
      compose.yaml:2
rota  (not vouched for yet)
    container built from Dockerfile
      FROM scratch
      … and 3 more lines, as for office
      runs: /b
mail  (changed since you vouched for it)
    mailpost
      FROM scratch
      COPY a /a
      COPY b /b
`
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", &out, want)
	}
}
