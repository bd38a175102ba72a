package reading

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Under gives the regular files and the folders below an open root. Nothing is read through a link
// that leaves it.
func Under(root *os.Root) fs.FS { return under{root.FS().(rooted), root} }

type rooted interface {
	fs.ReadDirFS
	fs.StatFS
	fs.ReadLinkFS
}

type under struct {
	rooted
	root *os.Root
}

// Open opens a regular file or a folder, without waiting.
func (u under) Open(name string) (fs.File, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	f, err := u.root.OpenFile(filepath.FromSlash(name), os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.IsDir() {
		return f, nil
	}
	if err := regular(f, name); err != nil {
		return nil, err
	}
	return f, nil
}

// ReadFile reads a regular file of at most the usual size.
func (u under) ReadFile(name string) ([]byte, error) { return readFrom(u, name, Usual) }

// readFrom reads a file of a file system, of at most limit bytes.
func readFrom(fsys fs.FS, name string, limit int64) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return whole(f, name, limit)
}

// ReadOwnDir lists a folder without a question for each of its entries; the list is not sorted. The
// folder is to be reached from the root by real folders alone, as a walk does that follows no link;
// the last part is not followed if it is one.
func (u under) ReadOwnDir(name string) ([]fs.DirEntry, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	d, err := os.OpenFile(filepath.Join(u.root.Name(), filepath.FromSlash(name)),
		os.O_RDONLY|ownFolder, 0)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.ReadDir(-1)
}

// ReadOwnFile reads a file of such a folder into the buffer, and no more than fits; a link is not
// followed. It is for many files that are looked at once.
func (u under) ReadOwnFile(name string, into []byte) (int, error) {
	if !fs.ValidPath(name) {
		return 0, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return passPlain(filepath.Join(u.root.Name(), filepath.FromSlash(name)), into)
}
