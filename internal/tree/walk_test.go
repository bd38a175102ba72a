package tree

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// closed is a file system with folders that nobody may list.
type closed struct {
	fstest.MapFS
	dirs []string
}

func (c closed) ReadDir(name string) ([]fs.DirEntry, error) {
	if slices.Contains(c.dirs, name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
	}
	return c.MapFS.ReadDir(name)
}

// TestWalk enters what is of the work, and keeps of it what counts.
func TestWalk(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{}
	for name, text := range map[string]string{
		".gitignore":            "*.log\n.env\n/out/\nlocal/\n",
		"README.md":             "# Tides\n",
		"compose.yaml":          "services: {desk: {image: x}}\n",
		"compose.override.yaml": "services: {desk: {ports: ['4430:80']}}\n",
		".env":                  "TIDE=high\n",
		// ignored, and people keep it out of git on purpose
		".env.example":                        "TIDE=\n",
		"desk/package.json":                   "{}\n",
		"desk/Dockerfile":                     "FROM x\n",
		"desk/src/a/b/desk.js":                "\n",
		"desk/seeds/berths.json":              "[]\n",
		"desk/node_modules/neap/package.json": "{}\n", // what a manager makes
		"out/package.json":                    "{}\n", // what git leaves out
		"local/go.mod":                        "module x\n",
		"gulls/go.mod":                        "module x\n",
		// a checkout of its own, with rules of its own
		"gulls/.gitignore":                                "keep/\n",
		"gulls/local/go.mod":                              "module x\n",
		"made/{{name}}/package.json":                      "{}\n", // of a scaffold
		"dark/package.json":                               "{}\n",
		".github/workflows/tides.yml":                     "on: push\n",
		strings.Repeat("d/", maxDepth) + "e/package.json": "{}\n",
	} {
		files[name] = &fstest.MapFile{Data: []byte(text)}
	}
	files["desk/go.mod"] = &fstest.MapFile{Mode: fs.ModeNamedPipe}
	var sources []string
	w, err := Walk(closed{files, []string{"dark"}},
		func(dir, name string) { sources = append(sources, path.Join(dir, name)) },
		stack.Checkout{Path: "."}, stack.Checkout{Path: "gulls"})
	if err != nil {
		t.Fatal(err)
	}
	var manifests, templates, remarks []string
	for _, f := range w.Folders {
		manifests = append(manifests, f.Path)
	}
	for _, x := range w.Templates {
		templates = append(templates, x.Path+" for "+x.Target)
	}
	for _, r := range w.Remarks {
		remarks = append(remarks, fmt.Sprint(r.Code, " ", r.At.File))
	}
	deep := strings.TrimSuffix(strings.Repeat("d/", maxDepth), "/")
	for name, c := range map[string]struct{ got, want []string }{
		"folders with a manifest": {manifests, []string{"desk", "gulls", "gulls/local"}},
		"compose files":           {w.Compose, []string{"compose.override.yaml", "compose.yaml"}},
		"templates":               {templates, []string{".env.example for .env"}},
		"settings":                {w.Dotenvs, []string{".env"}},
		"images":                  {w.Dockerfiles, []string{"desk/Dockerfile"}},
		"seeds":                   {w.Seeds, []string{"desk/seeds/berths.json"}},
		"workflows":               {w.Workflows, []string{".github/workflows/tides.yml"}},
		"instructions":            {w.Readmes, []string{"README.md"}},
		"code":                    {sources, []string{"desk/src/a/b/desk.js"}},
		"remarks": {remarks,
			[]string{"folder-too-deep " + deep, "folder-unreadable dark"}},
	} {
		slices.Sort(c.got)
		if !slices.Equal(c.got, c.want) {
			t.Errorf("%s: %q, want %q", name, c.got, c.want)
		}
	}
	if desk := w.At("desk"); !desk.Has("package.json") || desk.Has("go.mod") {
		t.Errorf("of desk these count: %v", desk.Files)
	}
	if nowhere := w.At("rota"); nowhere.Path != "rota" || len(nowhere.Files) > 0 {
		t.Errorf("of a folder that isn't there: %v", nowhere)
	}
}

// TestWalkNeedsItsTop fails only where the workspace itself can't be read.
func TestWalkNeedsItsTop(t *testing.T) {
	t.Parallel()
	if _, err := Walk(closed{fstest.MapFS{}, []string{"."}}, nil); err == nil {
		t.Error("a workspace that can't be read was read")
	}
}
