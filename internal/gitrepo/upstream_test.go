package gitrepo

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// behind is a repository, and a checkout of it that lacks its last commit.
func behind(t *testing.T) (origin, dir string) {
	t.Helper()
	origin = repository(t)
	dir = filepath.Join(t.TempDir(), "checkout")
	runGit(t, "", "clone", "-q", origin, dir)
	put := func(name, text string) {
		if err := os.WriteFile(filepath.Join(origin, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("version", "v3")
	put("quay ü\tx", "new")
	runGit(t, origin, "add", "-A")
	runGit(t, origin, "commit", "-q", "-m", "v3\ttabs")
	return origin, dir
}

// ahead is what comes to a checkout.
func ahead(t *testing.T, dir string) (*Upstream, error) {
	t.Helper()
	u, err := UpstreamOf(t.Context(), dir)
	if err == nil {
		err = u.Fetch(t.Context(), dir, Options{})
	}
	if err == nil {
		err = u.Look(t.Context(), dir)
	}
	return u, err
}

// TestUpstream goes there and back again.
func TestUpstream(t *testing.T) {
	t.Parallel()
	_, dir := behind(t)
	u, err := ahead(t, dir)
	if err != nil {
		t.Fatal(err)
	}
	told := ""
	for _, c := range u.Commits {
		told += fmt.Sprintf("%s by %s\n", c.Subject, c.Author)
	}
	for _, c := range u.Changes {
		told += fmt.Sprintf("%q gone %v\n", c.Path, c.Gone)
	}
	const want = "v3\ttabs by Ida\n\"quay ü\\tx\" gone false\n\"version\" gone false\n"
	if told != want || u.Follows != "origin/main" || u.Branch != "main" {
		t.Errorf("told is %q of %+v", told, u)
	}
	if got := content(t, filepath.Join(dir, "version")); got != "v2" {
		t.Errorf("looking has brought in %s", got)
	}
	objects, err := Open(t.Context(), dir)
	if err != nil {
		t.Fatal(err)
	}
	defer objects.Close()
	if data, err := objects.Blob(u.Changes[1].Object); err != nil || string(data) != "v3" {
		t.Errorf("the file will hold %q, %v", data, err)
	}
	if err := u.Take(t.Context(), dir, Options{}); err != nil {
		t.Fatal(err)
	}
	if got := content(t, filepath.Join(dir, "version")); got != "v3" {
		t.Errorf("brought in is %s", got)
	}
	if u, err := ahead(t, dir); err != nil || u.From != u.To {
		t.Errorf("what has come comes again: %+v, %v", u, err)
	}
	if err := Return(t.Context(), dir, u.From, u.To); !hasCode(err, stack.CodeNoWayBack) {
		t.Errorf("from where it isn't, it came back with %v", err)
	}
	if err := Return(t.Context(), dir, u.To, u.From); err != nil ||
		content(t, filepath.Join(dir, "version")) != "v2" {
		t.Errorf("brought back with %v", err)
	}
}

func hasCode(err error, code stack.Code) bool {
	list := stack.AllFaults(err)
	return len(list) == 1 && list[0].Code == code
}

// TestUpstreamRefuses leaves alone what would be lost, and what has git run a program.
func TestUpstreamRefuses(t *testing.T) {
	t.Parallel()
	config := func(key, value string) func(t *testing.T, origin, dir, canary string) {
		return func(t *testing.T, _, dir, canary string) {
			runGit(t, dir, "config", key, strings.ReplaceAll(value, "RUN", "touch "+canary))
		}
	}
	type setUp = func(t *testing.T, origin, dir, canary string)
	for name, c := range map[string]struct {
		make setUp
		code stack.Code // empty where it is taken
	}{
		"nothing": {func(*testing.T, string, string, string) {}, ""},
		"work that is not committed": {func(t *testing.T, _, dir, _ string) {
			os.WriteFile(filepath.Join(dir, "version"), []byte("mine"), 0o644)
		}, stack.CodeUncommittedWork},
		"work that is staged": {func(t *testing.T, _, dir, _ string) {
			os.WriteFile(filepath.Join(dir, "own"), []byte("mine"), 0o644)
			runGit(t, dir, "add", "own")
		}, stack.CodeUncommittedWork},
		"a touched file": {func(t *testing.T, _, dir, _ string) {
			os.WriteFile(filepath.Join(dir, "version"), []byte("v2"), 0o644)
		}, ""},
		"a file of one's own": {func(t *testing.T, _, dir, _ string) {
			os.WriteFile(filepath.Join(dir, "own"), []byte("mine"), 0o644)
		}, ""},
		"a file of one's own in the way": {func(t *testing.T, _, dir, _ string) {
			os.WriteFile(filepath.Join(dir, "quay ü\tx"), []byte("mine"), 0o644)
		}, stack.CodeNotTaken},
		"a commit of one's own": {func(t *testing.T, _, dir, _ string) {
			runGit(t, dir, "commit", "-q", "--allow-empty", "-m", "mine")
		}, stack.CodeHistoriesDiverged},
		"no branch": {func(t *testing.T, _, dir, _ string) {
			runGit(t, dir, "checkout", "-q", "v1")
		}, stack.CodeUpstreamMissing},
		"a branch that follows none": {func(t *testing.T, _, dir, _ string) {
			runGit(t, dir, "checkout", "-q", "-b", "own")
		}, stack.CodeUpstreamMissing},
		"a repository that has gone": {func(t *testing.T, origin, _, _ string) {
			os.RemoveAll(origin)
		}, stack.CodeAddressNotFound},
		"a transport that is a program": {config("remote.origin.url", "ext::sh -c RUN"),
			stack.CodeAddressInvalid},
		"a remote that is an option": {config("remote.origin.url", "--upload-pack=RUN"),
			stack.CodeAddressInvalid},
		"another ssh": {config("core.sshCommand", "RUN"), stack.CodeCheckoutConfigRuns},
		"a server's program": {config("remote.origin.uploadpack", "RUN;"),
			stack.CodeCheckoutConfigRuns},
		"a helper of the remote": {config("remote.origin.vcs", "ext"),
			stack.CodeCheckoutConfigRuns},
		"a login's helper": {config("credential.helper", "!RUN"), stack.CodeCheckoutConfigRuns},
		"a filter": {config("filter.x.smudge", "RUN"),
			stack.CodeCheckoutConfigRuns},
		"a filter for large files": {config("filter.lfs.smudge", "git-lfs smudge -- %f"), ""},
		"an included file": {config("include.path", "../more.cfg"),
			stack.CodeCheckoutConfigRuns},
		"a folder of hooks": {config("core.hooksPath", ".husky/_"), ""},
		"who one is":        {config("user.email", "ida@quay.example"), ""},
		"line endings":      {config("core.autocrlf", "input"), ""},
		"how to pull":       {config("pull.rebase", "true"), ""},
		"another work tree": {config("core.worktree", "/tmp"), stack.CodeCheckoutConfigRuns},
		"cookies": {config("http.cookieFile", "/etc/passwd"),
			stack.CodeCheckoutConfigRuns},
		"another address instead": {config("url./tmp/.insteadOf", "https://quay.example/"),
			stack.CodeCheckoutConfigRuns},
		"a proxy": {config("http.proxy", "http://quay.example"), stack.CodeCheckoutConfigRuns},
		"a list of attributes": {config("core.attributesFile", "/tmp/x"),
			stack.CodeCheckoutConfigRuns},
		"a driver of merges": {config("merge.x.driver", "RUN"), stack.CodeCheckoutConfigRuns},
		"a converter":        {config("diff.x.textconv", "RUN"), stack.CodeCheckoutConfigRuns},
		"an agent of large files": {config("lfs.customtransfer.x.path", "RUN"),
			stack.CodeCheckoutConfigRuns},
		"a trailer": {config("trailer.x.command", "RUN"), stack.CodeCheckoutConfigRuns},
		"a key that is a program": {config("user.signingKey", "./key"),
			stack.CodeCheckoutConfigRuns},
		"a large file's filter that does more": {config("filter.lfs.smudge",
			"git-lfs smudge -- %f; RUN"), stack.CodeCheckoutConfigRuns},
		"a proxy of the remote": {config("remote.origin.proxy", "http://quay.example"),
			stack.CodeCheckoutConfigRuns},
		"a bundle": {config("fetch.bundleURI", "http://quay.example"),
			stack.CodeCheckoutConfigRuns},
		"a filter of a submodule": {func(t *testing.T, _, dir, canary string) {
			runGit(t, "", "init", "-q", filepath.Join(dir, ".git", "modules", "deep", "part"))
			os.Rename(filepath.Join(dir, ".git", "modules", "deep", "part", ".git", "HEAD"),
				filepath.Join(dir, ".git", "modules", "deep", "part", "HEAD"))
			os.WriteFile(filepath.Join(dir, ".git", "modules", "deep", "part", "config"),
				[]byte("[filter \"x\"]\n\tsmudge = touch "+canary+"\n"), 0o644)
		}, stack.CodeCheckoutConfigRuns},
		"a git folder elsewhere": {func(t *testing.T, origin, dir, _ string) {
			elsewhere := filepath.Join(t.TempDir(), "git")
			os.Rename(filepath.Join(dir, ".git"), elsewhere)
			os.WriteFile(filepath.Join(dir, ".git"), []byte("gitdir: "+elsewhere+"\n"), 0o644)
		}, stack.CodeUpstreamMissing},
		"a link to a git folder elsewhere": {func(t *testing.T, origin, dir, _ string) {
			elsewhere := filepath.Join(t.TempDir(), "git")
			os.Rename(filepath.Join(dir, ".git"), elsewhere)
			os.Symlink(elsewhere, filepath.Join(dir, ".git"))
		}, stack.CodeUpstreamMissing},
		"a common folder elsewhere": {func(t *testing.T, origin, dir, _ string) {
			os.WriteFile(filepath.Join(dir, ".git", "commondir"),
				[]byte(filepath.Join(origin, ".git")), 0o644)
		}, stack.CodeUpstreamMissing},
		"a file system monitor": {config("core.fsmonitor", "RUN"), ""},
		"a submodule's update": {config("submodule.x.update", "!RUN"),
			stack.CodeCheckoutConfigRuns},
		"hooks": {func(t *testing.T, _, dir, canary string) {
			os.MkdirAll(filepath.Join(dir, ".git", "hooks"), 0o755)
			for _, hook := range []string{"post-merge", "post-checkout", "reference-transaction",
				"post-index-change"} {
				os.WriteFile(filepath.Join(dir, ".git", "hooks", hook),
					[]byte("#!/bin/sh\ntouch "+canary+"\n"), 0o755)
			}
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			origin, dir := behind(t)
			canary := filepath.Join(t.TempDir(), "canary")
			c.make(t, origin, dir, canary)
			os.Remove(canary) // git itself may have run it
			u, err := ahead(t, dir)
			if err == nil {
				err = u.Take(t.Context(), dir, Options{})
			}
			if err == nil && c.code != "" || err != nil && !hasCode(err, c.code) {
				t.Errorf("it ends with %v, and not with %q", err, c.code)
			}
			if _, err := os.Stat(canary); err == nil {
				t.Error("the program was run")
			}
			if now := content(t, filepath.Join(dir, "version")); (now == "v3") != (c.code == "") {
				t.Errorf("the checkout is at %s", now)
			}
		})
	}
}
