package run

import (
	"os"

	"golang.org/x/sys/unix"
)

// widen lets a pipe hold more; where the system refuses it stays as it is.
func widen(f *os.File) { unix.FcntlInt(f.Fd(), unix.F_SETPIPE_SZ, pipeSize) }
