package reading

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// Nothing in a checkout, and nothing that what was launched could have put into our state, may keep
// us waiting or fill the memory. So everything of the two is opened here: regular files alone,
// without waiting, up to a bound. A pipe or a device is opened before it is seen what it is, since
// what is asked first can be another one when it is opened; it is opened without waiting, and
// nothing is read from it.

// ErrNotRegular is the error of what is no file that can be read: a pipe, a socket, a device, a
// folder.
var ErrNotRegular = errors.New("it is no regular file")

// ErrNotOurs is the error of what leads to files that are not the checkout's.
var ErrNotOurs = errors.New("it leads to files outside of the checkout")

// TooLarge is the error of a file that is larger than what is read of its kind.
type TooLarge struct {
	Size, Limit int64 // in bytes
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("it has %d MB, and no more than %d are read", e.Size>>20,
		max(e.Limit>>20, 1))
}

// Usual is how large a file may be of which nothing else is known, in bytes: far more than any that
// people write.
const Usual = 64 << 20

// Open opens a regular file to be read. Links are followed. The caller closes it.
func Open(name string) (*os.File, error) { return open(name, 0) }

// OpenOwn opens a regular file that is no link.
func OpenOwn(name string) (*os.File, error) { return open(name, noFollow) }

// File reads a regular file of at most limit bytes. Links are followed. Errors are ErrNotRegular, a
// *TooLarge, and those of the system.
func File(name string, limit int64) ([]byte, error) {
	f, err := Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return whole(f, name, limit)
}

// OwnFile reads a regular file that is no link.
func OwnFile(name string, limit int64) ([]byte, error) {
	f, err := OpenOwn(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return whole(f, name, limit)
}

// OpenToWrite opens a regular file that is no link to be written, and makes it, readable by this
// user alone, where there is none. More are flags of os.OpenFile: os.O_APPEND, os.O_TRUNC,
// os.O_RDWR.
func OpenToWrite(name string, more int) (*os.File, error) {
	mode := os.O_WRONLY
	if more&os.O_RDWR != 0 {
		mode = os.O_RDWR
	}
	// What is cut off is so only once it is known to be a file of ours.
	f, err := os.OpenFile(name, os.O_CREATE|mode|more&^(os.O_TRUNC|os.O_RDWR)|NoFollow, 0o600)
	if err != nil {
		return nil, err
	}
	if err := regular(f, name); err != nil {
		return nil, err
	}
	if more&os.O_TRUNC != 0 {
		if err := f.Truncate(0); err != nil {
			f.Close()
			return nil, err
		}
	}
	return f, nil
}

// OpenIn opens a regular file below an open root, and follows no link that leaves it.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	f, err := root.OpenFile(name, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	return f, regular(f, name)
}

// FileIn reads a regular file below an open root, of at most limit bytes.
func FileIn(root *os.Root, name string, limit int64) ([]byte, error) {
	f, err := OpenIn(root, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return whole(f, name, limit)
}

func open(name string, flags int) (*os.File, error) {
	f, err := openForReading(name, flags)
	if err != nil {
		return nil, err
	}
	if err := regular(f, name); err != nil {
		return nil, err
	}
	return f, nil
}

// regular closes what is no regular file.
func regular(f *os.File, name string) error {
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	if err != nil {
		f.Close()
	}
	return err
}

// whole reads all of a file that is no larger than the limit: by what it says, and by what comes.
func whole(f fs.File, name string, limit int64) ([]byte, error) {
	size := int64(0)
	if info, err := f.Stat(); err == nil {
		size = info.Size()
	}
	if size > limit {
		return nil, &fs.PathError{Op: "read", Path: name, Err: &TooLarge{size, limit}}
	}
	data := make([]byte, 0, size+512)
	for {
		n, err := f.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		switch {
		case int64(len(data)) > limit:
			return nil, &fs.PathError{Op: "read", Path: name,
				Err: &TooLarge{int64(len(data)), limit}}
		case err == io.EOF:
			return data, nil
		case err != nil:
			return nil, err
		case len(data) == cap(data):
			data = append(data, 0)[:len(data)]
		}
	}
}
