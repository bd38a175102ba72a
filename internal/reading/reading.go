// Package reading keeps what was read of a workspace's files, so that each is read once and parsed once, whoever asks.
//
// A Files is a file system (io/fs) on top of another one. It belongs to one call of the program: survey, fill and plan
// share it, and what writes a file in between says so with Forget. Several goroutines may use it at once.
package reading

import (
	"io"
	"io/fs"
	"sync"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/settings"
)

// Files are files that are read once.
type Files struct {
	under fs.FS

	mu   sync.Mutex
	kept map[string]*kept
}

// kept is one file as it was read.
type kept struct {
	read sync.Once
	data []byte
	err  error

	mu      sync.Mutex
	env     *dotenv.File
	envErr  error
	forms   map[string]*settings.Document // by format
	formErr map[string]error
}

// Of makes files of a file system that are read once; files that are so already stay the same.
func Of(fsys fs.FS) *Files {
	if f, ok := fsys.(*Files); ok {
		return f
	}
	return &Files{under: fsys, kept: map[string]*kept{}}
}

// Open opens a file or a folder of the file system below.
func (f *Files) Open(name string) (fs.File, error) { return f.under.Open(name) }

// Stat asks the file system below.
func (f *Files) Stat(name string) (fs.FileInfo, error) { return fs.Stat(f.under, name) }

// ReadDir lists a folder of the file system below, sorted.
func (f *Files) ReadDir(name string) ([]fs.DirEntry, error) { return fs.ReadDir(f.under, name) }

// ReadOwnDir lists a folder that a walk has come to by real folders alone; the list is not sorted.
func (f *Files) ReadOwnDir(name string) ([]fs.DirEntry, error) {
	if own, ok := f.under.(interface {
		ReadOwnDir(string) ([]fs.DirEntry, error)
	}); ok {
		return own.ReadOwnDir(name)
	}
	return fs.ReadDir(f.under, name)
}

// ReadFile gives a file's content, which nobody may change.
func (f *Files) ReadFile(name string) ([]byte, error) {
	k := f.at(name)
	k.read.Do(func() { k.data, k.err = fs.ReadFile(f.under, name) })
	return k.data, k.err
}

// Pass reads a file into the buffer without keeping it: for the many files that are looked at once. It gives how much
// was read: a full buffer means that there may be more.
func (f *Files) Pass(name string, into []byte) (int, error) {
	if own, ok := f.under.(interface {
		ReadOwnFile(string, []byte) (int, error)
	}); ok {
		return own.ReadOwnFile(name, into)
	}
	r, err := f.under.Open(name)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	n, err := io.ReadFull(r, into)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

func (f *Files) at(name string) *kept {
	f.mu.Lock()
	defer f.mu.Unlock()
	k := f.kept[name]
	if k == nil {
		k = &kept{forms: map[string]*settings.Document{}, formErr: map[string]error{}}
		f.kept[name] = k
	}
	return k
}

// Env gives an env file, which nobody may change; see dotenv.Read.
func (f *Files) Env(name string) (*dotenv.File, error) {
	data, err := f.ReadFile(name)
	if err != nil {
		return nil, err
	}
	k := f.at(name)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.env == nil && k.envErr == nil {
		k.env, k.envErr = dotenv.Parse(name, data)
	}
	return k.env, k.envErr
}

// Settings gives a settings file, which nobody may change; see settings.Read.
func (f *Files) Settings(name, format string) (*settings.Document, error) {
	data, err := f.ReadFile(name)
	if err != nil {
		return nil, err
	}
	k := f.at(name)
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.forms[format] == nil && k.formErr[format] == nil {
		k.forms[format], k.formErr[format] = settings.Parse(name, format, data)
	}
	return k.forms[format], k.formErr[format]
}

// Forget lets go of what was read of files that have been written since.
func (f *Files) Forget(names ...string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range names {
		delete(f.kept, name)
	}
}
