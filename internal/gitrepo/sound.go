package gitrepo

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"nimbleharbor/internal/reading"
)

// git opens what lies in a git folder by its name alone: a pipe called HEAD keeps it waiting for
// ever, and a git folder that lies elsewhere has it read there. So before git is asked about what
// we have not cloned, its folder is looked at. What can't be looked at in little time, every object
// and ignore file, has git's own patience as its bound (patience).

// Unsound is the error of a git folder that git is not let near.
type Unsound struct {
	File string // within the checkout, or absolute where it lies outside of it
	Why  error  // wraps reading.ErrNotRegular, reading.ErrNotOurs or a *reading.TooLarge
}

func (u *Unsound) Error() string { return u.File + ": " + u.Why.Error() }

func (u *Unsound) Unwrap() error { return u.Why }

// mostOf are how large files of a git folder may be, in bytes; the others are small.
var mostOf = map[string]int64{"index": 2 << 30, "packed-refs": 512 << 20, "ORIG_HEAD": 64 << 20,
	"FETCH_HEAD": 64 << 20, "shallow": 64 << 20}

const (
	// maxSmall is how large any other file of a git folder may be that git reads as a whole, in
	// bytes.
	maxSmall = 4 << 20
	// maxRefs is how many refs with files of their own are looked at; git packs them long before.
	maxRefs = 20_000
)

// Sound makes sure that git can be asked about a checkout whose top is dir: its git folder is its
// own, and what git opens there first are regular files. The error is an *Unsound.
func Sound(dir string) error {
	at, err := folderOf(dir)
	if err != nil {
		return err
	}
	left := maxRefs
	for _, folder := range []string{".", "info", "refs", "objects/info", "objects/pack"} {
		if err := soundFolder(dir, at, folder, &left); err != nil {
			return err
		}
	}
	if common, err := reading.File(filepath.Join(at, "commondir"), maxSmall); err == nil {
		other := string(bytes.TrimSpace(common))
		if !filepath.IsAbs(other) {
			other = filepath.Join(at, other)
		}
		// Of a second working copy of one's own this is the folder two above its own.
		if filepath.Dir(filepath.Dir(at)) != filepath.Clean(other) {
			return &Unsound{within(dir, filepath.Join(at, "commondir")), reading.ErrNotOurs}
		}
		for _, folder := range []string{".", "info", "refs", "objects/info", "objects/pack"} {
			if err := soundFolder(dir, other, folder, &left); err != nil {
				return err
			}
		}
	}
	return nil
}

func within(dir, name string) string {
	if rel, err := filepath.Rel(dir, name); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return name
}

// soundFolder looks at the files of one folder of a git folder, and of those below it if it is that
// of the refs.
func soundFolder(dir, at, folder string, left *int) error {
	entries, err := os.ReadDir(filepath.Join(at, filepath.FromSlash(folder)))
	if err != nil {
		return nil // git says itself what it misses
	}
	refs := strings.HasPrefix(folder, "refs")
	for _, e := range entries {
		name := filepath.Join(at, filepath.FromSlash(folder), e.Name())
		if refs && e.IsDir() && *left > 0 {
			if err := soundFolder(dir, at, folder+"/"+e.Name(), left); err != nil {
				return err
			}
			continue
		}
		if *left--; *left < 0 && refs {
			return nil
		}
		mode := e.Type()
		if mode&fs.ModeSymlink != 0 {
			info, err := os.Stat(name)
			if err != nil {
				continue
			}
			mode = info.Mode().Type()
		}
		switch {
		case mode.IsDir():
		case !mode.IsRegular():
			if e.Name() != "fsmonitor--daemon.ipc" {
				return &Unsound{within(dir, name), reading.ErrNotRegular}
			}
		case folder != "objects/pack":
			if err := soundSize(dir, name, folder); err != nil {
				return err
			}
		}
	}
	return nil
}

// soundSize refuses a file of a repository's own that is larger than git makes it.
func soundSize(dir, name, folder string) error {
	info, err := os.Stat(name)
	if err != nil {
		return nil
	}
	limit := int64(maxSmall)
	if most := mostOf[filepath.Base(name)]; folder == "." && most > 0 {
		limit = most
	}
	if folder == "objects/info" {
		limit = 2 << 30 // lists of commits
	}
	if info.Size() > limit {
		return &Unsound{within(dir, name), &reading.TooLarge{Size: info.Size(), Limit: limit}}
	}
	return nil
}

// folderOf finds the git folder of a checkout. One that lies outside of it is its own only where
// that says so: the folder of a second working copy names the file that leads to it, and that of a
// submodule its working copy. Neither can be said by somebody who has only the checkout to write
// into.
func folderOf(dir string) (string, error) {
	name := filepath.Join(dir, ".git")
	info, err := os.Lstat(name)
	if err != nil || info.IsDir() {
		return name, nil
	}
	at := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if at, err = filepath.EvalSymlinks(name); err != nil {
			return "", &Unsound{".git", err}
		}
	default:
		data, err := reading.OwnFile(name, 64<<10)
		if err != nil {
			return "", &Unsound{".git", err}
		}
		to, ok := strings.CutPrefix(string(bytes.TrimSpace(data)), "gitdir: ")
		if !ok {
			return name, nil // git says itself what is wrong with it
		}
		if at = filepath.FromSlash(to); !filepath.IsAbs(at) {
			at = filepath.Join(dir, at)
		}
	}
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return at, nil
	}
	top, err := filepath.EvalSymlinks(dir)
	if err != nil {
		return "", &Unsound{".git", err}
	}
	if rel, err := filepath.Rel(top, real); err == nil && filepath.IsLocal(rel) ||
		knowsOf(real, top) {
		return real, nil
	}
	return "", &Unsound{".git", reading.ErrNotOurs}
}

// knowsOf reports whether a git folder says itself that it is that of a checkout.
func knowsOf(at, top string) bool {
	same := func(name string) bool {
		if !filepath.IsAbs(name) {
			name = filepath.Join(at, name)
		}
		real, err := filepath.EvalSymlinks(name)
		return err == nil && real == top
	}
	if data, err := reading.OwnFile(filepath.Join(at, "gitdir"), 64<<10); err == nil {
		return same(filepath.Dir(string(bytes.TrimSpace(data))))
	}
	data, err := reading.OwnFile(filepath.Join(at, "config"), maxSmall)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(data)) {
		key, value, found := strings.Cut(line, "=")
		if found && strings.EqualFold(strings.TrimSpace(key), "worktree") &&
			same(strings.Trim(strings.TrimSpace(value), `"`)) {
			return true
		}
	}
	return false
}

// Clear makes sure that git, when it is asked about files of a checkout, finds no ignore or
// attributes file on the way to them that would keep it waiting. The error is an *Unsound.
func Clear(dir string, files []string) error {
	seen := map[string]bool{}
	for _, file := range files {
		for folder := filepath.Dir(filepath.FromSlash(file)); !seen[folder]; folder = filepath.Dir(folder) {
			seen[folder] = true
			for _, name := range []string{".gitignore", ".gitattributes", ".gitmodules"} {
				info, err := os.Lstat(filepath.Join(dir, folder, name))
				if err != nil {
					continue
				}
				here := filepath.ToSlash(filepath.Join(folder, name))
				if mode := info.Mode().Type(); !mode.IsRegular() && !mode.IsDir() &&
					mode != fs.ModeSymlink {
					return &Unsound{here, reading.ErrNotRegular}
				}
				if info.Mode().IsRegular() && info.Size() > maxSmall {
					return &Unsound{here, &reading.TooLarge{Size: info.Size(), Limit: maxSmall}}
				}
			}
			if folder == "." {
				break
			}
		}
	}
	return nil
}

// unsound is the error of git for a checkout that it is not let near.
func unsound(dir string) error {
	if _, err := os.Lstat(filepath.Join(dir, ".git")); err != nil {
		return nil
	}
	if err := Sound(dir); err != nil {
		return fmt.Errorf("git is not asked: %w", err)
	}
	return Clear(dir, []string{"x"})
}
