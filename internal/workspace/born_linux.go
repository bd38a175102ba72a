package workspace

import (
	"fmt"

	"golang.org/x/sys/unix"
)

// born is when a folder was made, where its file system tells: numbers of folders that are gone are
// given again.
func born(dir string) string {
	var st unix.Statx_t
	if err := unix.Statx(unix.AT_FDCWD, dir, unix.AT_SYMLINK_NOFOLLOW, unix.STATX_BTIME,
		&st); err != nil || st.Mask&unix.STATX_BTIME == 0 {
		return ""
	}
	return fmt.Sprintf("%d.%09d", st.Btime.Sec, st.Btime.Nsec)
}
