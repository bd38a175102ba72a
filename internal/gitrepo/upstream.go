package gitrepo

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// Upstream is the branch that a checkout's own follows, and what is there and not here.
type Upstream struct {
	Branch  string   `json:"branch"` // of the checkout
	Follows string   `json:"follows"`
	From    string   `json:"from"` // the commit that is checked out
	To      string   `json:"to"`   // the one that it would be brought to
	Commits []Commit `json:"commits"`
	Changes []Change `json:"files"`

	remote, address string
	ref             string // of what was fetched, in full
}

// Commit is one that comes, in a few words.
type Commit struct {
	Name    string    `json:"commit"`
	When    time.Time `json:"when"`
	Author  string    `json:"author"`
	Subject string    `json:"subject"`
}

// Change is a file that a commit makes another one.
type Change struct {
	Path   string `json:"path"`
	Gone   bool   `json:"gone,omitempty"`
	Object string `json:"-"` // its new contents' name; empty for a link, a submodule and one that is gone
	Module bool   `json:"submodule,omitempty"`
}

// gitIn is a command of git's in a folder, to be pasted.
func gitIn(dir, command string) string { return "git -C " + shell.Word(dir) + " " + command }

// calm are what keeps git, where it goes by the person's own configuration, from running what lies
// in a checkout.
var calm = []string{"-c", "core.hooksPath=" + os.DevNull, "-c", "core.fsmonitor=false", "-c",
	"gc.auto=0", "-c", "maintenance.auto=false", "-c", "merge.verifySignatures=false", "-c",
	"fetch.recurseSubmodules=false",
	"-c", "submodule.recurse=false", "-c", "log.showSignature=false", "-c",
	"advice.detachedHead=false"}

// UpstreamOf finds the branch that a checkout's own follows. Nothing is fetched yet. Codes of the
// error: git-missing, upstream-missing, checkout-config-runs, checkout-elsewhere, address-invalid.
func UpstreamOf(ctx context.Context, dir string) (*Upstream, error) {
	no := func(text, remedy string) (*Upstream, error) {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeUpstreamMissing,
			At: stack.Place{File: dir}, Text: text, Remedy: remedy}
	}
	if err := haveGit(); err != nil {
		return nil, err
	}
	g := git{ctx: ctx}
	u := &Upstream{Branch: g.output(dir, "symbolic-ref", "--short", "--quiet", "HEAD"),
		From: g.output(dir, "rev-parse", "--verify", "--quiet", "HEAD^{commit}")}
	if u.Branch == "" {
		branch := strings.TrimPrefix(g.output(dir, "symbolic-ref", "--short", "--quiet",
			"refs/remotes/origin/HEAD"), "origin/")
		return no("no branch is checked out, so there is nothing that it follows",
			"To follow one: "+gitIn(dir, "switch "+shell.Word(cmp.Or(branch, "BRANCH"))))
	}
	u.remote = g.output(dir, "config", "--get", "branch."+u.Branch+".remote")
	merge, found := strings.CutPrefix(g.output(dir, "config", "--get",
		"branch."+u.Branch+".merge"), "refs/heads/")
	if u.From == "" || u.remote == "" || !found {
		return no("its branch "+u.Branch+" follows none of another repository",
			"To have it follow one: "+gitIn(dir, "branch --set-upstream-to REMOTE/BRANCH"))
	}
	u.ref = g.output(dir, "rev-parse", "--symbolic-full-name", "--verify", "--quiet", "@{upstream}")
	u.Follows = u.remote + "/" + merge
	if u.address = g.output(dir, "config", "--get", "remote."+u.remote+".url"); u.remote == "." {
		u.Follows, u.address = merge, ""
	}
	if u.ref == "" || strings.HasPrefix(u.remote, "-") {
		return no(u.Follows+", which its branch follows, is not known here",
			"Fetch it: "+gitIn(dir, "fetch --all"))
	}
	if err := g.obeys(dir); err != nil {
		return nil, err
	}
	return u, nil
}

// Fetch brings what is there and not here, without changing what is checked out. The error is a
// *stack.Fault.
func (u *Upstream) Fetch(ctx context.Context, dir string, opt Options) error {
	if u.remote == "." {
		return nil
	}
	g, err := u.git(ctx, dir, opt)
	if err != nil {
		return err
	}
	if err := g.run(dir, append(slices.Clone(calm), "fetch", "--progress", "--no-write-fetch-head",
		"--", u.remote)...); err != nil {
		f, ok := cloneFault(u.address, err, false).(*stack.Fault)
		if ok && f.Code == stack.CodeCloneFailed {
			f.Code, f.Text = stack.CodeFetchFailed, fmt.Sprintf("%s could not be fetched: %v",
				value.Address(u.address), err)
		}
		return f
	}
	return nil
}

// git is what speaks with the remote, once its address is seen to be none that could run a command.
func (u *Upstream) git(ctx context.Context, dir string, opt Options) (git, error) {
	g := git{ctx: ctx, protocols: "http:https:ssh:git", progress: opt.Progress, ours: true,
		mayAsk: opt.MayAsk, grows: dir, patience: opt.Patience}
	if g.patience == 0 {
		g.patience = time.Minute
	}
	address := u.address
	if _, err := os.Stat(filepath.Join(dir, address)); err == nil && !filepath.IsAbs(address) {
		address = filepath.Join(dir, address) // git takes it from there
	}
	local, err := "", error(nil)
	if u.remote != "." {
		local, err = checkAddress(address)
	}
	if local != "" || u.remote == "." {
		g.protocols += ":file"
	}
	return g, err
}

// maxCommits is how many of the commits that come are told.
const maxCommits = 1000

// Look fills in what has been fetched. Codes of the error: uncommitted-work, and
// histories-diverged, where the checkout has commits of its own besides.
func (u *Upstream) Look(ctx context.Context, dir string) error {
	g := git{ctx: ctx}
	u.To = g.output(dir, "rev-parse", "--verify", "--quiet", u.ref+"^{commit}")
	counts := strings.Fields(g.output(dir, "rev-list", "--left-right", "--count",
		u.From+"..."+u.To))
	if len(counts) != 2 {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeFetchFailed,
			At:   stack.Place{File: dir},
			Text: "what is there and what is here can't be compared", Remedy: "Look at it: " +
				gitIn(dir, "status")}
	}
	own, _ := strconv.Atoi(counts[0])
	if come, _ := strconv.Atoi(counts[1]); come == 0 {
		u.To = u.From
		return nil
	}
	if own > 0 {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeHistoriesDiverged,
			At: stack.Place{File: dir},
			Text: fmt.Sprintf("it has %d of its own commits, and %s of %s don't follow on them",
				own, counts[1], u.Follows), Remedy: "Bring the two together by hand: " +
				gitIn(dir, "rebase "+shell.Word(u.Follows))}
	}
	for line := range strings.Lines(g.output(dir, "log", "-n", strconv.Itoa(maxCommits),
		"--format=%h%x09%ct%x09%an%x09%s", u.From+".."+u.To)) {
		if f := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 4); len(f) == 4 {
			seconds, _ := strconv.ParseInt(f[1], 10, 64)
			u.Commits = append(u.Commits, Commit{f[0], time.Unix(seconds, 0).UTC(), f[2], f[3]})
		}
	}
	// :MODE MODE OBJECT OBJECT STATUS, a zero byte, the path, a zero byte
	list := strings.Split(g.output(dir, "diff-tree", "-r", "-z", "--no-renames", "--no-ext-diff",
		u.From, u.To), "\x00")
	for i := 0; i+1 < len(list); i += 2 {
		f := strings.Fields(list[i])
		if len(f) != 5 {
			continue
		}
		c := Change{Path: list[i+1], Gone: f[4] == "D", Module: f[1] == "160000"}
		if strings.HasPrefix(f[1], "100") {
			c.Object = f[3]
		}
		u.Changes = append(u.Changes, c)
	}
	return clean(ctx, dir)
}

// clean makes sure that nothing stands in a checkout which is in none of its commits; files that
// git doesn't know don't count. The code of the error is uncommitted-work.
func clean(ctx context.Context, dir string) error {
	g := git{ctx: ctx}
	work := strings.Fields(g.output(dir, "diff-index", "--name-only", "HEAD", "--"))
	// What differs in its times alone is known once it has been looked at.
	if len(work) > 0 {
		work = nil
		for line := range strings.Lines(g.output(dir, "status", "--porcelain",
			"--untracked-files=no", "--ignore-submodules=untracked")) {
			if f := strings.SplitN(strings.TrimSpace(line), " ", 2); len(f) == 2 {
				work = append(work, strings.TrimSpace(f[1]))
			}
		}
	}
	if len(work) == 0 {
		return nil
	}
	shown := strings.Join(work[:min(len(work), 5)], ", ")
	if more := len(work) - 5; more > 0 {
		shown += fmt.Sprintf(" and %d more", more)
	}
	return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeUncommittedWork,
		At:     stack.Place{File: dir},
		Text:   "there is work in it that is not committed: " + shown,
		Remedy: "Commit it, or put it aside: " + gitIn(dir, "stash")}
}

// Take brings a checkout to what Look has seen, and its submodules with it. Files that git doesn't
// know and that stand in the way are left, and make it fail. The error is a *stack.Fault; then the
// checkout is as it was, but for the submodules.
func (u *Upstream) Take(ctx context.Context, dir string, opt Options) error {
	g, err := u.git(ctx, dir, opt)
	if err != nil {
		return err
	}
	// it can have changed while somebody was asked
	if err := (git{ctx: ctx}).obeys(dir); err != nil {
		return err
	}
	if err := clean(ctx, dir); err != nil {
		return err
	}
	return g.put(dir, "merge", "--ff-only", "--quiet", u.To)
}

// Return brings a checkout back from one commit to another, where it still is at the first and has
// no work that would be lost.
func Return(ctx context.Context, dir, from, to string) error {
	g := git{ctx: ctx, protocols: "http:https:ssh:git", ours: true}
	if err := (git{ctx: ctx}).obeys(dir); err != nil || !commitName.MatchString(from) ||
		!commitName.MatchString(to) {
		return notReturned(dir, "its configuration or the commit is not what it was")
	}
	if now := (git{ctx: ctx}).output(dir, "rev-parse", "--verify", "--quiet", "HEAD"); now != from {
		return notReturned(dir, "it is at another commit by now")
	}
	if err := clean(ctx, dir); err != nil {
		return err
	}
	return g.put(dir, "reset", "--keep", "--quiet", to)
}

func notReturned(dir, why string) error {
	return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNoWayBack, At: stack.Place{File: dir},
		Text: "the checkout can't be brought back: " + why, Remedy: "Look at it: " +
			gitIn(dir, "log")}
}

var commitName = expr.New(`^[0-9a-f]{40,64}$`)

// put has git put other files in place, and brings the submodules to what these want.
func (g git) put(dir string, args ...string) error {
	if err := g.run(dir, append(slices.Clone(calm), args...)...); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotTaken, At: stack.Place{File: dir},
			Text: "the files could not be put in place: " + err.Error(), Remedy: "Look at it: " +
				gitIn(dir, "status"), Cause: err}
	}
	if _, err := os.Stat(filepath.Join(dir, ".gitmodules")); err != nil {
		return nil
	}
	if err := g.run(dir, append(slices.Clone(calm), "submodule", "update", "--init", "--recursive",
		"--progress")...); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeSubmoduleFailed,
			At:     stack.Place{File: ".gitmodules"},
			Text:   "a submodule could not be brought in: " + err.Error(),
			Remedy: "Check that you may read every repository that .gitmodules names.", Cause: err}
	}
	return nil
}

// Blob gives a file's content by its contents' name.
func (o *Objects) Blob(object string) ([]byte, error) {
	data, _, ok := o.ask(object, "blob")
	if !ok {
		return nil, fmt.Errorf("it can't be read out of the history")
	}
	return data, nil
}
