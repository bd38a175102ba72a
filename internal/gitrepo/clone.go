package gitrepo

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/spelling"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// Options say how a repository is cloned.
type Options struct {
	Ref string // a tag, branch or commit, or Newest; empty for the default branch
	// Choose picks the tag to check out, once all is fetched and before anything is checked out;
	// nil for Ref's.
	Choose     func(ctx context.Context, dir string) (tag string, err error)
	NewHistory bool   // drop the history and begin a fresh one
	Upstream   string // the address of a second remote, named upstream
	// Slim leaves the contents of what is not checked out where they are, until they are asked for.
	Slim     bool
	Progress func(Progress) // called with each step that git reports; may be nil
	// Patience is how long a server may send nothing; zero is a minute. A person who may be asked
	// for a password gets all the time that that takes.
	Patience time.Duration
	// worthSteps is how long a clone must have run, when it is interrupted, for the next one to go
	// in steps: each costs the server a question more. Zero is ten seconds.
	worthSteps time.Duration
	MayAsk     bool
	// Making is a folder among the person's own files, of a name that nobody else can guess, where
	// what is fetched lies until the clone is complete. Where it is empty, an interrupted clone
	// leaves nothing to go on from.
	Making string
}

// Newest is the ref of the newest tag by its version, if there is none of that name.
const Newest = "newest"

// Clone makes a checkout of the repository at address in dir, with its submodules. The folder
// appears when it is complete, or not at all. What an interrupted one has fetched is kept
// (Options.Making), and the same call goes on from there. The error is a *stack.Fault.
func Clone(ctx context.Context, address, dir string, opt Options) (stack.Checkout, error) {
	var none stack.Checkout
	local, err := checkAddress(address)
	if err != nil {
		return none, err
	}
	if local != "" && isArchive(local) {
		return unpack(ctx, local, dir, opt)
	}
	if err := opt.check(); err != nil {
		return none, err
	}
	if err := haveGit(); err != nil {
		return none, err
	}
	if c, ok, err := alreadyThere(ctx, address, local, dir, opt); ok || err != nil {
		return c, err
	}
	at, err := takePlace(dir, opt.Making)
	if err != nil {
		return none, err
	}
	kept := false
	defer func() { at.leave(kept) }()
	source := address
	protocols := "http:https:ssh:git"
	if local != "" {
		source, protocols = local, protocols+":file"
	}
	g := git{ctx: ctx, protocols: protocols, progress: opt.Progress, ours: true, mayAsk: opt.MayAsk,
		patience: cmp.Or(opt.Patience, time.Minute)}
	if err := g.bring(at, source, opt); err != nil {
		kept = at.worthKeeping(err)
		return none, cloneFault(address, err, kept)
	}
	if err := at.settle(); err != nil {
		return none, err
	}
	work := at.work()
	if err := g.checkOut(work, opt); err != nil {
		kept = at.worthKeeping(err)
		return none, err
	}
	if err := g.submodules(work); err != nil {
		if kept = at.worthKeeping(err); kept {
			return none, cloneFault(address, err, kept)
		}
		return none, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeSubmoduleFailed,
			At: stack.Place{File: ".gitmodules"},
			Text: "a submodule of " + value.Address(address) + " could not be brought in: " +
				err.Error(),
			Remedy: "Check that you may read every repository that .gitmodules names.", Cause: err}
	}
	if err := g.ofOnesOwn(work, opt); err != nil {
		return none, err
	}
	if err := appear(work, dir); err != nil {
		return none, err
	}
	c, err := Describe(ctx, dir)
	if g.output(dir, "ls-files", "--", ".gitattributes", "*/.gitattributes") != "" {
		c.Pointers = pointers(dir, g.output(dir, "ls-files", "-z"))
	}
	return c, err
}

// check refuses what could be taken for an option.
func (opt *Options) check() error {
	if strings.HasPrefix(opt.Ref, "-") {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRefInvalid,
			Text:   fmt.Sprintf("%q is no ref: it begins with a dash", opt.Ref),
			Remedy: "Name a tag, a branch or a commit."}
	}
	if opt.Upstream == "" {
		return nil
	}
	_, err := checkAddress(opt.Upstream)
	return err
}

// submodules brings in all that the checkout has.
func (g git) submodules(work string) error {
	if _, err := os.Stat(filepath.Join(work, ".gitmodules")); err != nil {
		return nil
	}
	return g.run(work, "submodule", "update", "--init", "--recursive", "--progress")
}

// ofOnesOwn makes a clone one's own, as far as the options ask for it: with a new history, and with
// a second remote.
func (g git) ofOnesOwn(work string, opt Options) error {
	if opt.NewHistory {
		if err := g.newHistory(work); err != nil {
			return err
		}
	}
	if opt.Upstream == "" {
		return nil
	}
	if err := g.run(work, "remote", "add", "upstream", opt.Upstream); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRemoteFailed,
			Text:   "the second remote could not be added: " + err.Error(),
			Remedy: "Add it by hand: git remote add upstream " + shell.Word(opt.Upstream),
			Cause:  err}
	}
	return nil
}

func haveGit() error {
	if _, err := exec.LookPath("git"); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeGitMissing,
			Text: "git is not installed",
			Remedy: "Install git with your system's package manager, then run this " +
				"again.", Cause: err}
	}
	return nil
}

// bring fetches all that a clone has, without checking anything out: at once, or from where an
// interrupted one stopped.
func (g git) bring(at *place, source string, opt Options) error {
	work := at.work()
	switch {
	case at.is(fetched): // what has come since
		if err := g.run(work, "fetch", "--progress", "--tags", "--", source,
			"+refs/heads/*:refs/remotes/origin/*"); err != nil {
			return err
		}
		if branch := g.output(work, "symbolic-ref", "--short", "--quiet", "HEAD"); branch != "" &&
			g.output(work, "rev-parse", "--verify", "--quiet",
				"refs/remotes/origin/"+branch) != "" {
			return g.run(work, "update-ref", "refs/heads/"+branch, "refs/remotes/origin/"+branch)
		}
		return nil
	case at.is(inSteps):
		if err := g.bringInSteps(work, source); err != nil {
			return err
		}
	default:
		os.RemoveAll(work) // what a process that was killed left
		args := []string{"clone", "--progress", "--no-checkout", "--no-recurse-submodules"}
		if opt.Slim {
			args = append(args, "--filter=blob:none")
		}
		g.grows = work
		begun := time.Now()
		if err := g.run("", append(args, "--", source, work)...); err != nil {
			if time.Since(begun) > cmp.Or(opt.worthSteps, 10*time.Second) {
				at.mark(inSteps)
			}
			os.RemoveAll(work)
			return err
		}
	}
	return at.mark(fetched)
}

// deepening are the numbers of commits that are fetched one after the other: git keeps what a fetch
// has brought only once all of it is there.
var deepening = []string{"50", "500", "5000"}

func (g git) bringInSteps(work, source string) error {
	if err := os.MkdirAll(work, 0o777); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(work, ".git", "config")); err != nil {
		if err := g.runAll(work, []string{"init", "--quiet"},
			[]string{"remote", "add", "origin", source}); err != nil {
			return err
		}
	}
	g.grows = work
	branch := g.mainBranch(work, source)
	if branch != "" {
		spec := "+refs/heads/" + branch + ":refs/remotes/origin/" + branch
		if g.output(work, "rev-parse", "--verify", "--quiet", "refs/remotes/origin/"+branch) == "" {
			if err := g.run(work, "fetch", "--progress", "--no-tags", "--depth=1", "--", source,
				spec); err != nil {
				return err
			}
		}
		for _, more := range deepening {
			if _, err := os.Stat(filepath.Join(work, ".git", "shallow")); err != nil {
				break
			}
			if err := g.run(work, "fetch", "--progress", "--no-tags", "--deepen="+more, "--",
				source, spec); err != nil {
				return err
			}
		}
	}
	args := []string{"fetch", "--progress", "--tags"}
	if _, err := os.Stat(filepath.Join(work, ".git", "shallow")); err == nil {
		args = append(args, "--unshallow")
	}
	if err := g.run(work, append(args, "--", source,
		"+refs/heads/*:refs/remotes/origin/*")...); err != nil || branch == "" {
		return err
	}
	return g.runAll(work,
		[]string{"symbolic-ref", "refs/remotes/origin/HEAD", "refs/remotes/origin/" + branch},
		[]string{"update-ref", "refs/heads/" + branch, "refs/remotes/origin/" + branch},
		[]string{"symbolic-ref", "HEAD", "refs/heads/" + branch},
		[]string{"config", "branch." + branch + ".remote", "origin"},
		[]string{"config", "branch." + branch + ".merge", "refs/heads/" + branch})
}

// mainBranch is the branch that a repository's HEAD names; empty if it names none.
func (g git) mainBranch(work, source string) (branch string) {
	for line := range strings.Lines(g.output(work, "ls-remote", "--symref", "--", source, "HEAD")) {
		if rest, ok := strings.CutPrefix(line, "ref: refs/heads/"); ok {
			branch, _, _ = strings.Cut(rest, "\t")
		}
	}
	return branch
}

// runAll runs several calls, one after the other, until one fails.
func (g git) runAll(work string, calls ...[]string) error {
	for _, args := range calls {
		if err := g.run(work, args...); err != nil {
			return err
		}
	}
	return nil
}

// checkOut puts the files of what is wanted into their place.
func (g git) checkOut(work string, opt Options) error {
	if opt.Choose != nil {
		tag, err := opt.Choose(g.ctx, work)
		if err != nil {
			return err
		}
		return g.checkOutRef(work, tag)
	}
	if opt.Ref != "" {
		return g.checkOutRef(work, opt.Ref)
	}
	if g.output(work, "rev-parse", "--verify", "--quiet", "HEAD^{commit}") == "" {
		return nil // a repository without commits, or without the branch that it calls its own
	}
	if err := g.run(work, "checkout", "--progress"); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCloneFailed, Cause: err,
			Text: "what was fetched could not be checked out: " +
				err.Error(), Remedy: "Look at what git says."}
	}
	return nil
}

// pointer begins a file that stands for a large one, by the open specification of Git Large File
// Storage.
const pointer = "version https://git-lfs.github.com/spec/v1\n"

// pointers counts the files of a list, with zero bytes between, that only stand for large ones.
func pointers(dir, list string) (n int) {
	for name := range strings.SplitSeq(list, "\x00") {
		full := filepath.Join(dir, filepath.FromSlash(name))
		info, err := os.Lstat(full)
		if name == "" || err != nil || !info.Mode().IsRegular() ||
			info.Size() < int64(len(pointer)) || info.Size() > 1024 {
			continue
		}
		if data, err := reading.OwnFile(full, 1024); err == nil &&
			strings.HasPrefix(string(data), pointer) {
			n++
		}
	}
	return n
}

// alreadyThere gives the checkout that stands where a clone is to go, if it is one of the same
// repository; it is left as it is. One of another repository is named in the error.
func alreadyThere(ctx context.Context, address, local, dir string,
	opt Options) (c stack.Checkout, ok bool, err error) {
	if entries, err := os.ReadDir(dir); err != nil || len(entries) == 0 {
		return c, false, nil
	}
	g := git{ctx: ctx}
	if top := g.output(dir, "rev-parse", "--show-prefix", "--is-inside-work-tree"); top != "true" {
		return c, false, nil // no checkout of its own
	}
	origin := g.output(dir, "config", "--get", "remote.origin.url")
	if origin != address && (local == "" || origin != local) {
		from := "without a remote"
		if origin != "" {
			from = "of " + value.Address(origin)
		}
		return c, false, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty,
			At: stack.Place{File: dir}, Text: "another checkout stands there, " + from,
			Remedy: "Name another place with --into, or survey what is there: nharbor -C " +
				shell.Word(dir) + " survey"}
	}
	if c, err = Describe(ctx, dir); err != nil {
		return c, false, nil
	}
	c.Already = true
	if ref := opt.Ref; ref != "" && ref != Newest && opt.Choose == nil && c.Tag != ref &&
		c.Branch != ref && !strings.HasPrefix(c.Commit, ref) {
		return c, false, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeFolderNotEmpty,
			At: stack.Place{File: dir},
			Text: fmt.Sprintf("the checkout that stands there is of the same repository, and "+
				"not at %s", ref),
			Remedy: "Bring it there: " + gitIn(dir, "fetch --tags") + ", then " +
				gitIn(dir, "checkout "+shell.Word(ref))}
	}
	return c, true, nil
}

// beside makes a folder of its own for what is not finished, beside the final one: renaming makes
// that appear at once.
func beside(dir string) (string, error) {
	if err := free(dir); err != nil {
		return "", err
	}
	temp, err := os.MkdirTemp(filepath.Dir(dir), unfinished)
	if err != nil {
		return "", unwritable(filepath.Dir(dir), "nothing can be written there: ", err)
	}
	return temp, nil
}

// appear puts what is finished into its place.
func appear(work, dir string) error {
	os.Remove(dir) // an empty one may stand there
	if err := os.Rename(work, dir); err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable,
			At:     stack.Place{File: dir},
			Text:   "the finished checkout can't be put there: " + stack.Reason(err),
			Remedy: "Choose another place with --into.", Cause: err}
	}
	return nil
}

// noNetwork are git's words, and those of what it connects with, for a server that can't be
// reached.
var noNetwork = []string{"Could not resolve host", "Network is unreachable", "Connection timed out",
	"Connection refused", "Failed to connect", "Couldn't connect", "Temporary failure in name " +
		"resolution"}

// brokenOff reports whether a connection ended in the middle.
func brokenOff(err error) bool {
	return slices.ContainsFunc([]string{"early EOF", "unexpected disconnect",
		"the remote end hung up unexpectedly",
		"RPC failed", "Connection reset", "invalid index-pack output", "transfer closed"},
		func(words string) bool { return strings.Contains(err.Error(), words) })
}

func cloneFault(address string, err error, kept bool) error {
	said := value.Hide(err.Error())
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCloneFailed,
		Text: fmt.Sprintf("%s could not be cloned: %s", value.Address(address), said), Cause: err,
		Remedy: "Check the address and that you may read it."}
	goesOn := "Run it again when you like."
	if kept {
		goesOn = "Run the same command again: it goes on from what has arrived."
	}
	has := func(parts ...string) bool {
		return slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(said, p) })
	}
	switch {
	case errors.Is(err, context.Canceled):
		f.Kind, f.Code, f.Text, f.Remedy = stack.Interrupted, stack.CodeInterrupted,
			"the clone was interrupted; nothing was left behind", goesOn
		if kept {
			f.Text = "the clone was interrupted"
		}
	case errors.As(err, new(*stalled)):
		f.Code, f.Text, f.Remedy = stack.CodeCloneStalled, fmt.Sprintf("%s %s",
			value.Address(address), said), goesOn
	case has("No space left on device"):
		f.Code, f.Text = stack.CodeDiskFull, fmt.Sprintf("%s does not fit: the disk is full",
			value.Address(address))
		f.Remedy = "Make room, or choose another place with --into."
	case has(noNetwork...), brokenOff(err):
		f.Code, f.Text = "clone-no-network", fmt.Sprintf("%s can't be reached over the network: %s",
			value.Address(address), said)
		f.Remedy = "Check the network, a proxy and the host's name; a folder of this machine " +
			"works without a network."
		if brokenOff(err) {
			f.Text, f.Remedy = fmt.Sprintf("the connection to %s broke off: %s",
				value.Address(address), said), goesOn
		}
	case has("Permission denied (publickey", "Authentication failed", "could not read Username",
		"terminal prompts disabled", "Permission denied", " 403", " 401"):
		f.Code, f.Text = "clone-not-permitted", fmt.Sprintf("%s refuses you: %s",
			value.Address(address), said)
		f.Remedy = "Check your SSH key or token, and that the repository is yours to read."
	case has("does not appear to be a git repository", "not found", "does not exist",
		"not a git repository", "repository '"):
		f.Code, f.Text = "address-not-a-repository", fmt.Sprintf("%s is not a git repository",
			value.Address(address))
		f.Remedy = "Check the address. If the code is there without git, survey it as it is: " +
			"nharbor -C FOLDER survey"
	}
	return f
}

func (g git) checkOutRef(dir, ref string) error {
	target := ""
	for _, candidate := range []string{"refs/tags/" + ref, "refs/remotes/origin/" + ref, ref} {
		if candidate != ref && g.command(dir, "show-ref", "--verify", "--quiet", "--",
			candidate).Run() != nil {
			continue // "refs/tags/x~1" would resolve, and be no tag
		}
		if g.output(dir, "rev-parse", "--verify", "--quiet", "--end-of-options",
			candidate+"^{commit}") != "" {
			target = candidate
			break
		}
	}
	tags := Tags(g.ctx, dir, math.MaxInt)
	if target == "" && ref == Newest && len(tags) > 0 {
		target = "refs/tags/" + tags[0]
	}
	if target == "" {
		return g.noSuchRef(dir, ref, tags)
	}
	var err error
	if branch, ok := strings.CutPrefix(target, "refs/remotes/origin/"); ok {
		err = g.run(dir, "checkout", "--progress", "-B", branch, "--track",
			"refs/remotes/origin/"+branch, "--")
	} else {
		err = g.run(dir, "checkout", "--progress", "--detach", target, "--")
	}
	if err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRefNotFound,
			Text: fmt.Sprintf("%q could not be checked out: %v", ref,
				err), Remedy: "Check the ref.", Cause: err}
	}
	return nil
}

// noSuchRef names what comes nearest to a ref that isn't there.
func (g git) noSuchRef(dir, ref string, tags []string) error {
	f := &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRefNotFound,
		Text:   fmt.Sprintf("there is no tag, branch or commit %q", ref),
		Remedy: "The repository has no tags; leave --at out for its newest commit."}
	branches := strings.Fields(g.output(dir, "for-each-ref", "--format=%(refname:lstrip=3)",
		"refs/remotes/origin"))
	near := spelling.Near(ref, slices.Concat(tags, branches), 3)
	if len(near) > 0 {
		f.Remedy = "Nearest: " + strings.Join(near, ", ") + "."
	}
	if len(tags) > 0 {
		shown := tags[:min(len(tags), 12)]
		newest := "Tags that exist, newest first: " + strings.Join(shown, ", ")
		if rest := len(tags) - len(shown); rest > 0 {
			newest += fmt.Sprintf(" and %d more", rest)
		}
		if f.Remedy = newest; len(near) > 0 {
			f.Remedy = "Nearest: " + strings.Join(near, ", ") + ". " + newest
		}
	}
	return f
}

func (g git) newHistory(dir string) error {
	fail := func(err error) error {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeHistoryFailed,
			Text: "the fresh history could not be begun: " +
				err.Error(), Remedy: "Begin it by hand: git init, git add, git commit.", Cause: err}
	}
	branch := g.output(dir, "rev-parse", "--abbrev-ref", "HEAD")
	if branch == "" || branch == "HEAD" {
		branch = "main"
	}
	if err := os.RemoveAll(filepath.Join(dir, ".git")); err != nil {
		return fail(err)
	}
	steps := [][]string{{"init", "--quiet", "--initial-branch=" + branch}, {"add", "--all"}}
	commit := []string{"commit", "--quiet", "--message", "Begin from a starter project"}
	if g.output(dir, "config", "user.email") == "" {
		commit = append([]string{"-c", "user.name=nharbor", "-c", "user.email=nharbor@localhost"},
			commit...)
	}
	for _, args := range append(steps, commit) {
		if err := g.run(dir, args...); err != nil {
			return fail(err)
		}
	}
	return nil
}
