package session

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"strings"
	"time"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
)

// maxTags is how many of a checkout's tags are looked at, the newest first.
const maxTags = 20

// releases adds to what needs say of a wrong version which release of the checkout would do with what is here.
func (m *Mixed) releases(ctx context.Context, a *needs.Answer) {
	for i := range a.Needs {
		n := &a.Needs[i]
		if n.Met || n.Kind != needs.Tool || n.Have == "" || len(n.Because) == 0 {
			continue
		}
		if tag := m.fitting(ctx, n); tag != "" {
			n.Remedy = fmt.Sprintf(
				"%s Or take %s, the newest release here that does with %s: git checkout %s",
				n.Remedy,
				tag,
				n.Have,
				tag,
			)
		}
	}
}

// fitting is the newest tag whose own file, where the need comes from, asks for no other version than the one here;
// empty if there is none. Nothing is checked out for it.
func (m *Mixed) fitting(ctx context.Context, n *needs.Need) string {
	dir, file := m.checkoutOf(n.Because[0].File)
	for _, tag := range gitrepo.Tags(ctx, dir, maxTags) {
		found, _ := ecosystem.Read(ecosystem.Folder{FS: gitrepo.AtTag(ctx, dir, tag), Path: path.Dir(file),
			Files: map[string]bool{path.Base(file): true}})
		for _, f := range found {
			asked, fits := false, true
			for _, r := range f.Project.Runtimes {
				if r.Tool == n.Name && !r.Hint {
					asked, fits = true, fits && needs.Satisfies(n.Have, r)
				}
			}
			if asked && fits {
				return tag
			}
		}
	}
	return ""
}

// checkoutOf is the folder of the checkout that a file of the workspace lies in, and the file's path in it.
func (w *Workspace) checkoutOf(file string) (dir, inside string) {
	dir, inside = w.Root, file
	for _, c := range w.Checkouts {
		if rest, below := strings.CutPrefix(file, c.Path+"/"); below && c.Path != "." {
			dir, inside = filepath.Join(w.Root, filepath.FromSlash(c.Path)), rest
		}
	}
	return dir, inside
}

// changed is when a file was last committed; zero where that isn't known.
func (w *Workspace) changed(file string) time.Time {
	dir, inside := w.checkoutOf(file)
	return gitrepo.Changed(context.Background(), dir, inside)
}
