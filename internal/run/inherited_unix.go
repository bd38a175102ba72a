//go:build unix

package run

import (
	"os"
	"strconv"
)

// eachOpen gives the descriptors that this process has open beside the three streams, as far as it
// can see them.
func eachOpen(f func(fd int)) {
	entries, err := os.ReadDir("/dev/fd")
	if err != nil {
		for fd := 3; fd < 256; fd++ {
			f(fd)
		}
		return
	}
	for _, e := range entries {
		if fd, err := strconv.Atoi(e.Name()); err == nil && fd > 2 {
			f(fd)
		}
	}
}
