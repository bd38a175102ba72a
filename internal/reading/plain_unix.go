//go:build unix

package reading

import (
	"io/fs"
	"os"
	"syscall"
)

const (
	noFollow    = syscall.O_NOFOLLOW
	noWait      = syscall.O_NONBLOCK
	ownFolder   = syscall.O_NOFOLLOW | syscall.O_DIRECTORY
	openPlainly = syscall.O_RDONLY | syscall.O_NOFOLLOW | syscall.O_NONBLOCK | syscall.O_CLOEXEC
)

// NoFollow lets the opening of a file fail where it is a link, or where it would have to be waited
// for.
const NoFollow = noFollow | noWait

// passPlain reads a file into the buffer, and no more than fits. It does so by the system's own
// calls: the standard's make each file ready for waiting, which takes longer than the reading
// itself. A link is not followed, and nothing that could keep one waiting, like a named pipe, is
// waited for.
func passPlain(name string, into []byte) (int, error) {
	fd, err := again(func() (int, error) { return syscall.Open(name, openPlainly, 0) })
	if err != nil {
		return 0, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	defer syscall.Close(fd)
	var is syscall.Stat_t
	if err := syscall.Fstat(fd, &is); err != nil || is.Mode&syscall.S_IFMT != syscall.S_IFREG {
		return 0, &fs.PathError{Op: "open", Path: name, Err: ErrNotRegular}
	}
	// of a plain file all that fits
	n, err := again(func() (int, error) { return syscall.Read(fd, into) })
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

// openForReading opens whatever is there without waiting for it.
func openForReading(name string, flags int) (*os.File, error) {
	return os.OpenFile(name, os.O_RDONLY|noWait|flags, 0)
}
