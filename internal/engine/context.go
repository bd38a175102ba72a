package engine

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"

	"github.com/moby/patternmatcher"
	"github.com/moby/patternmatcher/ignorefile"
)

// InlineName is what a Dockerfile that stands in the compose file is called in the archive.
const InlineName = ".nharbor.Dockerfile"

// stateDir is the folder of our own state in a workspace. It is no part of any build: it holds what files held before,
// and its files come and go.
const stateDir = ".nharbor"

// BuildContext writes a folder as the archive that a build reads: without what its .dockerignore
// leaves out, with the Dockerfile always, symbolic links as links. If inline is not empty it is the
// Dockerfile's text, which goes into the archive as InlineName.
func BuildContext(fsys fs.FS, dockerfile, inline string, w io.Writer) error {
	var patterns []string
	if data, err := fs.ReadFile(fsys, ".dockerignore"); err == nil {
		if patterns, err = ignorefile.ReadAll(bytes.NewReader(data)); err != nil {
			return fmt.Errorf(".dockerignore: %w", err)
		}
	}
	ignore, err := patternmatcher.New(patterns)
	if err != nil {
		return fmt.Errorf(".dockerignore: %w", err)
	}
	t := tar.NewWriter(w)
	if inline != "" {
		if err := t.WriteHeader(&tar.Header{Name: InlineName, Mode: 0o644, Size: int64(len(inline)),
			Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		if _, err := io.WriteString(t, inline); err != nil {
			return err
		}
	}
	err = fs.WalkDir(fsys, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist): // it went while others were read
			return nil
		case err != nil || name == ".":
			return err
		case d.IsDir() && d.Name() == stateDir:
			return fs.SkipDir
		}
		if name != dockerfile && name != ".dockerignore" {
			skip, err := ignore.MatchesOrParentMatches(name)
			if err != nil {
				return err
			}
			if skip {
				if d.IsDir() && !ignore.Exclusions() && !strings.HasPrefix(dockerfile, name+"/") {
					return fs.SkipDir
				}
				return nil
			}
		}
		if err := addFile(t, fsys, name, d); !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		return nil
	})
	if err != nil {
		return err
	}
	return t.Close()
}

func addFile(t *tar.Writer, fsys fs.FS, name string, d fs.DirEntry) error {
	info, err := d.Info()
	if err != nil {
		return err
	}
	link := ""
	switch {
	case info.Mode()&fs.ModeSymlink != 0:
		if l, ok := fsys.(fs.ReadLinkFS); ok {
			if link, err = l.ReadLink(name); err != nil {
				return err
			}
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
