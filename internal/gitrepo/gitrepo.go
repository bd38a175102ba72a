// Package gitrepo makes and reads checkouts through git's own command.
package gitrepo

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/process"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

type git struct {
	ctx       context.Context
	protocols string
	progress  func(Progress)
	// patience is how long it may say nothing; zero for as long as it likes. grows is the
	// repository in which what arrives is a sign of life, too.
	patience time.Duration
	grows    string
	mayAsk   bool // a person is there to be asked for a password
	// ours is true for what is being cloned: its configuration is git's own and the person's, who
	// may need a helper for the login or another ssh.
	ours bool
}

// harmless are settings by which a checkout's own configuration could have git run a command, as
// values that run none. They go before all that a checkout says. What can't be switched off by a
// name of its own, filters and converters of files, is run by none of the commands that are used
// here on what was not cloned by us.
var harmless = []string{
	"core.fsmonitor=false", "core.hooksPath=" +
		os.DevNull, "core.pager=cat", "core.askPass=", "core.editor=:",
	"core.sshCommand=", "core.gitProxy=", "core.alternateRefsCommand=:", "core.attributesFile=" +
		os.DevNull,
	"credential.helper=", "diff.external=", "gpg.program=:", "gpg.ssh.program=:",
	"gpg.x509.program=:",
	"log.showSignature=false", "merge.verifySignatures=false", "submodule.recurse=false",
	"protocol.ext.allow=never",
	"safe.bareRepository=explicit", "uploadpack.packObjectsHook=", "sequence.editor=:",
	"pager.tag=false", "pager.config=false",
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
	cmd.Dir, cmd.WaitDelay = dir, 2*time.Second
	if !g.ours {
		if err := unsound(dir); err != nil {
			cmd.Err = err
		}
	}
	cmd.Env = append(os.Environ(), "LC_ALL=C", "GIT_ALLOW_PROTOCOL="+g.protocols)
	if !g.ours { // nothing that is missing is fetched, from wherever a checkout says
		cmd.Env = append(cmd.Env, "GIT_NO_LAZY_FETCH=1", "GIT_TERMINAL_PROMPT=0",
			"GIT_CONFIG_COUNT=0")
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

// run runs git, hands its progress on, and gives its last words as the error, or a *stalled.
func (g git) run(dir string, args ...string) error {
	ctx, cancel := context.WithCancelCause(g.ctx)
	defer cancel(nil)
	watched := &watch{patience: g.patience, grows: g.grows, mayAsk: g.mayAsk}
	if g.ctx = ctx; g.patience > 0 {
		watched.alive()
		go func() { // ends with run
			if watched.over(ctx) {
				cancel(&stalled{g.patience})
			}
		}()
	}
	cmd := g.command(dir, args...)
	cmd.WaitDelay = 10 * time.Second
	cmd.Cancel = func() error { return endAll(cmd.Process) }
	pipe, err := cmd.StderrPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	// What holds the pipe open though it was told to end is not waited for.
	defer context.AfterFunc(ctx, func() {
		time.AfterFunc(cmd.WaitDelay, func() { pipe.Close() })
	})()
	var said []string
	var follows follower
	for line := range linesOf(pipe) {
		watched.alive()
		if p, ok := follows.read(line, time.Now()); ok {
			watched.begun.Store(true)
			if g.progress != nil {
				g.progress(p)
			}
		} else if !strings.Contains(line, "% (") {
			said = append(said, line)
		}
	}
	err = cmd.Wait()
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if why := reason(said); why != "" {
		return errors.New(why)
	}
	return err
}

// chatter are the beginnings of what git says of a failure without telling why.
var chatter = []string{"Cloning into", "fatal: Could not read from remote repository",
	"Please make sure you have the correct access rights", "and the repository exists"}

// reason is why git has failed, by what it said: what it calls so first, else its last words, which
// are another program's.
func reason(said []string) string {
	last := ""
	for _, line := range said {
		if slices.ContainsFunc(chatter, func(c string) bool { return strings.HasPrefix(line, c) }) {
			continue
		}
		for _, sign := range []string{"fatal: ", "error: ", "ssh: "} {
			if text, ok := strings.CutPrefix(line, sign); ok {
				return text
			}
		}
		last = line
	}
	return last
}

// endAll asks git to end, which then removes what it has made, and what it has started: a helper
// that waits for a server would stay. They are no process group of their own, since that could not
// ask a person for a password.
func endAll(git *os.Process) error {
	list := []*process.Process{{Pid: int32(git.Pid)}}
	for i := 0; i < len(list); i++ {
		if children, err := list[i].Children(); err == nil {
			list = append(list, children...)
		}
	}
	err := list[0].Terminate()
	for _, p := range list[1:] {
		p.Terminate() // it may have ended by itself
	}
	if err != nil {
		return git.Kill()
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

// patience is how long git may take for an answer about a checkout. A file could keep it waiting
// for ever that nobody has looked at, such as an object that is a pipe.
const patience = 60 * time.Second

// asked runs git with an input and gives what it prints, also where it ends with another code than
// 0.
func (g git) asked(dir, input string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(g.ctx, patience)
	defer cancel()
	g.ctx = ctx
	cmd := g.command(dir, args...)
	if input != "" {
		cmd.Stdin = strings.NewReader(input)
	}
	return cmd.Output()
}

// output runs git and gives what it prints; empty if it fails.
func (g git) output(dir string, args ...string) string {
	out, err := g.asked(dir, "", args...)
	if err != nil {
		return ""
	}
	return string(bytes.TrimSpace(out))
}

// Describe reads a checkout's branch, commit, tag and submodules. Path is left as ".".
func Describe(ctx context.Context, dir string) (stack.Checkout, error) {
	g := git{ctx: ctx, protocols: ""}
	c := stack.Checkout{Path: "."}
	// The second line names a branch, or HEAD again where none is checked out. Both are asked at
	// once, since starting git is what takes time; before the first commit there is only a branch.
	var head string
	c.Commit, head, _ = strings.Cut(g.output(dir, "rev-parse", "HEAD", "--symbolic-full-name",
		"HEAD"), "\n")
	c.Branch, _ = strings.CutPrefix(head, "refs/heads/")
	if c.Commit == "" {
		c.Branch = g.output(dir, "symbolic-ref", "--short", "--quiet", "HEAD")
	}
	if c.Branch == "HEAD" {
		c.Branch = ""
	}
	if c.Commit == "" && c.Branch == "" {
		return c, fmt.Errorf("%s is no checkout", dir)
	}
	if c.Commit != "" {
		c.Tag, _, _ = strings.Cut(g.output(dir, "tag", "--points-at", "HEAD",
			"--sort=-version:refname"), "\n")
	}
	c.Address = value.Reachable(g.output(dir, "config", "--get", "remote.origin.url"))
	if _, err := os.Stat(filepath.Join(dir, ".gitmodules")); err == nil {
		for _, line := range strings.Split(g.output(dir, "config", "--file", ".gitmodules",
			"--get-regexp", `^submodule\..*\.path$`), "\n") {
			if _, path, ok := strings.Cut(line, " "); ok && filepath.IsLocal(path) {
				entries, _ := os.ReadDir(filepath.Join(dir, path))
				c.Submodules = append(c.Submodules,
					stack.Submodule{Path: path, Present: len(entries) > 0})
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

// Known tells of files (relative to dir, slash-separated) which git keeps, and which it would
// ignore. Where git can't be asked both are empty.
func Known(ctx context.Context, dir string, files []string) (tracked, ignored map[string]bool) {
	g := git{ctx: ctx}
	if Clear(dir, files) != nil {
		return nil, nil
	}
	set := func(input string, args ...string) map[string]bool {
		out := map[string]bool{}
		data, _ := g.asked(dir, input, args...) // check-ignore ends with 1 where it ignores none
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
			set("", append([]string{"--literal-pathspecs", "ls-files", "-z", "--"}, part...)...))
	}
	return tracked, Ignored(ctx, dir, files)
}

// Ignored tells of files (relative to dir, slash-separated) which git would ignore; of none where
// it can't be asked.
func Ignored(ctx context.Context, dir string, files []string) map[string]bool {
	out := map[string]bool{}
	if len(files) == 0 || Clear(dir, files) != nil {
		return out
	}
	// It ends with 1 where it ignores none.
	data, _ := git{ctx: ctx}.asked(dir, strings.Join(files, "\x00"), "check-ignore", "--stdin",
		"-z")
	for name := range strings.SplitSeq(string(data), "\x00") {
		if name != "" {
			out[name] = true
		}
	}
	return out
}

// Committed tells of files (relative to dir, slash-separated) the names of their contents in a
// commit, such as HEAD. What is not in it, and everything where git can't be asked, is absent.
func Committed(ctx context.Context, dir, commit string, files []string) map[string]string {
	g, out := git{ctx: ctx}, map[string]string{}
	for part := range slices.Chunk(files, 500) {
		listed := g.output(dir, append([]string{"--literal-pathspecs", "ls-tree", "-z", commit,
			"--"}, part...)...)
		for entry := range strings.SplitSeq(listed, "\x00") {
			about, name, _ := strings.Cut(entry, "\t")
			if fields := strings.Fields(about); len(fields) == 3 && fields[1] == "blob" {
				out[name] = fields[2]
			}
		}
	}
	return out
}
