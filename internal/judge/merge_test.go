package judge

import (
	"net/http"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestWhatRunsCounts judges services that run, also where the files don't speak of them any more.
func TestWhatRunsCounts(t *testing.T) {
	t.Parallel()
	port := site(t, func(http.ResponseWriter, *http.Request) {})
	r := launched(t, recorded("old-name", stack.IsUp, "", on(port)))
	got := Judging{Services: []stack.Service{{Name: "new-name", Kind: stack.Lasting,
		Ports: on(port)}}, Record: r}.
		Ask(t.Context())
	var said []string
	for _, s := range got.Services {
		text := s.Name
		if s.LeftOut {
			text += " left out"
		}
		said = append(said, text)
	}
	if strings.Join(said, ", ") != "new-name left out, old-name" || !got.Answers ||
		len(got.Ports) != 1 {
		t.Errorf("got %s, %v, ports %+v", strings.Join(said, ", "), got.Answers, got.Ports)
	}
}
