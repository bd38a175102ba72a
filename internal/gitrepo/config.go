package gitrepo

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// A checkout's own configuration is written by git, by its owner, and by whoever made the checkout,
// if it came in an archive or was copied. Nobody can list all keys by which git runs a program or
// opens a file, since each version of it and each helper brings more; so what is allowed is listed:
// what clone and init write on any system, who one is, remotes, branches, submodules, line endings,
// and how a pull, a push or a fetch goes about it. No value may name a program or a file. What is
// switched off on every call of ours may stand there too.
//
// The person's own configuration is not looked at: it is theirs.

// allowedConfig are the keys that may stand in a checkout's own configuration, in lower case as git
// prints them, and what their values look like. The first line that matches a key decides.
var allowedConfig = []struct {
	key, value *expr.Expr
	why        string
}{
	{expr.New(`^core\.(repositoryformatversion|filemode|bare|logallrefupdates|ignorecase|precomposeunicode|symlinks|` +
		`hidedotfiles|protecthfs|protectntfs|longpaths|fscache|trustctime|checkstat|quotepath|abbrev|untrackedcache|` +
		`preloadindex|splitindex|commitgraph|multipackindex|compression|bigfilethreshold|packedgitlimit|` +
		`sharedrepository|autocrlf|eol|safecrlf|whitespace|checkroundtripencoding|sparsecheckout|sparsecheckoutcone|` +
		`fsync\w*|createobject)$`), word, "what init and clone write, and line endings"},
	{expr.New(`^core\.hookspath$`), anyValue,
		"no call of ours runs hooks; tools for hooks set it in every checkout"},
	{expr.New(`^core\.(fsmonitor|pager|editor)$`), anyValue, "switched off on every call of ours"},
	{expr.New(`^extensions\.(objectformat|compatobjectformat|refstorage|noop|worktreeconfig|relativeworktrees|` +
		`preciousobjects|partialclone)$`), word, "what clone writes"},
	{expr.New(`^(user|author|committer)\.(name|email)$`), anyValue, "who one is"},
	{expr.New(`^user\.(useconfigonly|signingkey)$`), hexWord,
		"who one is; a key that is a file is none of these"},
	{expr.New(`^(commit|tag|push|merge)\.(gpgsign|forcesignannotated|verifysignatures)$|^gpg\.format$`), word,
		"nothing is signed here, and looking at signatures is switched off"},
	{expr.New(`^remote\..+\.(url|pushurl)$`), anyValue,
		"addresses are looked at where they are used"},
	{expr.New(`^remote\..+\.(fetch|push|tagopt|prune|prunetags|mirror|skipdefaultupdate|skipfetchall|promisor|` +
		`partialclonefilter|followremotehead|gh-resolved)$|^remotes\..+$|^remote\.pushdefault$|^checkout\.\w+$`), spec,
		"which refs go where"},
	{expr.New(`^branch\..+\.(remote|merge|rebase|pushremote|mergeoptions|description|gh-merge-base|` +
		`vscode-merge-base|github-pr-owner-number)$|^branch\.(autosetupmerge|autosetuprebase|sort)$`), spec,
		"branches"},
	{expr.New(`^submodule\..+\.update$`), expr.New(`^(checkout|rebase|merge|none)$`),
		"no command among its ways"},
	{expr.New(`^submodule\..+\.(url|active|branch|ignore|shallow|fetchrecursesubmodules)$|` +
		`^submodule\.(active|recurse|fetchjobs|propagatebranches)$`), spec, "submodules"},
	{expr.New(`^(pull|push|fetch|merge|rebase)\.(rebase|ff|octopus|default|autosetupremote|followtags|prune|` +
		`prunetags|parallel|writecommitgraph|recursesubmodules|all|conflictstyle|renames|stat|autostash|autosquash|` +
		`updaterefs|renamelimit|directoryrenames|negotiationalgorithm|unpacklimit|fsckobjects)$|^(transfer|receive)\.` +
		`(fsckobjects|unpacklimit|denycurrentbranch)$`), word, "how a pull, a push or a fetch " +
		"goes about it"},
	{expr.New(`^(rerere|gc|maintenance|index|pack|feature|status|color|advice|diff|log|format|init|i18n|apply|` +
		`help|column|protocol)\.(enabled|auto|autodetach|autopacklimit|strategy|version|threads|skiphash|manyfiles|` +
		`experimental|short|branch|showuntrackedfiles|submodulesummary|aheadbehind|ui|algorithm|renames|renamelimit|` +
		`mnemonicprefix|` +
		`noprefix|colormoved|abbrevcommit|date|decorate|defaultbranch|commitencoding|logoutputencoding|whitespace|` +
		`autocorrect|windowmemory|[a-z]*hint|detachedhead|pushnonfastforward|statushints)$|` +
		`^maintenance\..+\.(enabled|schedule)$`), word, "how things are shown and kept"},
	{expr.New(`^credential\.(.+\.)?(username|usehttppath)$`), spec, "who one is"},
	{expr.New(`^filter\.lfs\.(clean|smudge|process|required)$`),
		expr.New(`^(git-lfs (clean|smudge|smudge --skip) -- %f|git-lfs filter-process( --skip)?|true|false|)$`),
		"as the installation of its open specification writes them"},
	{expr.New(`^lfs\.(repositoryformatversion|concurrenttransfers|fetchrecentalways)$|` +
		`^lfs\..+\.(access|locksverify)$`), word, "as that writes them"},
}

var (
	word     = expr.New(`^[\w+,. -]{0,60}$`)
	hexWord  = expr.New(`^(0x)?[0-9A-Fa-f]{0,40}!?$|^true$|^false$`)
	spec     = expr.New(`^[^!|;&$` + "`" + `()<>]*$`)
	anyValue = expr.New(`(?s)^`)
)

// setting is one of a checkout's own configuration that is not allowed.
type setting struct{ file, key string }

// strange finds the first setting of a checkout's own configuration, and of those of its
// submodules, that is not among the allowed ones; ok is false where there is none.
func (g git) strange(dir string) (s setting, ok bool) {
	at, err := folderOf(dir)
	if err != nil {
		return setting{filepath.Join(dir, ".git"), "gitdir"}, true
	}
	if s, ok := g.strangeIn(dir, at); ok {
		return s, true
	}
	if data, err := reading.OwnFile(filepath.Join(at, "commondir"), maxSmall); err == nil {
		common := strings.TrimSpace(string(data))
		if !filepath.IsAbs(common) {
			common = filepath.Join(at, common)
		}
		if s, ok := g.strangeIn(dir, common); ok {
			return s, true
		}
		at = common
	}
	// Submodules have their git folders in that of the checkout or, in older ones, in their own.
	left := maxRefs
	if s, ok := g.strangeModules(filepath.Join(at, "modules"), &left); ok {
		return s, true
	}
	for entry := range strings.SplitSeq(g.output(dir, "ls-files", "--stage", "-z"), "\x00") {
		about, name, _ := strings.Cut(entry, "\t")
		module := filepath.Join(dir, filepath.FromSlash(name))
		if !strings.HasPrefix(about, "160000 ") || !filepath.IsLocal(name) {
			continue
		}
		if info, err := os.Lstat(filepath.Join(module, ".git")); err != nil {
			continue
		} else if info.IsDir() {
			if s, ok := g.strange(module); ok {
				return s, true
			}
		} else if where, err := folderOf(module); err != nil ||
			!strings.HasPrefix(where, real(at)+string(filepath.Separator)) {
			return setting{filepath.Join(module, ".git"), "gitdir"}, true
		}
	}
	return s, false
}

func real(name string) string {
	if to, err := filepath.EvalSymlinks(name); err == nil {
		return to
	}
	return name
}

// strangeModules looks at all git folders below one.
func (g git) strangeModules(at string, left *int) (s setting, ok bool) {
	entries, err := os.ReadDir(at)
	if err != nil {
		return s, false
	}
	if _, err := os.Lstat(filepath.Join(at, "HEAD")); err == nil {
		if s, ok := g.strangeIn("", at); ok {
			return s, true
		}
		return g.strangeModules(filepath.Join(at, "modules"), left)
	}
	for _, e := range entries {
		if *left--; *left < 0 || e.Type()&fs.ModeSymlink != 0 {
			return setting{filepath.Join(at, e.Name()), "gitdir"}, true
		}
		if e.IsDir() {
			if s, ok := g.strangeModules(filepath.Join(at, e.Name()), left); ok {
				return s, true
			}
		}
	}
	return s, false
}

// strangeIn looks at the configuration of one git folder. top is the checkout's, or empty for a
// submodule's.
func (g git) strangeIn(top, at string) (s setting, ok bool) {
	for _, name := range []string{"config", "config.worktree"} {
		file := filepath.Join(at, name)
		info, err := os.Lstat(file)
		if err != nil {
			continue
		}
		if !info.Mode().IsRegular() || info.Size() > maxSmall {
			return setting{file, name}, true
		}
		out, err := g.asked(os.TempDir(), "", "config", "--file", file, "--list", "--no-includes", "-z")
		if err != nil {
			return setting{file, name}, true // git can't read it, or refuses to
		}
		for entry := range strings.SplitSeq(strings.TrimSuffix(string(out), "\x00"), "\x00") {
			key, value, _ := strings.Cut(entry, "\n")
			if entry == "" || allowed(key, value) {
				continue
			}
			// A submodule's folder says where its working copy is: in the checkout that it belongs
			// to.
			if key == "core.worktree" && worktreeIsOwn(at, value, top) {
				continue
			}
			return setting{file, key}, true
		}
	}
	return s, false
}

func allowed(key, value string) bool {
	if strings.ContainsAny(key, "\n\x00") {
		return false
	}
	lower := strings.ToLower(key)
	for _, a := range allowedConfig {
		if a.key.MatchString(lower) {
			return a.value.MatchString(value)
		}
	}
	return false
}

// worktreeIsOwn reports whether the working copy that a git folder names is the checkout itself, or
// lies in the one whose submodule it is.
func worktreeIsOwn(at, value, top string) bool {
	if !filepath.IsAbs(value) {
		value = filepath.Join(at, value)
	}
	if top != "" {
		return real(value) == real(top)
	}
	i := strings.Index(at, string(filepath.Separator)+".git"+string(filepath.Separator))
	if i < 0 {
		return false
	}
	rel, err := filepath.Rel(real(at[:i]), real(value))
	return err == nil && filepath.IsLocal(rel) && rel != "."
}

// obeys makes sure that git, when it goes by the configuration of a checkout, runs and opens
// nothing that the checkout names. Codes of the error: checkout-config-runs, checkout-elsewhere.
func (g git) obeys(dir string) error {
	if err := Sound(dir); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCheckoutElsewhere,
			At: stack.Place{File: filepath.Join(dir, ".git")}, Text: "git is not asked about it: " + err.Error(),
			Remedy: "If it is yours, use git by hand.", Cause: err}
	}
	s, found := g.strange(dir)
	if !found {
		return nil
	}
	f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCheckoutConfigRuns, At: stack.Place{File: s.file}}
	switch s.key {
	case "gitdir":
		f.Code, f.Text = stack.CodeCheckoutElsewhere, "a git folder that it uses is not its own"
		f.Remedy = "Look where it leads. If it is yours, use git by hand."
	case "config", "config.worktree":
		f.Text, f.Remedy = "its own configuration can't be read", "Look at the file."
	default:
		f.Text = fmt.Sprintf("its own configuration has a setting by which git could run or open something: %s", s.key)
		f.Remedy = "Read it. If it is yours, put it into your own with git config --global; to remove it from here: " +
			"git config --file " + shell.Word(s.file) + " --unset-all " + shell.Word(s.key)
	}
	return f
}

// Outside is what of a checkout's own repository lies outside of a folder: the git folder of a
// second working copy of one's own, or one whose objects it borrows; empty where all lies within.
func Outside(root, dir string) string {
	at, err := folderOf(dir)
	if err != nil {
		return ""
	}
	within := func(name string) bool {
		rel, err := filepath.Rel(real(root), real(name))
		return err == nil && filepath.IsLocal(rel)
	}
	if !within(at) {
		return at
	}
	data, err := reading.OwnFile(filepath.Join(at, "objects", "info", "alternates"), maxSmall)
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(data)) {
		name := strings.TrimSpace(line)
		if name == "" || strings.HasPrefix(name, "#") {
			continue
		}
		if !filepath.IsAbs(name) {
			name = filepath.Join(at, "objects", name)
		}
		if !within(name) {
			return name
		}
	}
	return ""
}
