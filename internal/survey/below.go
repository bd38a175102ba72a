package survey

import (
	"io/fs"
	"path"
	"slices"

	"nimbleharbor/internal/tree"
)

// Below lists folders in fsys that look like the top of an application, nearest first, at most
// limit.
func Below(fsys fs.FS, limit int) []string {
	t, err := tree.Walk(fsys, nil)
	if err != nil {
		return nil
	}
	var out []string
	add := func(dir string) {
		if dir != "." && !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	for _, f := range t.Compose {
		add(path.Dir(f))
	}
	for _, f := range t.Folders {
		add(f.Path)
	}
	slices.SortStableFunc(out, tree.ByDepth)
	return out[:min(limit, len(out))]
}
