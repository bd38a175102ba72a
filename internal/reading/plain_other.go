//go:build !unix

package reading

import (
	"io"
	"os"
)

const (
	noFollow  = 0
	noWait    = 0
	ownFolder = 0
)

// NoFollow lets the opening of a file fail where it is a link, on systems that can.
const NoFollow = 0

// passPlain reads a file into the buffer, and no more than fits.
func passPlain(name string, into []byte) (int, error) {
	f, err := Open(name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	n, err := io.ReadFull(f, into)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// openForReading opens a file, once it is seen to be one that need not be waited for.
func openForReading(name string, _ int) (*os.File, error) {
	if info, err := os.Stat(name); err == nil && !info.Mode().IsRegular() && !info.IsDir() {
		return nil, &os.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	return os.Open(name)
}
