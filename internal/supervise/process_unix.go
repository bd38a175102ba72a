//go:build unix

package supervise

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"strings"
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

// isMine reports whether this user owns a file.
func isMine(info os.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(st.Uid) == os.Getuid()
}

// isStopped reports whether a process was stopped by a signal; it knows on Linux alone.
func isStopped(pid int) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return false
	}
	rest := bytes.TrimSpace(data[bytes.LastIndexByte(data,
		')')+1:]) // a name can have brackets in it
	return len(rest) > 0 && (rest[0] == 'T' || rest[0] == 't')
}

// isSteward reports whether a process is this program.
func isSteward(pid int) bool {
	self, err := os.Executable()
	exe, err2 := os.Readlink(fmt.Sprintf("/proc/%d/exe", pid))
	return err == nil && err2 == nil && strings.TrimSuffix(exe, " (deleted)") == self
}

// goOn lets a stopped process go on.
func goOn(pid int) { syscall.Kill(pid, syscall.SIGCONT) }

// groupOf is the process group of a process; 0 if it isn't there.
func groupOf(pid int) int {
	g, err := syscall.Getpgid(pid)
	if err != nil {
		return 0
	}
	return g
}
