//go:build unix

package workspace

import (
	"fmt"
	"io/fs"
	"syscall"
)

const noFollow = syscall.O_NOFOLLOW | syscall.O_DIRECTORY

// NoFollow lets the opening of a file fail where it is a link.
const NoFollow = syscall.O_NOFOLLOW

// identity is by what a folder is known, wherever it lies.
func identity(_ string, info fs.FileInfo) string {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return fmt.Sprintf("%d:%d", st.Dev, st.Ino)
	}
	return ""
}

// mine reports whether this user owns it.
func mine(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == syscall.Geteuid()
}

// readPlain reads a file into the buffer, and no more than fits. It does so by the system's own calls: the standard's
// make each file ready for waiting, which takes longer than the reading itself. A link is not followed, and nothing
// that could keep one waiting, like a named pipe, is waited for.
func readPlain(name string, into []byte) (int, error) {
	fd, err := again(func() (int, error) {
		return syscall.Open(name, syscall.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK|syscall.O_CLOEXEC, 0)
	})
	if err != nil {
		return 0, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	defer syscall.Close(fd)
	n, err := again(func() (int, error) { return syscall.Read(fd, into) }) // of a plain file all that fits
	if err != nil {
		return 0, &fs.PathError{Op: "read", Path: name, Err: err}
	}
	return n, nil
}

// again repeats a call of the system that a signal has interrupted.
func again(call func() (int, error)) (int, error) {
	for {
		n, err := call()
		if err != syscall.EINTR {
			return n, err
		}
	}
}
