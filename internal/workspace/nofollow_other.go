//go:build !unix

package workspace

import (
	"io"
	"os"
)

const noFollow = 0

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
