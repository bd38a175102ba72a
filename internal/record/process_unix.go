//go:build unix

package record

import (
	"fmt"
	"os"
	"syscall"
)

// private makes sure that a folder belongs to this user and nobody else can enter it.
func private(dir string) error {
	info, err := os.Lstat(dir)
	if err != nil {
		return err
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !info.IsDir() || ok && int(st.Uid) != os.Getuid() {
		return fmt.Errorf("%s is not a folder of yours", dir)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return os.Chmod(dir, 0o700)
	}
	return nil
}

// IsMine reports whether this user owns a file.
func IsMine(info os.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Getuid()
}
