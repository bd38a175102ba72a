package cli

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
	"nimbleharbor/internal/workspace"
)

// work is the workspace that a command works on.
type work struct {
	root  string
	fsys  fs.FS
	stack *stack.Stack
}

// open finds the workspace and surveys it. With an error the work may still hold all that was found.
func (a *app) open(ctx context.Context) (*work, error) {
	dir, err := a.start()
	if err != nil {
		return nil, err
	}
	w := &work{root: workspace.Root(dir)}
	root, err := os.OpenRoot(w.root)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "workspace-unreadable", At: stack.Place{File: w.root},
			Text: "the folder can't be opened: " + err.Error(), Remedy: "Check its rights.", Cause: err}
	}
	// The root stays open as long as the program runs; nothing below is read through a link that leaves it.
	w.fsys = workspace.Files(root)
	return w, w.survey(ctx)
}

func (w *work) survey(ctx context.Context) (err error) {
	w.stack, err = survey.Survey(w.fsys, survey.Options{Root: w.root, Checkouts: checkouts(ctx, w.root),
		Env: os.LookupEnv, System: runtime.GOOS, ReadCode: true})
	var f *stack.Fault
	if errors.As(err, &f) && f.Code == "nothing-found" {
		var near []string
		for _, d := range survey.Below(w.fsys, 5) {
			near = append(near, filepath.Join(w.root, d))
		}
		near = append(near, workspace.Near(w.root)...)
		if len(near) > 0 {
			f.Remedy += " Folders nearby that look like one: " + strings.Join(near, ", ") + ". Start there with -C."
		} else {
			f.Remedy += " No folder above or beside this one looks like an application either. To get one: nharbor " +
				"clone ADDRESS"
		}
	}
	return err
}

// checkouts finds the working copies in a workspace: the root itself, or those directly below it.
func checkouts(ctx context.Context, root string) []stack.Checkout {
	paths := []string{"."}
	if entries, err := os.ReadDir(root); err == nil {
		for _, e := range entries {
			if e.IsDir() {
				paths = append(paths, e.Name())
			}
		}
	}
	var mu sync.Mutex
	var out []stack.Checkout
	var wait sync.WaitGroup
	for _, p := range paths {
		dir := filepath.Join(root, p)
		if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
			continue
		}
		wait.Go(func() {
			c, err := gitrepo.Describe(ctx, dir)
			if err != nil {
				return
			}
			c.Path = filepath.ToSlash(p)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, c)
		})
	}
	wait.Wait()
	slices.SortFunc(out, func(a, b stack.Checkout) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// ordered finds the workspace and puts all of its services in order.
func (a *app) ordered(ctx context.Context) (*work, *order.Order, error) {
	w, err := a.open(ctx)
	if err != nil {
		return nil, nil, err
	}
	o, err := order.Build(w.stack, order.Options{})
	return w, o, err
}

// record finds the workspace and what it knows of its launched stack, without a survey.
func (a *app) record() (string, *launch.Record, error) {
	dir, err := a.start()
	if err != nil {
		return "", nil, err
	}
	root := workspace.Root(dir)
	r, err := launch.ReadRecord(root)
	return root, r, err
}
