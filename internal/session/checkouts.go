package session

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// late is how far in the future a commit may seem to be made before this machine's clock is
// doubted.
const late = time.Hour

// ofCheckouts adds to what needs say what git and this machine's file system and clock make of the
// checkouts.
func (m *Mixed) ofCheckouts(ctx context.Context, a *needs.Answer, now time.Time) {
	for _, c := range m.Checkouts {
		dir := filepath.Join(m.Root, filepath.FromSlash(c.Path))
		within := func(name string) string { return path.Join(c.Path, name) }
		if files, committed := gitrepo.Returns(ctx, dir); len(files) > 0 {
			n := needs.Need{Name: "line endings of " + named(files, within), Kind: needs.File,
				Wanted: "line feeds alone", Level: needs.Optional,
				Found:   "lines end with a carriage return too, so that no shell runs them",
				Because: []stack.Place{{File: within(files[0]), Line: 1}}}
			// a checkout's names, in what is to be pasted
			list := shell.Line(files[:min(len(files), 5)])
			enter := ""
			if c.Path != "." {
				enter = "cd " + shell.Word(c.Path) + " && "
			}
			n.Remedy = "This machine's git makes them so: git config core.autocrlf input. Then " +
				"bring them in again: " + enter + "rm -- " + list + " && git checkout -- " + list
			if committed {
				n.Remedy = "They are committed so. Mend them, and commit that: " + enter +
					"sed -i 's/\\r$//' -- " + list
			}
			a.Needs = append(a.Needs, n)
		}
		if foldsCase(dir) {
			for _, pair := range gitrepo.SameButForCase(ctx, dir) {
				a.Needs = append(a.Needs, needs.Need{Name: within(pair[1]), Kind: needs.File,
					Wanted: "a file beside " + pair[0],
					Found: "one and the same here, since this file system does not tell " +
						"capitals apart", Level: needs.Optional,
					Because: []stack.Place{{File: within(pair[0])}},
					Remedy:  "Clone it to a file system that does, or rename one of them."})
			}
		}
		if at := gitrepo.CommittedAt(ctx, dir); at.Sub(now) > late {
			a.Needs = append(a.Needs, needs.Need{Name: "clock", Kind: needs.Host,
				Level:  needs.Optional,
				Wanted: "the right time", Because: []stack.Place{{File: c.Path}},
				Found: fmt.Sprintf("here it is %s, and the commit that is checked out was made %s",
					now.Format(time.DateTime), at.In(now.Location()).Format(time.DateTime)),
				Remedy: "Look which of the two clocks is wrong: with this one in the past, " +
					"certificates and sign-ins are refused."})
		}
	}
}

func named(files []string, within func(string) string) string {
	if len(files) == 1 {
		return within(files[0])
	}
	return fmt.Sprintf("%d scripts, %s the first", len(files), within(files[0]))
}

// foldsCase reports whether a checkout's file system takes names that differ in case for the same.
func foldsCase(dir string) bool {
	own, err := os.Lstat(filepath.Join(dir, ".git"))
	other, otherErr := os.Lstat(filepath.Join(dir, strings.ToUpper(".git")))
	return err == nil && otherErr == nil && os.SameFile(own, other)
}
