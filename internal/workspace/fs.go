package workspace

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Files gives the files below an open root. Nothing is read through a link that leaves it.
func Files(root *os.Root) fs.FS { return files{root.FS().(rooted), root.Name()} }

type rooted interface {
	fs.ReadDirFS
	fs.ReadFileFS
	fs.StatFS
	fs.ReadLinkFS
}

type files struct {
	rooted
	dir string
}

// ReadOwnDir lists a folder without a question for each of its entries; the list is not sorted. The folder is to be
// reached from the root by real folders alone, as a walk does that follows no link; the last part is not followed
// if it is one.
func (f files) ReadOwnDir(name string) ([]fs.DirEntry, error) {
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	d, err := os.OpenFile(filepath.Join(f.dir, filepath.FromSlash(name)), os.O_RDONLY|noFollow, 0)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	return d.ReadDir(-1)
}

// ReadOwnFile reads a file of such a folder into the buffer, and no more than fits; a link is not followed. It is for
// many files that are looked at once.
func (f files) ReadOwnFile(name string, into []byte) (int, error) {
	if !fs.ValidPath(name) {
		return 0, &fs.PathError{Op: "open", Path: name, Err: fs.ErrInvalid}
	}
	return readPlain(filepath.Join(f.dir, filepath.FromSlash(name)), into)
}
