//go:build unix

package workspace

import (
	"fmt"
	"io/fs"
	"syscall"

	"golang.org/x/sys/unix"
)

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

// writable reports whether this user may make files in a folder.
func writable(dir string) bool { return unix.Access(dir, unix.W_OK|unix.X_OK) == nil }
