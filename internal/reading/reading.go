// Package reading is the one way to open a file of a checkout or of our own state: regular files
// alone, never waiting, up to a bound. It keeps what was read of a workspace's files, so that each
// is read once and parsed once, whoever asks.
//
// A Files is a file system (io/fs) on top of another one. It belongs to one call of the program:
// survey, fill and plan share it, and what writes a file in between says so with Forget. Several
// goroutines may use it at once.
package reading

import (
	"errors"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sync"
)

// Files are files that are read once.
type Files struct {
	under fs.FS

	mu     sync.Mutex
	kept   map[string]*kept
	unread map[string]error
}

// Unread is a file that was wanted, and not read for what it is.
type Unread struct {
	Path string
	Why  error // wraps ErrNotRegular, ErrNotOurs or a *TooLarge
}

// kept is one file as it was read.
type kept struct {
	read sync.Once
	data []byte
	err  error

	mu     sync.Mutex
	parsed map[string]parsed // by the parser's kind
}

// parsed is what a parser has made of a file.
type parsed struct {
	value any
	err   error
}

// Of makes files of a file system that are read once; files that are so already stay the same.
func Of(fsys fs.FS) *Files {
	if f, ok := fsys.(*Files); ok {
		return f
	}
	return &Files{under: fsys, kept: map[string]*kept{}, unread: map[string]error{}}
}

// Open opens a file or a folder of the file system below.
func (f *Files) Open(name string) (fs.File, error) {
	file, err := f.under.Open(name)
	f.NoteUnread(name, err)
	return file, err
}

// NoteUnread remembers a file that was not read for what it is; any other error is none of its
// business.
func (f *Files) NoteUnread(name string, err error) {
	switch {
	case err == nil:
		return
	case errors.Is(err, ErrNotRegular), errors.Is(err, ErrNotOurs), errors.As(err, new(*TooLarge)):
	default:
		return
	}
	if info, statErr := fs.Stat(f.under, name); statErr == nil && info.IsDir() {
		return // a folder of that name is nothing that somebody has made to be read
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.unread[name] = err
}

// Unread lists what was wanted so far and not read for what it is, by its path.
func (f *Files) Unread() (out []Unread) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(f.unread)) {
		why := f.unread[name]
		if large := (*TooLarge)(nil); errors.As(why, &large) {
			why = large
		} else if errors.Is(why, ErrNotRegular) {
			why = ErrNotRegular
		}
		out = append(out, Unread{name, why})
	}
	return out
}

// mostOf is how large a file may be to be read, in bytes: what programs write can be larger than
// what people do.
func mostOf(name string) int64 {
	switch path.Ext(name) {
	case ".json", ".yaml", ".yml", ".lock":
		return Usual
	}
	return Usual / 4
}

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
	k.read.Do(func() {
		k.data, k.err = readFrom(f.under, name, mostOf(name))
		f.NoteUnread(name, k.err)
	})
	return k.data, k.err
}

// Pass reads a file into the buffer without keeping it: for the many files that are looked at once.
// It gives how much was read: a full buffer means that there may be more.
func (f *Files) Pass(name string, into []byte) (int, error) {
	if own, ok := f.under.(interface {
		ReadOwnFile(string, []byte) (int, error)
	}); ok {
		n, err := own.ReadOwnFile(name, into)
		f.NoteUnread(name, err)
		return n, err
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
		k = &kept{parsed: map[string]parsed{}}
		f.kept[name] = k
	}
	return k
}

// Parsed gives what a parser has made of a file, which nobody may change. Each kind of parser,
// known by a word, is asked once. The error is that of the reading, or the parser's.
func (f *Files) Parsed(name, kind string, parse func(data []byte) (any, error)) (any, error) {
	data, err := f.ReadFile(name)
	if err != nil {
		return nil, err
	}
	k := f.at(name)
	k.mu.Lock()
	defer k.mu.Unlock()
	p, known := k.parsed[kind]
	if !known {
		p.value, p.err = parse(data)
		k.parsed[kind] = p
	}
	return p.value, p.err
}

// Once parses a file of a file system, which keeps what was made of it if it is a Files. See
// Files.Parsed.
func Once[T any](fsys fs.FS, name, kind string, parse func(data []byte) (T, error)) (T, error) {
	if files, ok := fsys.(*Files); ok {
		value, err := files.Parsed(name, kind,
			func(data []byte) (any, error) { return parse(data) })
		made, _ := value.(T)
		return made, err
	}
	data, err := readFrom(fsys, name, mostOf(name))
	if err != nil {
		var none T
		return none, err
	}
	return parse(data)
}

// Forget lets go of what was read of files that have been written since.
func (f *Files) Forget(names ...string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, name := range names {
		delete(f.kept, name)
		delete(f.unread, name)
	}
}
