package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

func cloneCommand(a *app) *cobra.Command {
	var into string
	opt := gitrepo.Options{MayAsk: a.asks()}
	c := &cobra.Command{
		Use:   "clone ADDRESS...",
		Short: "Brings one or more repositories into a workspace, with their submodules",
		Long: `Clones each repository with git. With one address the checkout itself is the
workspace; several become folders side by side in one workspace. A folder, a bundle
or an archive (zip, tar) of this machine does as well.

--at takes a tag, a branch or a commit. "newest" is the tag with the highest version,
"fitting" the newest one whose projects take the versions that this machine has.

After an interruption the same command goes on from what has arrived.`,
		Args: takes(1, unbounded),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.cloning().runClone(cmd.Context(), args, into, opt)
		},
	}
	c.Flags().StringVar(&into, "into", "",
		"the folder: of the checkout, or with several addresses of the workspace")
	c.Flags().StringVar(&opt.Ref, "at", "",
		"the tag, branch or commit to check out, or newest, or fitting")
	c.Flags().BoolVar(&opt.Slim, "slim", false,
		"leave what is not checked out there until it is asked for")
	c.Flags().BoolVar(&opt.NewHistory, "new-history", false,
		"drop the history and begin a fresh one")
	c.Flags().StringVar(&opt.Upstream, "upstream", "",
		"add a second remote with this address, named upstream")
	return c
}

// fitting is the ref of the newest tag that takes what this machine has.
const fitting = "fitting"

func (a cloning) runClone(ctx context.Context, addresses []string, into string,
	opt gitrepo.Options) error {
	start, err := a.start()
	if err != nil {
		return err
	}
	several := len(addresses) > 1
	if several && opt.Upstream != "" {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeWrongCall,
			Text:   "--upstream goes with one address",
			Remedy: "Clone the repositories one by one."}
	}
	root := into
	if root == "" && !several {
		root = gitrepo.NameOf(addresses[0])
	}
	if root == "" && several {
		root = gitrepo.NameOf(addresses[0]) + "-workspace"
	}
	if !filepath.IsAbs(root) {
		root = filepath.Join(start, root)
	}
	targets := map[string]string{}
	var dirs []string
	for _, address := range addresses {
		dir := root
		if several {
			dir = filepath.Join(root, gitrepo.NameOf(address))
		}
		if other, twice := targets[dir]; twice {
			return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeWrongCall,
				Text:   fmt.Sprintf("%s and %s would become the same folder", other, address),
				Remedy: "Clone one of them by itself with --into."}
		}
		targets[dir] = address
		dirs = append(dirs, dir)
	}
	type contract struct {
		Schema    string           `json:"schema"`
		Root      string           `json:"root"`
		Checkouts []stack.Checkout `json:"checkouts"`
	}
	answer := contract{Schema: "nharbor.clone/1", Root: root}
	text := a.text()
	progress := a.fetching()
	a.ending.still("What has arrived is put away.", 20*time.Second)
	defer a.ending.still("", 0)
	// All are fetched at the same time; what is there is told in their order.
	got, failed := make([]stack.Checkout, len(dirs)), make([]error, len(dirs))
	against := make([][]string, len(dirs))
	var wait beside.Group
	for i, dir := range dirs {
		opt := opt
		opt.Progress = progress.of(gitrepo.NameOf(targets[dir]), opt.Slim)
		opt.Making, _ = workspace.Making("clone", targets[dir], dir) // without one nothing is kept
		if opt.Ref == fitting {
			opt.Choose = func(ctx context.Context, work string) (tag string, err error) {
				tag, against[i], err = session.Fitting(ctx, work, needs.VersionHere(ctx))
				return tag, err
			}
		}
		wait.Go(func() { got[i], failed[i] = gitrepo.Clone(ctx, targets[dir], dir, opt) })
	}
	wait.Wait()
	progress.done()
	var faults stack.Faults
	for i, dir := range dirs {
		if failed[i] != nil {
			faults = append(faults, stack.AllFaults(failed[i])...)
			continue
		}
		checkout := got[i]
		if name := gitrepo.Name(ctx, dir); name != "" {
			workspace.SetKnown(dir, name) // so that it gets what the locker has of it
		}
		checkout.Path = "."
		if several {
			checkout.Path = filepath.Base(dir)
		}
		answer.Checkouts = append(answer.Checkouts, checkout)
		if !a.json {
			text.Line("%s", dir)
			text.Line("  %s", describe(checkout))
			for _, newer := range against[i][:min(len(against[i]), 3)] {
				text.Line("  %s", newer)
			}
			if rest := len(against[i]) - 3; rest > 0 {
				text.Line("  and %s more that do not fit",
					view.Count(rest, "newer tag", "newer tags"))
			}
			if checkout.Pointers > 0 {
				text.Line("  %s only for large ones that are kept elsewhere. To bring them in: "+
					"git -C %s lfs pull",
					view.Count(checkout.Pointers, "file stands", "files stand"), shell.Word(dir))
			}
			if checkout.Already {
				text.Line("  It was here already, and is left as it is. What has come since: "+
					"git -C %s fetch", shell.Word(dir))
			}
		}
	}
	if len(faults) > 0 {
		return faults
	}
	if several {
		if _, err := workspace.MakeStateDir(root); err != nil {
			return err
		}
	}
	if a.json {
		return view.JSON(a.out, answer)
	}
	shown := root
	if rel, err := filepath.Rel(start, root); err == nil && filepath.IsLocal(rel) {
		shown = rel
	}
	text.Blank()
	text.Line("Next: see what it consists of: nharbor -C %s survey", shell.Word(shown))
	return nil
}

func describe(c stack.Checkout) string {
	if c.Branch == "" && c.Commit == "" {
		return "without git: it came as an archive"
	}
	if c.Commit == "" {
		return "branch " + c.Branch + ", no commits yet"
	}
	at := "branch " + c.Branch
	if c.Branch == "" {
		at = "no branch"
	}
	if c.Tag != "" {
		at += ", tag " + c.Tag
	}
	if len(c.Commit) >= 8 {
		at += ", commit " + c.Commit[:8]
	}
	if n := len(c.Submodules); n == 1 {
		at += ", 1 submodule"
	} else if n > 1 {
		at += fmt.Sprintf(", %d submodules", n)
	}
	return at
}
