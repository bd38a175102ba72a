package address

import (
	"fmt"
	"testing"

	"nimbleharbor/internal/stack"
)

func TestFindAndRender(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ value, want, moved string }{
		{"postgres://u:p@db:5432/ferry", "postgres db 5432", "postgres://u:p@there:9/ferry"},
		{"https://quay.example/x", "https quay.example 443", "https://there:9/x"},
		{"cache:6379", " cache 6379", "there:9"},
		{"redis://Cache", "redis cache 6379", "redis://there:9"},
		{"http://a:80,http://b:81", "http a 80 http b 81", "http://a:80,http://there:9"},
	} {
		found := Find(c.value)
		var got string
		for i, a := range found {
			if i > 0 {
				got += " "
			}
			got += fmt.Sprint(a.Scheme, " ", a.Host, " ", a.Asked())
		}
		last := found[0]
		for _, a := range found {
			if a.Certain() {
				last = a
			}
		}
		if got != c.want && len(found) == 1 || last.In(c.value, "there", 9) != c.moved {
			t.Errorf("%s holds %q, and moved it is %s", c.value, got, last.In(c.value, "there", 9))
		}
	}
	if a := Find("redis://cache")[0]; a.In("redis://cache", "there", 6379) != "redis://there" {
		t.Errorf("a port that the scheme means is written: %s",
			a.In("redis://cache", "there", 6379))
	}
}

func TestResolve(t *testing.T) {
	t.Parallel()
	services := []stack.Service{
		{Name: "db", Runs: stack.Container,
			Ports: []stack.Port{{Host: 15432, Target: 5432}, {Target: 9187}},
			ContainerWay: stack.ContainerWay{Address: "db",
				Container: &stack.ContainerSpec{Aliases: []string{"ledger"}}}},
		{Name: "web", Runs: stack.Native, Ports: []stack.Port{{Host: 3000, Target: 3000}}},
	}
	for _, c := range []struct {
		reader string
		inside bool
		host   string
		port   int
		want   string
	}{
		{"web", false, "localhost", 15432, "db 0 false"}, {"web", false, "127.0.0.1", 5432, ""},
		{"api", true, "db", 5432, "db 0 true"}, {"api", true, "Ledger", 9187, "db 1 true"},
		{"api", true, "db", 0, "db 0 true"},
		{"api", true, "db", 7777, "db -1 true"}, {"api", true, "localhost", 3000, ""},
		{"api", true, Gateway, 3000, "web 0 false"}, {"db", true, "db", 5432, ""},
		{"web", false, "localhost", 3000, ""},
		{"web", false, "quay.example", 5432, ""}, {"web", false, "localhost", 0, ""},
	} {
		got := ""
		if ref, ok := Resolve(services, c.reader, c.inside, c.host, c.port); ok {
			got = fmt.Sprint(ref.Service, " ", ref.Port, " ", ref.Named)
		}
		if got != c.want {
			t.Errorf("%s:%d for %s means %q, want %q", c.host, c.port, c.reader, got, c.want)
		}
	}
}
