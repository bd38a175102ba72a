package gitrepo

import (
	"bufio"
	"bytes"
	"context"
	"encoding/hex"
	"io"
	"io/fs"
	"os/exec"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
)

// Tags are the names of a checkout's tags, at most so many: versions that are no forerunners first,
// the highest before the others, then the rest, the newest before the older.
func Tags(ctx context.Context, dir string, most int) []string {
	list := git{ctx: ctx}.output(dir, "for-each-ref", "--sort=-creatordate",
		"--format=%(refname:strip=2)", "refs/tags")
	if list == "" {
		return nil
	}
	tags := strings.Split(list, "\n")
	versions := map[string]*semver.Version{}
	for _, tag := range tags {
		if v, err := semver.NewVersion(tag); err == nil && v.Prerelease() == "" {
			versions[tag] = v
		}
	}
	slices.SortStableFunc(tags, func(a, b string) int {
		v, w := versions[a], versions[b]
		switch {
		case v != nil && w != nil:
			return w.Compare(v)
		case v != nil:
			return -1
		case w != nil:
			return 1
		}
		return 0
	})
	return tags[:min(len(tags), most)]
}

// Changed is when a file of a checkout was last committed; zero where that isn't known.
func Changed(ctx context.Context, dir, file string) time.Time {
	seconds, err := strconv.ParseInt(
		git{ctx: ctx}.output(dir, "log", "-1", "--format=%ct", "--", ":(literal)"+file), 10, 64)
	if err != nil {
		return time.Time{}
	}
	return time.Unix(seconds, 0)
}

// Objects are what a repository has in its history, read without checking anything out. One process
// of git answers, one question after the other, until Close.
type Objects struct {
	cmd   *exec.Cmd
	asks  io.WriteCloser
	says  *bufio.Reader
	trees map[string][]Entry
	blobs map[string][]byte

	cancel func() // ends the process
}

// Entry is a file or folder of a folder.
type Entry struct {
	Name   string
	Object string // its contents' name
	Folder bool
}

// Open starts to read a checkout's objects.
func Open(ctx context.Context, dir string) (*Objects, error) {
	ctx, cancel := context.WithCancel(ctx)
	o := &Objects{cmd: git{ctx: ctx}.command(dir, "cat-file", "--batch"), cancel: cancel,
		trees: map[string][]Entry{}, blobs: map[string][]byte{}}
	var err error
	if o.asks, err = o.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	out, err := o.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	o.says = bufio.NewReader(out)
	if err := o.cmd.Start(); err != nil {
		cancel()
		return nil, err
	}
	return o, nil
}

// Close ends it.
func (o *Objects) Close() error {
	defer o.cancel()
	o.asks.Close()
	defer time.AfterFunc(patience, o.cancel).Stop()
	return o.cmd.Wait()
}

// maxObject bounds a file that is read out of the history, in bytes; a larger one is no manifest.
const maxObject = 8 << 20

// ask gives the contents of what a name leads to; false where there is none, or it is of another
// kind.
func (o *Objects) ask(name, kind string) (data []byte, object string, ok bool) {
	if strings.ContainsAny(name, "\n\r") {
		return nil, "", false // it would be two questions
	}
	defer time.AfterFunc(patience, o.cancel).Stop()
	if _, err := io.WriteString(o.asks, name+"\n"); err != nil {
		return nil, "", false
	}
	head, err := o.says.ReadString('\n')
	words := strings.Fields(head)
	if err != nil || len(words) != 3 {
		return nil, "", false // "missing", with the name before it, which may have blanks
	}
	size, err := strconv.Atoi(words[2])
	if err != nil {
		return nil, "", false
	}
	if size > maxObject {
		_, err = io.CopyN(io.Discard, o.says, int64(size)+1)
		return nil, "", false
	}
	data = make([]byte, size+1)
	if _, err := io.ReadFull(o.says, data); err != nil {
		return nil, "", false
	}
	return data[:size], words[0], words[1] == kind
}

// Folder lists a folder of a tag, or of another ref; empty where it is not there. The top is ".".
func (o *Objects) Folder(ref, folder string) []Entry {
	list := o.tree(ref + "^{tree}")
	if folder == "." {
		return list
	}
	for name := range strings.SplitSeq(folder, "/") {
		i := slices.IndexFunc(list, func(e Entry) bool { return e.Name == name && e.Folder })
		if i < 0 {
			return nil
		}
		list = o.tree(list[i].Object)
	}
	return list
}

// tree lists a folder by its own name, or by one that leads to it. Folders that are the same in
// many tags are read once.
func (o *Objects) tree(name string) []Entry {
	if known, ok := o.trees[name]; ok {
		return known
	}
	data, object, _ := o.ask(name, "tree")
	width := len(object) / 2 // of an object's name, in bytes
	var list []Entry
	for len(data) > 0 { // MODE NAME, a zero byte, the object's name in bytes
		head, rest, found := bytes.Cut(data, []byte{0})
		mode, file, _ := strings.Cut(string(head), " ")
		if !found || len(rest) < width {
			break
		}
		list = append(list, Entry{file, hex.EncodeToString(rest[:width]), mode == "40000"})
		data = rest[width:]
	}
	o.trees[name], o.trees[object] = list, list
	return list
}

// At are the files of a tag, or of another ref. Folders can be read, not opened.
func (o *Objects) At(ref string) fs.FS { return tagged{o, ref} }

type tagged struct {
	objects *Objects
	ref     string
}

// Open reads a file.
func (t tagged) Open(name string) (fs.File, error) {
	none := &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	if !fs.ValidPath(name) {
		return nil, none
	}
	folder := t.objects.Folder(t.ref, path.Dir(name))
	i := slices.IndexFunc(folder,
		func(e Entry) bool { return e.Name == path.Base(name) && !e.Folder })
	if i < 0 {
		return nil, none
	}
	object := folder[i].Object
	data, known := t.objects.blobs[object]
	if !known {
		var ok bool
		if data, _, ok = t.objects.ask(object, "blob"); !ok {
			return nil, none
		}
		t.objects.blobs[object] = data
	}
	return &taggedFile{*bytes.NewReader(data), path.Base(name)}, nil
}

// ReadDir lists a folder; it tells of its entries no more than their names, and which are folders.
func (t tagged) ReadDir(name string) ([]fs.DirEntry, error) {
	var out []fs.DirEntry
	for _, e := range t.objects.Folder(t.ref, name) {
		out = append(out, taggedEntry{e})
	}
	if out == nil {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	return out, nil
}

type taggedEntry struct{ is Entry }

func (e taggedEntry) Name() string               { return e.is.Name }
func (e taggedEntry) IsDir() bool                { return e.is.Folder }
func (e taggedEntry) Info() (fs.FileInfo, error) { return nil, fs.ErrNotExist }
func (e taggedEntry) Type() fs.FileMode {
	if e.is.Folder {
		return fs.ModeDir
	}
	return 0
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
