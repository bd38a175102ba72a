package view

import (
	"fmt"
	"path/filepath"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/shell"
)

// shownCommits is how many of a checkout's commits are told, the newest first.
const shownCommits = 10

// Incoming shows what comes to the checkouts, and what must be done again for it.
func (t *Text) Incoming(in *session.Incoming, root string) {
	for _, a := range in.Checkouts {
		name := CheckoutName(root, a.Path)
		switch {
		case a.Left != "":
			t.Line("%s is left as it is: %s", name, a.Left)
			continue
		case a.From == a.To:
			t.Line("%s has all that %s has.", name, a.Follows)
			continue
		}
		t.Title(fmt.Sprintf("%s: %s from %s, %s", name, Count(len(a.Commits), "commit", "commits"),
			a.Follows, Count(len(a.Changes), "file", "files")))
		for i, c := range a.Commits {
			if i == shownCommits {
				t.Line("  and %d more: git -C %s log %s..%s", len(a.Commits)-i, shell.Word(a.Path),
					short(a.From), short(a.To))
				break
			}
			t.Line("  %s  %s  %s (%s)", c.Name, c.When.Format("2006-01-02"), c.Subject, c.Author)
		}
		for _, c := range a.Changes {
			if c.Module {
				t.Line("  The submodule %s goes along; what is in it was not looked at.", c.Path)
			}
		}
	}
	if in.Again == nil {
		return
	}
	t.Blank()
	again := in.Again
	if len(again.Steps)+len(again.Restart)+len(again.Come)+len(again.Gone)+len(in.Settings)+len(in.Needs) == 0 {
		t.Line("Nothing has to be done again for it.")
		return
	}
	t.Title("For that")
	for _, n := range in.Needs {
		t.Line("  this machine lacks %s %s. %s", n.Name, n.Wanted, n.Remedy)
	}
	for _, s := range in.Settings {
		t.Line("  the setting %s comes into %s: %s", s.Key, s.File, origins[s.Origin])
	}
	t.due("to be done", again.Steps)
	t.due("to be started", again.Come)
	t.due("to be left out", again.Gone)
	t.due("to be restarted", again.Restart)
	if again.Data {
		t.Line("  What this does to databases stays when the files go back.")
	}
}

// CheckoutName is what a checkout of a workspace is called.
func CheckoutName(root, checkout string) string {
	if checkout == "." {
		return filepath.Base(root)
	}
	return checkout
}

// origins tell how a new setting gets its value.
var origins = map[string]string{
	fill.Template: "as in its template", fill.Derived: "it follows from the " +
		"stack", fill.Generated: "it is made up",
	fill.Answered: "you have given it", fill.Locker: "out of the locker", fill.Missing: "only " +
		"you can give it",
}

func (t *Text) due(what string, list []plan.Due) {
	for _, d := range list {
		t.Line("  %s: %s, since %s", what, d.ID.Title(), d.Because)
	}
}

func short(commit string) string { return commit[:min(len(commit), 8)] }
