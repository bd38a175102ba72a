package order

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// harbour describes a stack in lines: "NAME KIND PORT", then "> OTHER UNTIL BECAUSE" for what it
// waits for.
func harbour(t *testing.T, text string) *stack.Stack {
	t.Helper()
	s := &stack.Stack{}
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		if f[0] == ">" {
			last := &s.Services[len(s.Services)-1]
			last.After = append(last.After,
				stack.After{Service: f[1], Until: stack.Until(f[2]), Because: f[3],
					Reason: "a reason", At: stack.Place{File: "compose.yaml", Line: 7}})
			continue
		}
		v := stack.Service{Name: f[0], Kind: stack.Lifetime(f[1]), Runs: stack.Container}
		if f[2] != "0" {
			v.Ports = []stack.Port{{Host: 8000, Target: 80, Transport: "tcp"}}
		}
		if f[1] == "native" {
			v.Kind, v.Runs, v.Project, v.Manager = stack.Lasting, stack.Native, f[0], "npm"
			p := stack.Project{Path: f[0], Manager: "npm", Serve: &stack.Serve{}}
			for _, r := range f[3:] {
				p.Steps = append(p.Steps, stack.Step{ID: r + ":" + f[0], Role: stack.Role(r)})
			}
			s.Projects = append(s.Projects, p)
		}
		s.Services = append(s.Services, v)
	}
	return s
}

// edges writes an order as lines "RANK NODE < OTHER UNTIL".
func edges(o *Order) string {
	var out strings.Builder
	for _, n := range o.Nodes {
		fmt.Fprintf(&out, "%d %s", n.Rank, n.ID)
		for _, e := range n.After {
			fmt.Fprintf(&out, " < %s %s", e.ID, e.Until)
		}
		out.WriteByte('\n')
	}
	return out.String()
}

func TestBuild(t *testing.T) {
	t.Parallel()
	const app = `
		web native 1 install build migrate test
		> api answering inferred
		api lasting 1
		> db begun declared
		> setup finished declared
		setup once 0
		> db answering declared
		db lasting 1
		lone lasting 0
		> silent begun declared
		silent lasting 0`
	for _, c := range []struct {
		name, stack string
		opt         Options
		want        string
	}{
		{"everything", app, Options{}, `
			0 step:install:web
			0 service:db
			0 service:silent
			1 step:build:web < step:install:web finished
			1 service:lone < service:silent begun
			1 service:setup < service:db answering
			2 service:api < service:db answering < service:setup finished
			3 step:migrate:web < service:api answering < step:build:web finished
			4 service:web < service:api answering < step:migrate:web finished`},
		{"to the letter", app, Options{Literal: true, Services: []string{"api"}}, `
			0 service:db
			1 service:setup < service:db answering
			2 service:api < service:db begun < service:setup finished`},
		{"one service and what it needs", app, Options{Services: []string{"setup"}}, `
			0 service:db
			1 service:setup < service:db answering`},
		{"all but one", app, Options{Except: []string{"db", "web"}}, `
			0 service:setup
			0 service:silent
			1 service:api < service:setup finished
			1 service:lone < service:silent begun`},
		{"an inferred edge that would close a circle is dropped", `
			a lasting 1
			> b answering declared
			b lasting 1
			> c answering declared
			c lasting 1
			> a answering inferred`, Options{}, `
			0 service:c
			1 service:b < service:c answering
			2 service:a < service:b answering`},
		{"the strongest until of a pair governs", `
			a lasting 1
			> b begun declared
			> b answering inferred
			b lasting 0`, Options{Literal: true}, `
			0 service:b
			1 service:a < service:b answering`},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			o, err := Build(harbour(t, c.stack), c.opt)
			if err != nil {
				t.Fatal(err)
			}
			want := strings.ReplaceAll(strings.TrimPrefix(c.want, "\n"), "\t", "") + "\n"
			if got := edges(o); got != want {
				t.Errorf("got\n%s\nwant\n%s", got, want)
			}
		})
	}
}

func TestReasons(t *testing.T) {
	t.Parallel()
	o, err := Build(harbour(t, `
		a lasting 1
		> b begun declared
		> b answering inferred
		b lasting 1
		> a answering inferred`), Options{})
	if err != nil {
		t.Fatal(err)
	}
	if len(o.Remarks) != 1 || o.Remarks[0].Code != "order-edge-dropped" ||
		!strings.Contains(o.Remarks[0].Text, "b does not wait for a") {
		t.Errorf("the dropped edge is remarked as %+v", o.Remarks)
	}
	e := o.Nodes[1].After[0]
	if e.Because != stack.Declared || e.At.Line != 7 || !strings.Contains(e.Reason, "a reason") {
		t.Errorf("the edge is %+v", e)
	}
}

func TestDeclaredCycle(t *testing.T) {
	t.Parallel()
	o, err := Build(harbour(t, `
		x lasting 1
		> a answering declared
		a lasting 1
		> b answering declared
		b lasting 1
		> c finished declared
		c lasting 1
		> a begun declared`), Options{})
	var f *stack.Fault
	if !errors.As(err, &f) || f.Code != "order-cycle" || f.At.Line != 7 ||
		f.Kind != stack.Unreadable {
		t.Fatalf("the error is %#v", err)
	}
	if want := []stack.NodeID{"service:a", "service:b", "service:c",
		"service:a"}; !slices.Equal(o.Cycle, want) {
		t.Errorf("the cycle is %v, want %v", o.Cycle, want)
	}
}

func TestUnknownService(t *testing.T) {
	t.Parallel()
	for _, opt := range []Options{{Services: []string{"wbe"}}, {Except: []string{"wbe"}}} {
		_, err := Build(harbour(t, "web lasting 1\ndb lasting 1"), opt)
		var f *stack.Fault
		if !errors.As(err, &f) || f.Kind != stack.WrongCall ||
			!strings.Contains(f.Remedy, "db, web") {
			t.Errorf("the error is %#v", err)
		}
	}
}

func TestCriticalPath(t *testing.T) {
	t.Parallel()
	s := harbour(t, `
		web native 1 install
		> api answering inferred
		api lasting 1
		> db answering declared
		db lasting 1`)
	for _, c := range []struct {
		seconds  map[stack.NodeID]float64
		want     string
		estimate float64
	}{
		{nil, "step:install:web service:web", 0},
		{map[stack.NodeID]float64{"step:install:web": 0.5, "service:db": 3, "service:api": 2,
			"service:web": 1}, "service:db service:api service:web", 6},
		{map[stack.NodeID]float64{"step:install:web": 9, "service:db": 3, "service:api": 2,
			"service:web": 1.5}, "step:install:web service:web", 10.5},
	} {
		o, err := Build(s, Options{Seconds: c.seconds})
		if err != nil || strings.Trim(fmt.Sprint(o.CriticalPath), "[]") != c.want ||
			o.Estimate != c.estimate {
			t.Errorf("with %v: %v, %v s, %v; want %s, %v s", c.seconds, o.CriticalPath, o.Estimate,
				err, c.want, c.estimate)
		}
	}
}

// large makes n services of which each waits for up to five before it.
func large(n int) *stack.Stack {
	s := &stack.Stack{}
	for i := range n {
		v := stack.Service{Name: fmt.Sprint("s", i), Kind: stack.Lasting}
		for k := 1; k <= 5 && i-k*k >= 0; k++ {
			v.After = append(v.After, stack.After{Service: fmt.Sprint("s", i-k*k),
				Until: stack.Begun, Because: stack.Declared})
		}
		s.Services = append(s.Services, v)
	}
	return s
}

func BenchmarkBuild(b *testing.B) {
	for _, n := range []int{100, 1000, 10000} {
		s := large(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if _, err := Build(s, Options{}); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// TestMembers orders the steps of a project whose members are served apart: each waits for its own
// and for those that it uses, not for the other members'.
func TestMembers(t *testing.T) {
	t.Parallel()
	step := func(id, folder string, after ...string) stack.Step {
		role, _, _ := strings.Cut(id, ":")
		return stack.Step{ID: id, Role: stack.Role(role), Folder: folder, AfterSteps: after}
	}
	s := &stack.Stack{
		Projects: []stack.Project{{Path: ".", Manager: "npm",
			Steps: []stack.Step{step("install:.", ""), step("build:lib", "lib", "build:base"),
				step("build:base", "base"), step("build:web", "web"), step("migrate:api", "api")}}},
		Services: []stack.Service{
			{Name: "web", Kind: stack.Lasting, Runs: stack.Native, Project: ".", Manager: "npm",
				NativeWay: stack.NativeWay{Folder: "web", AfterSteps: []string{"build:lib"}}},
			{Name: "api", Kind: stack.Lasting, Runs: stack.Native, Project: ".", Manager: "npm",
				NativeWay: stack.NativeWay{Folder: "api"}},
		},
	}
	o, err := Build(s, Options{})
	if err != nil {
		t.Fatal(err)
	}
	want := `0 step:install:.
1 step:build:base < step:install:. finished
1 step:build:web < step:install:. finished
1 step:migrate:api < step:install:. finished
2 step:build:lib < step:build:base finished < step:install:. finished
2 service:api < step:migrate:api finished
3 service:web < step:build:lib finished < step:build:web finished
`
	if got := edges(o); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestTheWeakestIsDropped leaves out of a circle of inferred edges the one that asks for least.
func TestTheWeakestIsDropped(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"a lasting 1\n> b answering inferred\nb lasting 1\n> c begun inferred\nc lasting 0\n> a " +
			"answering inferred": "b does not wait for c",
		"a lasting 1\n> b begun inferred\nb lasting 0\n> a answering " +
			"declared": "a does not wait for b",
		"a lasting 1\n> b finished inferred\nb once 0\n> c answering inferred\nc lasting 1\n> a " +
			"answering declared": "b does not wait for c",
		"a lasting 1\n> b answering declared\nb lasting 1\n> a begun inferred\n> c begun " +
			"inferred\nc lasting 0": "b does not wait for a",
	} {
		o, err := Build(harbour(t, text), Options{Literal: true})
		if err != nil || len(o.Cycle) > 0 || len(o.Remarks) != 1 ||
			!strings.Contains(o.Remarks[0].Text, want) {
			t.Errorf("%s\ngives %+v, %v; want that %s", text, o.Remarks, err, want)
		}
	}
}
