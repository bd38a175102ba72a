package engine

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/moby/patternmatcher"
	"github.com/moby/patternmatcher/ignorefile"
)

// InlineName is what a Dockerfile that is no file of the folder is called in the archive.
const InlineName = ".nharbor.Dockerfile"

// stateDir is the folder of our own state in a workspace. It is no part of any build: it holds what
// files held before, and its files come and go.
const stateDir = ".nharbor"

// Folder is what a build can see of this machine: all of a folder but what its ignore file leaves
// out; the Dockerfile always. Symbolic links are seen as links.
type Folder struct {
	FS         fs.FS
	Dockerfile string // its name in the folder
	Inline     string // the Dockerfile's text, where it is no file of the folder
}

// Name is what the Dockerfile is called in the archive.
func (f *Folder) Name() string {
	if f.Inline != "" {
		return InlineName
	}
	return f.Dockerfile
}

// Archive writes the folder as the archive that a build reads.
func (f *Folder) Archive(w io.Writer) error {
	t := tar.NewWriter(w)
	if f.Inline != "" {
		if err := t.WriteHeader(&tar.Header{Name: InlineName, Mode: 0o644,
			Size: int64(len(f.Inline)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		if _, err := io.WriteString(t, f.Inline); err != nil {
			return err
		}
	}
	err := f.walk(func(name string, d fs.DirEntry) error { return addFile(t, f.FS, name, d) })
	if err != nil {
		return err
	}
	return t.Close()
}

// Sum is a sum of all that the build can see: names, rights and contents.
func (f *Folder) Sum() (string, error) {
	return f.sum(func(h hash.Hash, name string, info fs.FileInfo) error {
		if !info.Mode().IsRegular() {
			return nil
		}
		file, err := f.FS.Open(name)
		if err != nil {
			return err
		}
		defer file.Close()
		_, err = io.Copy(h, file)
		return err
	})
}

// Stamp changes with each file that is written, whatever is written; it costs a look at each and
// reads none.
func (f *Folder) Stamp() (string, error) {
	return f.sum(func(h hash.Hash, _ string, info fs.FileInfo) error {
		_, err := fmt.Fprintf(h, "%d ", info.ModTime().UnixNano())
		return err
	})
}

func (f *Folder) sum(add func(h hash.Hash, name string, info fs.FileInfo) error) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q\n", f.Dockerfile, f.Inline)
	err := f.walk(func(name string, d fs.DirEntry) error {
		info, err := d.Info()
		if err != nil {
			return err
		}
		size := info.Size()
		if info.IsDir() {
			size = 0 // which differs by what is ignored in it
		}
		fmt.Fprintf(h, "%q %o %d ", name, info.Mode()&(fs.ModeType|0o111), size)
		if info.Mode()&fs.ModeSymlink != 0 {
			link, err := readLink(f.FS, name)
			fmt.Fprintf(h, "%q", link)
			return err
		}
		if info.IsDir() {
			return nil
		}
		return add(h, name, info)
	})
	if err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// walk gives all that the build can see, in the order of the names. What goes while it is walked is
// left out.
func (f *Folder) walk(each func(name string, d fs.DirEntry) error) error {
	ignore, err := f.ignored()
	if err != nil {
		return err
	}
	known := map[string]patternmatcher.MatchInfo{} // of the folders that are open
	return fs.WalkDir(f.FS, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil || name == ".":
			return err
		case d.IsDir() && d.Name() == stateDir:
			return fs.SkipDir
		}
		always := []string{f.Dockerfile, ignoreName, f.Dockerfile + ignoreName}
		if ignore != nil && !slices.Contains(always, name) {
			skip, info, err := ignore.MatchesUsingParentResults(name, known[path.Dir(name)])
			if err != nil {
				return err
			}
			if d.IsDir() {
				known[name] = info
			}
			whole := skip && d.IsDir() && !ignore.Exclusions()
			switch {
			case whole && !strings.HasPrefix(f.Dockerfile, name+"/"):
				return fs.SkipDir
			case skip:
				return nil
			}
		}
		if err := each(name, d); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
}

// ignoreName is the ignore file's; one that is named after the Dockerfile goes before it.
const ignoreName = ".dockerignore"

func (f *Folder) ignored() (*patternmatcher.PatternMatcher, error) {
	for _, name := range []string{f.Dockerfile + ignoreName, ignoreName} {
		data, err := fs.ReadFile(f.FS, name)
		if err != nil {
			continue
		}
		patterns, err := ignorefile.ReadAll(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		ignore, err := patternmatcher.New(patterns)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		if len(patterns) == 0 {
			return nil, nil
		}
		return ignore, nil
	}
	return nil, nil
}

func readLink(fsys fs.FS, name string) (string, error) {
	if l, ok := fsys.(fs.ReadLinkFS); ok {
		return l.ReadLink(name)
	}
	return "", nil
}

func addFile(t *tar.Writer, fsys fs.FS, name string, d fs.DirEntry) error {
	info, err := d.Info()
	if err != nil {
		return err
	}
	link := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if link, err = readLink(fsys, name); err != nil {
			return err
		}
	case !info.Mode().IsRegular() && !info.IsDir():
		return nil // sockets, pipes and devices are no part of a build
	}
	h, err := tar.FileInfoHeader(info, link)
	if err != nil {
		return err
	}
	h.Name = path.Clean(name)
	if info.IsDir() {
		h.Name += "/"
	}
	h.Uid, h.Gid, h.Uname, h.Gname = 0, 0, "", ""
	if !info.Mode().IsRegular() {
		return t.WriteHeader(h)
	}
	f, err := fsys.Open(name) // first, since it may be gone
	if err != nil {
		return err
	}
	defer f.Close()
	if err := t.WriteHeader(h); err != nil {
		return err
	}
	if _, err = io.CopyN(t, f, h.Size); err == io.EOF {
		return fmt.Errorf("%s became shorter while it was read", name)
	}
	return err
}
