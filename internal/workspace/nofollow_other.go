//go:build !unix

package workspace

import (
	"io"
	"io/fs"
	"os"
)

const noFollow = 0

// NoFollow lets the opening of a file fail where it is a link, on systems that can.
const NoFollow = 0

// identity is by what a folder is known: here its path.
func identity(dir string, _ fs.FileInfo) string { return dir }

func mine(fs.FileInfo) bool { return true }

// readPlain reads a file into the buffer, and no more than fits.
func readPlain(name string, into []byte) (int, error) {
	f, err := os.Open(name)
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
