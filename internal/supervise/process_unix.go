//go:build unix

package supervise

import (
	"fmt"
	"os"
	"os/exec"
	"syscall"
)

// detach lets a process outlive the terminal: it gets a session of its own.
func detach(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true} }

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

// groupOf is the process group of a process; 0 if it isn't there.
func groupOf(pid int) int {
	g, err := syscall.Getpgid(pid)
	if err != nil {
		return 0
	}
	return g
}
