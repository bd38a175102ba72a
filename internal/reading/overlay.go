package reading

import (
	"bytes"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"
)

// Overlay are the files of a file system as they will be once some of them have changed. A file of
// changed holds what its function gives; nil stands for one that will be gone. The functions are
// called by one goroutine at a time.
func Overlay(under fs.FS, changed map[string]func() ([]byte, error)) fs.FS {
	o := &overlay{under: under, changed: changed, one: make(chan struct{}, 1),
		folders: map[string]map[string]bool{}}
	for name, content := range changed {
		if content == nil {
			continue
		}
		for child, isFolder := name, false; child != "."; child, isFolder = path.Dir(child), true {
			dir := path.Dir(child)
			if o.folders[dir] == nil {
				o.folders[dir] = map[string]bool{}
			}
			o.folders[dir][path.Base(child)] = isFolder
		}
	}
	return o
}

type overlay struct {
	under   fs.FS
	changed map[string]func() ([]byte, error)
	// what is in those that changed files lie in; true for a folder
	folders map[string]map[string]bool
	one     chan struct{} // held while a function is called
}

// Open opens a file as it will be. A folder below which files will come can be listed, not opened.
func (o *overlay) Open(name string) (fs.File, error) {
	content, isChanged := o.changed[name]
	if !isChanged {
		f, err := o.under.Open(name)
		if err != nil && o.folders[name] != nil {
			return &changedFile{name: path.Base(name), folder: true}, nil
		}
		return f, err
	}
	if content == nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	o.one <- struct{}{}
	data, err := content()
	<-o.one
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return &changedFile{Reader: *bytes.NewReader(data), name: path.Base(name)}, nil
}

// ReadDir lists a folder as it will be, sorted. One in which nothing will be left is gone, as git
// leaves none behind.
func (o *overlay) ReadDir(name string) ([]fs.DirEntry, error) {
	list, err := fs.ReadDir(o.under, name)
	coming := maps.Clone(o.folders[name])
	if err != nil && coming == nil {
		return nil, err
	}
	out := slices.DeleteFunc(slices.Clone(list), func(e fs.DirEntry) bool {
		content, isChanged := o.changed[path.Join(name, e.Name())]
		delete(coming, e.Name())
		return isChanged && content == nil
	})
	for child, isFolder := range coming {
		out = append(out, fs.FileInfoToDirEntry(&changedFile{name: child, folder: isFolder}))
	}
	if len(out) == 0 && len(list) > 0 && name != "." {
		return nil, &fs.PathError{Op: "readdir", Path: name, Err: fs.ErrNotExist}
	}
	slices.SortFunc(out, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	return out, nil
}

// changedFile is a file, or a folder, with its information.
type changedFile struct {
	bytes.Reader
	name   string
	folder bool
}

func (f *changedFile) Close() error               { return nil }
func (f *changedFile) Stat() (fs.FileInfo, error) { return f, nil }
func (f *changedFile) Name() string               { return f.name }
func (f *changedFile) ModTime() time.Time         { return time.Time{} }
func (f *changedFile) IsDir() bool                { return f.folder }
func (f *changedFile) Sys() any                   { return nil }
func (f *changedFile) Mode() fs.FileMode {
	if f.folder {
		return fs.ModeDir | 0o755
	}
	return 0o644
}
