package survey

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/stack"
)

// TestCases surveys the workspaces in testdata and compares what is found, one conclusion a line.
func TestCases(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		s, err := Survey(c.FS("checkouts"), caseOptions(c))
		c.Want(t, conclusions(s)+faults(err))
	})
}

func caseOptions(c *casefile.Case) Options {
	opt := Options{Root: "/home/ida/saltmarsh"}
	for _, line := range strings.Fields(c.Files["checkouts"]) {
		folder, address, _ := strings.Cut(line, "=")
		opt.Checkouts = append(opt.Checkouts, stack.Checkout{Path: folder, Address: address})
	}
	return opt
}

// TestPassesDeclareWhatTheyNeed takes the passes in random orders that respect what they declare:
// each concludes the same. Only remarks may come in another order.
func TestPassesDeclareWhatTheyNeed(t *testing.T) {
	t.Parallel()
	whole := func(c *casefile.Case, order []pass) string {
		s := newSurveyor(c.FS("checkouts"), caseOptions(c))
		s.passes = order
		if err := s.look(); err != nil {
			return err.Error()
		}
		slices.SortFunc(s.Stack.Remarks, func(a, b stack.Remark) int {
			return strings.Compare(fmt.Sprint(a), fmt.Sprint(b))
		})
		text, err := json.MarshalIndent(s.Stack, "", " ")
		if err != nil {
			t.Fatal(err)
		}
		return string(text) + fmt.Sprint(s.Stack.Claims)
	}
	cases := casefile.All(t, "testdata/*.case")
	usual := make([]string, len(cases))
	for i, c := range cases {
		usual[i] = whole(c, passes)
	}
	seed := uint64(time.Now().UnixNano())
	chance := rand.New(rand.NewPCG(seed, 0))
	for range 4 * len(cases) {
		order := shuffled(chance)
		i := chance.IntN(len(cases))
		if got := whole(cases[i], order); got != usual[i] {
			t.Fatalf("seed %d, %s: in the order %v it concludes\n%s", seed, cases[i].File,
				names(order), difference(usual[i], got))
		}
	}
}

// shuffled are the passes in a random order in which each comes after those that it names.
func shuffled(chance *rand.Rand) (order []pass) {
	done := map[string]bool{}
	for len(order) < len(passes) {
		p := passes[chance.IntN(len(passes))]
		if !done[p.name] && !slices.ContainsFunc(p.after,
			func(name string) bool { return !done[name] }) {
			order, done[p.name] = append(order, p), true
		}
	}
	return order
}

func names(order []pass) (out []string) {
	for _, p := range order {
		out = append(out, p.name)
	}
	return out
}

// difference is the first line in which two texts differ, with those around it.
func difference(want, got string) string {
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	for i := range min(len(w), len(g)) {
		if w[i] != g[i] {
			from := max(0, i-6)
			return fmt.Sprintf("…\n%s\ninstead of\n%s",
				strings.Join(g[from:min(len(g), i+3)], "\n"),
				strings.Join(w[from:min(len(w), i+3)], "\n"))
		}
	}
	return "more or less of the same"
}

// conclusions writes a survey as lines.
func conclusions(s *stack.Stack) string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	for _, p := range s.Projects {
		say("project %s: %s %s %s", p.Path, p.Ecosystem, p.Manager, p.Framework)
		for _, r := range p.Runtimes {
			asks := "wants"
			if r.Hint {
				asks = "hint:"
			}
			say("  %s %s %s (%s:%d)", asks, r.Tool, r.Constraint, r.At.File, r.At.Line)
		}
		for _, m := range p.Members {
			say("  member %s", m)
		}
		for _, x := range p.Sources {
			say("  packages from %s, login=%v %s (%s:%d)", x.Address, x.Login, x.Variable,
				x.At.File, x.At.Line)
		}
		for _, c := range p.Compiles {
			say("  compiles %s with %s, certain=%v (%s:%d)", c.Package, c.Takes, c.Certain,
				c.At.File, c.At.Line)
		}
		for _, st := range p.Steps {
			say("  step %s: %s (%s:%d)%s", st.ID, strings.Join(st.Command, " "), st.At.File,
				st.At.Line, known(st.Sure))
			for _, id := range st.AfterSteps {
				say("    after %s", id)
			}
			for _, e := range st.Expands {
				say("    runs %s", e)
			}
		}
	}
	for _, f := range s.ComposeFiles {
		say("compose file %s active=%v", f.Path, f.Active)
	}
	for _, v := range s.Services {
		say("service %s: %s %s from %s, project %q, %s%s%s%s", v.Name, v.Runs, v.Kind, v.Source,
			v.Project, strings.Join(v.Command, " "), v.Image, v.Build, known(v.Sure))
		if v.Folder != "" {
			say("  in %s", v.Folder)
		}
		for _, id := range v.AfterSteps {
			say("  after %s", id)
		}
		for _, p := range v.Ports {
			say("  port %d to %d %s (%s:%d)%s", p.Host, p.Target, p.Speaks, p.At.File, p.At.Line,
				known(p.Sure))
		}
		for _, a := range v.After {
			say("  after %s %s, %s: %s (%s:%d)%s", a.Service, a.Until, a.Because, a.Reason,
				a.At.File, a.At.Line, known(a.Sure))
		}
		for _, e := range v.EnvFiles {
			say("  reads %s", e.Path)
		}
		for _, p := range v.Pages {
			say("  page %s on %d (%s:%d)", p.Path, p.Port, p.At.File, p.At.Line)
		}
		for _, n := range v.Names {
			say("  called %s on %d (%s:%d)", n.Host, n.Port, n.At.File, n.At.Line)
		}
	}
	for _, e := range s.EnvFiles {
		say("settings %s from %q present=%v, %d, %d to fill%s", e.Path, e.Template, e.Present,
			e.Settings, e.Unfilled, known(e.Sure))
	}
	for _, w := range s.Servers {
		say("server elsewhere: %s on %d for %s, by %s (%s:%d), made by %q, needed=%v", w.Speaks,
			w.Port, w.For, w.Key, w.At.File, w.At.Line, w.MadeBy, w.Needed)
		if w.Database+w.User+w.Image != "" {
			say("  database %q, user %q, image %q (%s:%d)", w.Database, w.User, w.Image,
				w.ImageAt.File, w.ImageAt.Line)
		}
	}
	for _, d := range s.Readme {
		by := "nothing does it"
		if d.Why != "" {
			by += ": " + d.Why
		}
		if d.Covered {
			by = "by " + string(d.By)
		}
		if d.Aside {
			by += ", aside"
		}
		say("readme %s:%d asks %s: %s", d.At.File, d.At.Line, d.Command, by)
	}
	for _, a := range s.Asks {
		say("asks %s in %q of %q, with %v (%s:%d)", strings.Join(a.Command, " "), a.Folder,
			a.Service, a.Env, a.At.File, a.At.Line)
	}
	for _, u := range s.Unplaced {
		say("unplaced %s %s (%s:%d)", u.What, u.Value, u.At.File, u.At.Line)
	}
	for _, i := range s.SignIns {
		say("sign-in %s with %s (%s:%d)", i.User, i.Password, i.At.File, i.At.Line)
	}
	for _, r := range s.Remarks {
		say("%s %s: %s (%s:%d)", r.Level, r.Code, r.Text, r.At.File, r.At.Line)
	}
	return out.String()
}

// known is how a conclusion is known, where no file says it.
func known(sure stack.Sure) string {
	if sure == stack.Said {
		return ""
	}
	return " (" + string(sure) + ")"
}

func faults(err error) string {
	if err == nil {
		return ""
	}
	var out strings.Builder
	for _, f := range stack.AllFaults(err) {
		fmt.Fprintf(&out, "fault %s at %s: %s\n", f.Code, f.Where(), f.Text)
	}
	return out.String()
}

func TestNothingFound(t *testing.T) {
	t.Parallel()
	for name, fsys := range map[string]fs.FS{
		"an empty folder":     fstest.MapFS{},
		"a folder with notes": fstest.MapFS{"notes.txt": {Data: []byte("hello")}},
		"only what is left out": fstest.MapFS{"node_modules/x/package.json": {Data: []byte("{}")},
			".git/compose.yaml": {Data: []byte("x")}},
		"a manifest by a folder": fstest.MapFS{"package.json/x": {Data: []byte("{}")}},
	} {
		_, err := Survey(fsys, Options{Root: "/w"})
		var f *stack.Fault
		if !errors.As(err, &f) || f.Code != "nothing-found" ||
			!strings.Contains(f.Remedy, "compose.yaml") ||
			!strings.Contains(f.Remedy, "package.json") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestDeepFoldersEnd(t *testing.T) {
	t.Parallel()
	fsys := fstest.MapFS{"package.json": {Data: []byte(`{"scripts":{"start":"node x.js --port 4000"}}`)}}
	fsys[strings.Repeat("d/", 100)+"package.json"] = &fstest.MapFile{Data: []byte("{}")}
	s, err := Survey(fsys, Options{Root: "/w"})
	if err != nil || len(s.Projects) != 1 {
		t.Errorf("%d projects, %v", len(s.Projects), err)
	}
	if !slices.ContainsFunc(s.Remarks,
		func(r stack.Remark) bool { return r.Code == "folder-too-deep" }) {
		t.Error("that deeper folders are left out is not said")
	}
}

func TestBelow(t *testing.T) {
	t.Parallel()
	file := &fstest.MapFile{Data: []byte("{}")}
	got := Below(fstest.MapFS{"a/b/c/package.json": file, "x/compose.yaml": file,
		"y/z/go.mod": file, "node_modules/p/package.json": file}, 2)
	if want := []string{"x", "y/z"}; !slices.Equal(got, want) {
		t.Errorf("Below gives %v, want %v", got, want)
	}
}

// TestPassesComeAfterWhatTheyNeed holds the list of passes to what each says that it uses.
func TestPassesComeAfterWhatTheyNeed(t *testing.T) {
	t.Parallel()
	done := map[string]bool{}
	for _, p := range passes {
		for _, before := range p.after {
			if !done[before] {
				t.Errorf("%s uses %s, which does not come before it", p.name, before)
			}
		}
		if done[p.name] {
			t.Errorf("%s is there twice", p.name)
		}
		done[p.name] = true
	}
}
