package gitrepo

import (
	"bytes"
	"context"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"
)

// Tags are the names of a checkout's tags, the newest first, at most so many.
func Tags(ctx context.Context, dir string, most int) []string {
	list := git{ctx: ctx}.output(dir, "for-each-ref", "--sort=-creatordate", "--count="+strconv.Itoa(most),
		"--format=%(refname:strip=2)", "refs/tags")
	if list == "" {
		return nil
	}
	return strings.Split(list, "\n")
}

// Changed is when a file of a checkout was last committed; zero where that isn't known.
func Changed(ctx context.Context, dir, file string) time.Time {
	seconds, err := strconv.ParseInt(
		git{ctx: ctx}.output(dir, "log", "-1", "--format=%ct", "--", ":(literal)"+file),
		10,
		64,
	)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, 0)
}

// AtTag are the files of a checkout as a tag has them, each read when it is opened. Folders can't be opened.
func AtTag(ctx context.Context, dir, tag string) fs.FS { return tagged{git{ctx: ctx}, dir, tag} }

type tagged struct {
	git      git
	dir, tag string
}

// Open reads a file out of the tag.
func (t tagged) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	data, err := t.git.command(t.dir, "cat-file", "blob", "refs/tags/"+t.tag+":"+name).Output()
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &taggedFile{*bytes.NewReader(data), path.Base(name)}, nil
}

// taggedFile is a file with its information.
type taggedFile struct {
	bytes.Reader
	name string
}

func (f *taggedFile) Close() error               { return nil }
func (f *taggedFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *taggedFile) Name() string               { return f.name }
func (f *taggedFile) Mode() fs.FileMode          { return 0o444 }
func (f *taggedFile) ModTime() time.Time         { return time.Time{} }
func (f *taggedFile) IsDir() bool                { return false }
func (f *taggedFile) Sys() any                   { return nil }
