package order

import (
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestStepsWaitForData lets a migration wait for what keeps data and for nothing else that its
// service talks to, and nothing wait for what is made for another service.
func TestStepsWaitForData(t *testing.T) {
	t.Parallel()
	s := harbour(t, `
db lasting 5432
queue lasting 5672
mail lasting 1025
own lasting 7000
office native 8000 install migrate
> db answering inferred
> queue answering inferred
> mail answering inferred
> own answering inferred
desk native 9000 install build
`)
	for name, as := range map[string][2]string{"db": {"postgres", "postgres:17"},
		"queue": {"amqp", "rabbitmq:4"},
		"mail":  {"smtp", "saltmarsh/mail"}, "own": {"tcp", "saltmarsh/own"}} {
		v := s.Service(name)
		v.Ports[0].Speaks, v.Image = as[0], as[1]
	}
	s.Projects[1].Steps[1].ForOthers = true
	s.Service("own").Ports[0].Speaks = "tcp"
	o, err := Build(s, Options{})
	if err != nil {
		t.Fatal(err)
	}
	waits := func(id stack.NodeID) string {
		var out []string
		for _, n := range o.Nodes {
			for _, e := range n.After {
				if n.ID == id {
					out = append(out, e.ID.Title())
				}
			}
		}
		return strings.Join(out, ", ")
	}
	if got := waits("step:migrate:office"); got != "db, own, install office" {
		t.Errorf("the migration waits for %s", got)
	}
	if got := waits("service:office"); got != "db, mail, own, queue, migrate office" {
		t.Errorf("the service waits for %s", got)
	}
	if got := waits("service:desk"); got != "install desk" {
		t.Errorf("what is served waits for %s", got)
	}
}
