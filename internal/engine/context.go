package engine

import (
	"archive/tar"
	"bytes"
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
		if err != nil || name == "." {
			return err
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
		return addFile(t, fsys, name, d)
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
	if err := t.WriteHeader(h); err != nil || !info.Mode().IsRegular() {
		return err
	}
	f, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	if _, err = io.CopyN(t, f, h.Size); err == io.EOF {
		return fmt.Errorf("%s became shorter while it was read", name)
	}
	return err
}
