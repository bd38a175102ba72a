package session

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// maxTags is how many of a checkout's tags are looked at, the newest first.
const maxTags = 500

// releases adds to what needs say of a wrong version which release of the checkout would do with
// what is here.
func (m *Mixed) releases(ctx context.Context, a *needs.Answer) {
	for i := range a.Needs {
		n := &a.Needs[i]
		if n.Met || n.Kind != needs.Tool || n.Have == "" || len(n.Because) == 0 {
			continue
		}
		if tag := m.fitting(ctx, n); tag != "" {
			n.Remedy = fmt.Sprintf("%s Or take %s, the newest release here that does with %s: "+
				"git checkout %s", n.Remedy, tag, n.Have, shell.Word(tag))
		}
	}
}

// fitting is the newest tag whose own files, where the need comes from, ask for no other version
// than the one here; empty if there is none. Nothing is checked out for it.
func (m *Mixed) fitting(ctx context.Context, n *needs.Need) string {
	dir, file := m.checkoutOf(n.Because[0].File)
	tags, err := readTags(ctx, dir)
	if err != nil {
		return ""
	}
	defer tags.Close()
	for _, tag := range tags.names {
		asked, fits := false, true
		for _, r := range tags.asks(tag, path.Dir(file)) {
			if r.Tool == n.Name {
				asked, fits = true, fits && needs.Satisfies(n.Have, r)
			}
		}
		if asked && fits {
			return tag
		}
	}
	return ""
}

// tags are a checkout's, with what their manifests ask for.
type tags struct {
	*gitrepo.Objects
	names []string
	// known are the answers so far, by the files of a folder: most are the same in many tags.
	known map[string][]stack.Runtime
}

func readTags(ctx context.Context, dir string) (*tags, error) {
	o, err := gitrepo.Open(ctx, dir)
	return &tags{Objects: o, names: gitrepo.Tags(ctx, dir, maxTags),
		known: map[string][]stack.Runtime{}}, err
}

// asks are the runtimes and managers that the projects of a folder take in a tag. What is only a
// hint is left out.
func (t *tags) asks(tag, folder string) (out []stack.Runtime) {
	f := ecosystem.Folder{FS: t.At("refs/tags/" + tag), Path: folder, Files: map[string]bool{}}
	var key strings.Builder
	manifest := false
	for _, e := range t.Folder("refs/tags/"+tag, folder) {
		if e.Folder {
			f.Folders = append(f.Folders, e.Name)
			continue
		}
		f.Files[e.Name] = true
		manifest = manifest || ecosystem.IsManifest(e.Name)
		key.WriteString(e.Name + e.Object)
	}
	if !manifest {
		return nil
	}
	if known, ok := t.known[key.String()]; ok {
		return known
	}
	found, _ := ecosystem.Read(f)
	for _, one := range found {
		for _, r := range one.Project.Runtimes {
			if !r.Hint {
				out = append(out, r)
			}
		}
	}
	t.known[key.String()] = out
	return out
}

// projectDepth is how far below the top of a checkout projects are looked for in tags.
const projectDepth = 2

// folders are those of a tag in which a manifest lies.
func (t *tags) folders(tag, folder string, depth int) (out []string) {
	for _, e := range t.Folder("refs/tags/"+tag, folder) {
		switch {
		case e.Folder && depth > 0 && !strings.HasPrefix(e.Name, "."):
			out = append(out, t.folders(tag, path.Join(folder, e.Name), depth-1)...)
		case !e.Folder && ecosystem.IsManifest(e.Name) && !slices.Contains(out, folder):
			out = append(out, folder)
		}
	}
	return out
}

// Fitting is the newest tag of a checkout whose projects take the versions that this machine has,
// and what speaks against newer ones. Tools that are not here at all speak against none: they are
// to be installed anyway. Nothing is checked out for it. The error is a *stack.Fault.
func Fitting(ctx context.Context, dir string, versionOf func(tool string) string) (
	tag string, against []string, err error) {
	no := func(text, remedy string) (string, []string, error) {
		return "", nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRefNotFound, Text: text,
			Remedy: remedy}
	}
	tags, err := readTags(ctx, dir)
	if err != nil {
		return no("its tags can't be read: "+err.Error(), "Leave --at out for its newest commit.")
	}
	defer tags.Close()
	if len(tags.names) == 0 {
		return no("it has no tags", "Leave --at out for its newest commit.")
	}
	here := map[string]string{}
	for _, tag := range tags.names {
		asked, misses := false, ""
		for _, folder := range tags.folders(tag, ".", projectDepth) {
			for _, r := range tags.asks(tag, folder) {
				version, known := here[r.Tool]
				if !known {
					version = versionOf(r.Tool)
					here[r.Tool] = version
				}
				asked = asked || r.Constraint != "*"
				if version != "" && !needs.Satisfies(version, r) {
					misses = fmt.Sprintf("%s asks for %s %s, and here is %s", tag, r.Tool,
						r.Constraint, version)
				}
			}
		}
		if misses == "" && asked {
			return tag, against, nil
		}
		if misses == "" {
			misses = tag + " does not say which versions it takes"
		}
		against = append(against, misses)
	}
	return no("none of its tags takes what this machine has: "+against[0],
		"Install what it asks for, or name a tag "+
			"with --at; the newest are "+strings.Join(tags.names[:min(len(tags.names), 5)],
			", ")+".")
}

// checkoutOf is the folder of the checkout that a file of the workspace lies in, and the file's
// path in it.
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
