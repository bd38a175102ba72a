// Package gitrepo makes and reads checkouts through git's own command.
package gitrepo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/archive"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Options say how a repository is cloned.
type Options struct {
	Ref        string            // a tag, branch or commit; empty for the default branch
	NewHistory bool              // drop the history and begin a fresh one
	Upstream   string            // the address of a second remote, named upstream
	Progress   func(line string) // called with each step that git reports; may be nil
}

// Clone makes a checkout of the repository at address in dir, with its submodules. The folder appears
// when it is complete, or not at all. The error is a *stack.Fault.
func Clone(ctx context.Context, address, dir string, opt Options) (stack.Checkout, error) {
	var none stack.Checkout
	local, err := checkAddress(address)
	if err != nil {
		return none, err
	}
	if local != "" {
		if format, err := archive.FormatOf(local); err == nil && format != archive.None {
			return unpack(ctx, local, dir, opt)
		}
	}
	if opt.Upstream != "" {
		if _, err := checkAddress(opt.Upstream); err != nil {
			return none, err
		}
	}
	if strings.HasPrefix(opt.Ref, "-") {
		return none, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRefInvalid,
			Text:   fmt.Sprintf("%q is no ref: it begins with a dash", opt.Ref),
			Remedy: "Name a tag, a branch or a commit."}
	}
	if _, err := exec.LookPath("git"); err != nil {
		return none, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeGitMissing, Text: "git is not installed",
			Remedy: "Install git with your system's package manager, then run this again.", Cause: err}
	}
	if c, ok, err := alreadyThere(ctx, address, local, dir, opt); ok || err != nil {
		return c, err
	}
	temp, err := beside(dir)
	if err != nil {
		return none, err
	}
	defer os.RemoveAll(temp)
	work := filepath.Join(temp, "checkout")
	source := address
	protocols := "http:https:ssh:git"
	if local != "" {
		source, protocols = local, protocols+":file"
	}
	g := git{ctx: ctx, protocols: protocols, progress: opt.Progress, ours: true}
	if err := g.run("", "clone", "--progress", "--no-recurse-submodules", "--", source, work); err != nil {
		return none, cloneFault(address, err)
	}
	if opt.Ref != "" {
		if err := g.checkout(work, opt.Ref); err != nil {
			return none, err
		}
	}
	if _, err := os.Stat(filepath.Join(work, ".gitmodules")); err == nil {
		if err := g.run(work, "submodule", "update", "--init", "--recursive", "--progress"); err != nil {
			return none, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeSubmoduleFailed,
				At:     stack.Place{File: ".gitmodules"},
				Text:   "a submodule of " + address + " could not be brought in: " + err.Error(),
				Remedy: "Check that you may read every repository that .gitmodules names.", Cause: err}
		}
	}
	if opt.NewHistory {
		if err := g.newHistory(work); err != nil {
			return none, err
		}
	}
	if opt.Upstream != "" {
		if err := g.run(work, "remote", "add", "upstream", opt.Upstream); err != nil {
			return none, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRemoteFailed,
				Text:   "the second remote could not be added: " + err.Error(),
				Remedy: "Add it by hand: git remote add upstream " + opt.Upstream, Cause: err}
		}
	}
	if err := appear(work, dir); err != nil {
		return none, err
	}
	c, err := Describe(ctx, dir)
	c.Pointers = pointers(dir, g.output(dir, "ls-files", "-z"))
	return c, err
}

// pointer begins a file that stands for a large one, by the open specification of Git Large File Storage.
const pointer = "version https://git-lfs.github.com/spec/v1\n"

// pointers counts the files of a list, with zero bytes between, that only stand for large ones.
func pointers(dir, list string) (n int) {
	for name := range strings.SplitSeq(list, "\x00") {
		full := filepath.Join(dir, filepath.FromSlash(name))
		info, err := os.Lstat(full)
		if name == "" || err != nil || !info.Mode().IsRegular() || info.Size() < int64(len(pointer)) ||
			info.Size() > 1024 {
			continue
		}
		if data, err := os.ReadFile(full); err == nil && strings.HasPrefix(string(data), pointer) {
			n++
		}
	}
	return n
}

// alreadyThere gives the checkout that stands where a clone is to go, if it is one of the same repository; it is left
// as it is. One of another repository is named in the error.
func alreadyThere(ctx context.Context, address, local, dir string, opt Options) (c stack.Checkout, ok bool, err error) {
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
			from = "of " + hidden(origin)
		}
		return c, false, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty, At: stack.Place{File: dir},
			Text:   "another checkout stands there, " + from,
			Remedy: "Name another place with --into, or survey what is there: nharbor -C " + dir + " survey"}
	}
	if c, err = Describe(ctx, dir); err != nil {
		return c, false, nil
	}
	c.Already = true
	if ref := opt.Ref; ref != "" && c.Tag != ref && c.Branch != ref && !strings.HasPrefix(c.Commit, ref) {
		return c, false, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeFolderNotEmpty, At: stack.Place{File: dir},
			Text:   fmt.Sprintf("the checkout that stands there is of the same repository, and not at %s", ref),
			Remedy: fmt.Sprintf("Bring it there: git -C %s fetch --tags, then git -C %s checkout %s", dir, dir, ref)}
	}
	return c, true, nil
}

// beside makes a folder of its own for what is not finished, beside the final one: renaming makes that appear at once.
func beside(dir string) (string, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty, At: stack.Place{File: dir},
			Text:   "the folder exists and is not empty",
			Remedy: "Name another with --into, or survey what is there: nharbor -C " + dir + " survey"}
	}
	parent := filepath.Dir(dir)
	if err := os.MkdirAll(parent, 0o777); err != nil {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable, At: stack.Place{File: parent},
			Text: "the folder can't be made: " + stack.Reason(err), Remedy: "Choose another place with --into.",
			Cause: err}
	}
	temp, err := os.MkdirTemp(parent, ".nharbor-clone-")
	if err != nil {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable, At: stack.Place{File: parent},
			Text: "nothing can be written there: " + stack.Reason(err), Remedy: "Choose another place with --into.",
			Cause: err}
	}
	return temp, nil
}

// appear puts what is finished into its place.
func appear(work, dir string) error {
	os.Remove(dir) // an empty one may stand there
	if err := os.Rename(work, dir); err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderUnwritable, At: stack.Place{File: dir},
			Text:   "the finished checkout can't be put there: " + stack.Reason(err),
			Remedy: "Choose another place with --into.", Cause: err}
	}
	return nil
}

// NameOf is the folder name that an address suggests.
func NameOf(address string) string {
	address = strings.TrimRight(address, "/\\")
	for _, ending := range []string{".git", ".zip", ".tar.gz", ".tgz", ".tar.xz", ".txz", ".tar.zst", ".tzst", ".tar",
		".bundle"} {
		if rest, ok := strings.CutSuffix(address, ending); ok {
			address = rest
			break
		}
	}
	if i := strings.LastIndexAny(address, "/\\:"); i >= 0 {
		address = address[i+1:]
	}
	return address
}

// checkAddress refuses what could become an option or run a command, and gives the absolute path of a local address.
func checkAddress(address string) (local string, err error) {
	wrong := func(text, remedy string) (string, error) {
		return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeAddressInvalid, Text: text, Remedy: remedy}
	}
	const forms = "Give an https:// or ssh:// address, git@host:path, or a folder of this machine."
	switch {
	case address == "":
		return wrong("the address is empty", forms)
	case strings.HasPrefix(address, "-"):
		return wrong(fmt.Sprintf("%q is no address: it begins with a dash", address), forms)
	case strings.Contains(address, "::"):
		return wrong(fmt.Sprintf("%q names a helper program, which is not run", address), forms)
	}
	if u, err := url.Parse(address); err == nil && u.Scheme != "" && strings.Contains(address, "://") {
		switch u.Scheme {
		case "http", "https", "ssh", "git":
			if strings.HasPrefix(u.Hostname(), "-") {
				return wrong(fmt.Sprintf("the host of %q begins with a dash", address), forms)
			}
			return "", nil
		case "file":
			return filepath.FromSlash(u.Path), nil
		}
		return wrong(fmt.Sprintf("%s:// is not a way to get a repository", u.Scheme), forms)
	}
	info, statErr := os.Stat(address)
	if scp.MatchString(address) && statErr != nil {
		return "", nil
	}
	abs, absErr := filepath.Abs(address)
	if absErr != nil {
		return wrong(absErr.Error(), forms)
	}
	if statErr != nil {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeAddressNotFound, At: stack.Place{File: address},
			Text: "there is no such folder, and it is no address of a repository", Remedy: forms, Cause: statErr}
	}
	if !info.IsDir() && !isBundle(abs) {
		if format, err := archive.FormatOf(abs); err == nil && format != archive.None {
			return abs, nil
		}
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeAddressNotARepository,
			At: stack.Place{File: address}, Text: "this is a file, and neither a repository, a bundle nor an archive",
			Remedy: forms}
	}
	return abs, nil
}

// isBundle reports whether a file is a repository that git has put into one file.
func isBundle(name string) bool {
	f, err := os.Open(name)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 16)
	n, _ := io.ReadFull(f, head)
	return strings.HasPrefix(string(head[:n]), "# v2 git bundle") || strings.HasPrefix(string(head[:n]), "# v3 git "+
		"bundle")
}

var scp = expr.New(
	`^[A-Za-z0-9_][A-Za-z0-9_.-]*(@[A-Za-z0-9][A-Za-z0-9_.-]*)?:[^/].*|^[A-Za-z0-9_.-]+@[A-Za-z0-9][A-Za-z0-9_.-]*:.+`)

func cloneFault(address string, err error) error {
	said := err.Error()
	f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeCloneFailed,
		Text: fmt.Sprintf("%s could not be cloned: %s", hidden(address), said), Cause: err,
		Remedy: "Check the address and that you may read it."}
	has := func(parts ...string) bool {
		for _, p := range parts {
			if strings.Contains(said, p) {
				return true
			}
		}
		return false
	}
	switch {
	case errors.Is(err, context.Canceled):
		f.Kind, f.Code, f.Text, f.Remedy = stack.Interrupted, "interrupted",
			"the clone was interrupted; nothing was left behind", "Run it again when you like."
	case has("Could not resolve host", "Network is unreachable", "Connection timed out", "Connection refused",
		"Failed to connect", "Couldn't connect", "Temporary failure in name resolution"):
		f.Code, f.Text = "clone-no-network", fmt.Sprintf("%s can't be reached over the network: %s", hidden(address),
			said)
		f.Remedy = "Check the network, a proxy and the host's name; a folder of this machine works without a network."
	case has("Permission denied (publickey", "Authentication failed", "could not read Username",
		"terminal prompts disabled", "Permission denied", " 403", " 401"):
		f.Code, f.Text = "clone-not-permitted", fmt.Sprintf("%s refuses you: %s", hidden(address), said)
		f.Remedy = "Check your SSH key or token, and that the repository is yours to read."
	case has("does not appear to be a git repository", "not found", "does not exist", "not a git repository",
		"repository '"):
		f.Code, f.Text = "address-not-a-repository", fmt.Sprintf("%s is not a git repository", hidden(address))
		f.Remedy = "Check the address. If the code is there without git, survey it as it is: nharbor -C FOLDER survey"
	}
	return f
}

// hidden is an address without the password it may carry.
func hidden(address string) string {
	if u, err := url.Parse(address); err == nil && u.User != nil {
		return u.Redacted()
	}
	return address
}

type git struct {
	ctx       context.Context
	protocols string
	progress  func(string)
	// ours is true for what is being cloned: its configuration is git's own and the person's, who may need a helper for
	// the login or another ssh.
	ours bool
}

// harmless are settings by which a checkout's own configuration could have git run a command, as values that run none.
// They go before all that a checkout says. What can't be switched off by a name of its own, filters and converters of
// files, is run by none of the commands that are used here on what was not cloned by us.
var harmless = []string{
	"core.fsmonitor=false", "core.hooksPath=" + os.DevNull, "core.pager=cat", "core.askPass=", "core.editor=:",
	"core.sshCommand=", "core.gitProxy=", "core.alternateRefsCommand=:", "core.attributesFile=" + os.DevNull,
	"credential.helper=", "diff.external=", "gpg.program=:", "gpg.ssh.program=:", "gpg.x509.program=:",
	"log.showSignature=false", "merge.verifySignatures=false", "submodule.recurse=false", "protocol.ext.allow=never",
	"uploadpack.packObjectsHook=", "sequence.editor=:", "pager.tag=false", "pager.config=false",
	"fetch.recurseSubmodules=false", "maintenance.auto=false", "gc.auto=0",
}

func (g git) command(dir string, args ...string) *exec.Cmd {
	if !g.ours {
		var first []string
		for _, setting := range harmless {
			first = append(first, "-c", setting)
		}
		args = append(append(first, "--no-pager", "--no-optional-locks"), args...)
	}
	cmd := exec.CommandContext(g.ctx, "git", args...)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LC_ALL=C", "GIT_ALLOW_PROTOCOL="+g.protocols)
	if !g.ours { // nothing that is missing is fetched, from wherever a checkout says
		cmd.Env = append(cmd.Env, "GIT_NO_LAZY_FETCH=1", "GIT_TERMINAL_PROMPT=0", "GIT_CONFIG_COUNT=0")
	}
	// The variables that a hook or an alias leaves behind point at another repository.
	cmd.Env = without(cmd.Env, "GIT_DIR", "GIT_WORK_TREE", "GIT_INDEX_FILE")
	return cmd
}

func without(env []string, names ...string) []string {
	out := env[:0:0]
next:
	for _, e := range env {
		for _, n := range names {
			if strings.HasPrefix(e, n+"=") {
				continue next
			}
		}
		out = append(out, e)
	}
	return out
}

// run runs git, hands its progress on, and gives its last words as the error.
func (g git) run(dir string, args ...string) error {
	cmd := g.command(dir, args...)
	pipe, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	var said []string
	for line := range linesOf(pipe) {
		if g.progress != nil {
			g.progress(line)
		}
		if !strings.Contains(line, "% (") {
			said = append(said, line)
		}
	}
	if err := cmd.Wait(); err != nil {
		if g.ctx.Err() != nil {
			return g.ctx.Err()
		}
		for i := len(said) - 1; i >= 0; i-- {
			for _, sign := range []string{"fatal: ", "error: ", "ssh: "} {
				if text, ok := strings.CutPrefix(said[i], sign); ok &&
					!strings.HasPrefix(text, "Could not read from remote") {
					return errors.New(text)
				}
			}
		}
		if len(said) > 0 {
			return errors.New(said[0])
		}
		return err
	}
	return nil
}

// linesOf gives lines that end with a line feed or, as progress does, with a carriage return.
func linesOf(r io.Reader) func(func(string) bool) {
	return func(yield func(string) bool) {
		var line []byte
		buf := make([]byte, 4096)
		going := true
		flush := func() {
			if s := strings.TrimSpace(string(line)); s != "" && going {
				going = yield(s)
			}
			line = line[:0]
		}
		for {
			n, err := r.Read(buf)
			for _, c := range buf[:n] {
				if c == '\n' || c == '\r' {
					flush()
				} else {
					line = append(line, c)
				}
			}
			if err != nil {
				flush()
				return
			}
		}
	}
}

// output runs git and gives what it prints; empty if it fails.
func (g git) output(dir string, args ...string) string {
	out, err := g.command(dir, args...).Output()
	if err != nil {
		return ""
	}
	return string(bytes.TrimSpace(out))
}

func (g git) checkout(dir, ref string) error {
	target := ""
	for _, candidate := range []string{"refs/tags/" + ref, "refs/remotes/origin/" + ref, ref} {
		if candidate != ref && g.command(dir, "show-ref", "--verify", "--quiet", "--", candidate).Run() != nil {
			continue // "refs/tags/x~1" would resolve, and be no tag
		}
		if g.output(dir, "rev-parse", "--verify", "--quiet", "--end-of-options", candidate+"^{commit}") != "" {
			target = candidate
			break
		}
	}
	if target == "" {
		tags := strings.Fields(g.output(dir, "tag", "--sort=-version:refname"))
		text := fmt.Sprintf("there is no tag, branch or commit %q", ref)
		remedy := "The repository has no tags; leave --at out for its newest commit."
		if len(tags) > 0 {
			shown := tags[:min(len(tags), 12)]
			remedy = "Tags that exist, newest first: " + strings.Join(shown, ", ")
			if rest := len(tags) - len(shown); rest > 0 {
				remedy += fmt.Sprintf(" and %d more", rest)
			}
		}
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeRefNotFound, Text: text, Remedy: remedy}
	}
	var err error
	if branch, ok := strings.CutPrefix(target, "refs/remotes/origin/"); ok {
		err = g.run(dir, "checkout", "--quiet", "-B", branch, "--track", "refs/remotes/origin/"+branch, "--")
	} else {
		err = g.run(dir, "checkout", "--quiet", "--detach", target, "--")
	}
	if err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRefNotFound,
			Text: fmt.Sprintf("%q could not be checked out: %v", ref, err), Remedy: "Check the ref.", Cause: err}
	}
	return nil
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
		commit = append([]string{"-c", "user.name=nharbor", "-c", "user.email=nharbor@localhost"}, commit...)
	}
	for _, args := range append(steps, commit) {
		if err := g.run(dir, args...); err != nil {
			return fail(err)
		}
	}
	return nil
}

// Describe reads a checkout's branch, commit, tag and submodules. Path is left as ".".
func Describe(ctx context.Context, dir string) (stack.Checkout, error) {
	g := git{ctx: ctx, protocols: ""}
	c := stack.Checkout{Path: "."}
	c.Commit = g.output(dir, "rev-parse", "--verify", "--quiet", "HEAD")
	if c.Branch = g.output(dir, "symbolic-ref", "--short", "--quiet", "HEAD"); c.Commit == "" && c.Branch == "" {
		return c, fmt.Errorf("%s is no checkout", dir)
	}
	if c.Commit != "" {
		c.Tag, _, _ = strings.Cut(g.output(dir, "tag", "--points-at", "HEAD", "--sort=-version:refname"), "\n")
	}
	if _, err := os.Stat(filepath.Join(dir, ".gitmodules")); err == nil {
		for _, line := range strings.Split(g.output(dir, "config", "--file", ".gitmodules", "--get-regexp",
			`^submodule\..*\.path$`), "\n") {
			if _, path, ok := strings.Cut(line, " "); ok && filepath.IsLocal(path) {
				entries, _ := os.ReadDir(filepath.Join(dir, path))
				c.Submodules = append(c.Submodules, stack.Submodule{Path: path, Present: len(entries) > 0})
			}
		}
	}
	return c, nil
}

// Top is the top folder of the checkout that dir lies in; ok is false outside of any.
func Top(dir string) (top string, ok bool) {
	for d := dir; ; d = filepath.Dir(d) {
		if _, err := os.Lstat(filepath.Join(d, ".git")); err == nil {
			return d, true
		}
		if d == filepath.Dir(d) {
			return "", false
		}
	}
}

// Known tells of files (relative to dir, slash-separated) which git keeps, and which it would ignore. Where git can't
// be asked both are empty.
func Known(ctx context.Context, dir string, files []string) (tracked, ignored map[string]bool) {
	g := git{ctx: ctx}
	set := func(c *exec.Cmd) map[string]bool {
		out := map[string]bool{}
		data, _ := c.Output() // check-ignore ends with 1 where it ignores none
		for _, name := range strings.Split(string(data), "\x00") {
			if name != "" {
				out[name] = true
			}
		}
		return out
	}
	tracked = map[string]bool{}
	for part := range slices.Chunk(files, 500) {
		maps.Copy(tracked,
			set(g.command(dir, append([]string{"--literal-pathspecs", "ls-files", "-z", "--"}, part...)...)))
	}
	c := g.command(dir, "check-ignore", "--stdin", "-z")
	c.Stdin = strings.NewReader(strings.Join(files, "\x00"))
	return tracked, set(c)
}

// Committed tells of files (relative to dir, slash-separated) the names of their contents in the commit that is checked
// out. What is not in it, and everything where git can't be asked, is absent.
func Committed(ctx context.Context, dir string, files []string) map[string]string {
	g, out := git{ctx: ctx}, map[string]string{}
	for part := range slices.Chunk(files, 500) {
		listed := g.output(dir, append([]string{"--literal-pathspecs", "ls-tree", "-z", "HEAD", "--"}, part...)...)
		for entry := range strings.SplitSeq(listed, "\x00") {
			about, name, _ := strings.Cut(entry, "\t")
			if fields := strings.Fields(about); len(fields) == 3 && fields[1] == "blob" {
				out[name] = fields[2]
			}
		}
	}
	return out
}

var (
	shortAddress = expr.New(`^(?:[^@/\s]+@)?([^:/\s]+):([^/\s].*)$`)
	fullAddress  = expr.New(`^[a-z+]+://(?:[^@/\s]*@)?([^/:\s]+)(?::\d+)?/(.*)$`)
)

// Name tells which repository a checkout is of, the same for each clone however its address is written: host and path
// of its remote called origin, or of its first one; without a remote its first commit. It is empty for what has
// neither.
func Name(ctx context.Context, dir string) string {
	g := git{ctx: ctx}
	address := g.output(dir, "config", "--get", "remote.origin.url")
	if address == "" {
		first, _, _ := strings.Cut(g.output(dir, "remote"), "\n")
		if first != "" {
			address = g.output(dir, "config", "--get", "remote."+first+".url")
		}
	}
	if address == "" {
		if first, _, _ := strings.Cut(g.output(dir, "rev-list", "--max-parents=0", "HEAD"), "\n"); first != "" {
			return "commit:" + first
		}
		return ""
	}
	return NormalAddress(address)
}

// NormalAddress is a repository's address without what differs between ways to reach it: scheme, user, port, ending.
func NormalAddress(address string) string {
	host, path := "", address
	if m := fullAddress.FindStringSubmatch(address); m != nil {
		host, path = m[1], m[2]
	} else if m := shortAddress.FindStringSubmatch(address); m != nil && !strings.HasPrefix(address, "/") &&
		!strings.HasPrefix(address, ".") {
		host, path = m[1], m[2]
	}
	path = strings.TrimRight(strings.TrimSuffix(strings.TrimRight(strings.TrimPrefix(path, "file://"), "/"), ".git"),
		"/")
	if host == "" {
		return path
	}
	return strings.ToLower(host) + "/" + strings.TrimPrefix(path, "/")
}
