package cli

import (
	"cmp"
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
	root := cmp.Or(into, gitrepo.NameOf(addresses[0]))
	if into == "" && several {
		root += "-workspace"
	}
	if !filepath.IsAbs(root) {
		root = filepath.Join(start, root)
	}
	list, err := places(addresses, root)
	if err != nil {
		return err
	}
	a.fetchAll(ctx, list, opt)
	answer := struct {
		Schema    string           `json:"schema"`
		Root      string           `json:"root"`
		Checkouts []stack.Checkout `json:"checkouts"`
	}{Schema: "nharbor.clone/1", Root: root}
	var faults stack.Faults
	for _, one := range list {
		if one.failed != nil {
			faults = append(faults, stack.AllFaults(one.failed)...)
			continue
		}
		if name := gitrepo.Name(ctx, one.dir); name != "" {
			workspace.SetKnown(one.dir, name) // so that it gets what the locker has of it
		}
		one.got.Path = "."
		if several {
			one.got.Path = filepath.Base(one.dir)
		}
		answer.Checkouts = append(answer.Checkouts, one.got)
		if !a.json {
			a.showCloned(one)
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
	a.text().Blank()
	a.text().Line("Next: see what it consists of: nharbor -C %s survey", shell.Word(shown))
	return nil
}

// cloned is one address, the folder that it goes to, and what has become of it.
type cloned struct {
	address, dir string
	got          stack.Checkout
	newer        []string // tags that do not fit, each with the reason
	failed       error
}

// places are where the addresses go: one to the root itself, several below it, each to a folder of
// its own.
func places(addresses []string, root string) (out []*cloned, err error) {
	for _, address := range addresses {
		one := &cloned{address: address, dir: root}
		if len(addresses) > 1 {
			one.dir = filepath.Join(root, gitrepo.NameOf(address))
		}
		for _, o := range out {
			if o.dir == one.dir {
				return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeWrongCall,
					Text: fmt.Sprintf("%s and %s would become the same folder", o.address,
						address), Remedy: "Clone one of them by itself with --into."}
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// fetchAll fetches all at the same time.
func (a cloning) fetchAll(ctx context.Context, list []*cloned, opt gitrepo.Options) {
	progress := a.fetching()
	a.ending.still("What has arrived is put away.", 20*time.Second)
	defer a.ending.still("", 0)
	var wait beside.Group
	for _, one := range list {
		opt := opt
		opt.Progress = progress.of(gitrepo.NameOf(one.address), opt.Slim)
		// without one nothing is kept
		opt.Making, _ = workspace.Making("clone", one.address, one.dir)
		if opt.Ref == fitting {
			opt.Choose = func(ctx context.Context, work string) (tag string, err error) {
				tag, one.newer, err = session.Fitting(ctx, work, needs.VersionHere(ctx))
				return tag, err
			}
		}
		wait.Go(func() { one.got, one.failed = gitrepo.Clone(ctx, one.address, one.dir, opt) })
	}
	wait.Wait()
	progress.done()
}

// showCloned tells what is there now, which tags do not fit, and what is missing of it.
func (a cloning) showCloned(one *cloned) {
	text := a.text()
	text.Line("%s", one.dir)
	text.Line("  %s", describe(one.got))
	for _, newer := range one.newer[:min(len(one.newer), 3)] {
		text.Line("  %s", newer)
	}
	if rest := len(one.newer) - 3; rest > 0 {
		text.Line("  and %s more that do not fit", view.Count(rest, "newer tag", "newer tags"))
	}
	if one.got.Pointers > 0 {
		text.Line("  %s only for large ones that are kept elsewhere. To bring them in: "+
			"git -C %s lfs pull",
			view.Count(one.got.Pointers, "file stands", "files stand"), shell.Word(one.dir))
	}
	if one.got.Already {
		text.Line("  It was here already, and is left as it is. What has come since: "+
			"git -C %s fetch", shell.Word(one.dir))
	}
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
