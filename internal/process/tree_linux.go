package process

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Children lists the children of a process.
func Children(pid int) (out []int) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		data, err := os.ReadFile(list)
		if err != nil {
			continue
		}
		for word := range strings.FieldsSeq(string(data)) {
			if child, err := strconv.Atoi(word); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

// Descendants lists all processes below one, but for those below the ones left out.
func Descendants(pid int, but ...int) (out []int) {
	for open := []int{pid}; len(open) > 0 && len(out) < 100_000; open = open[1:] {
		for _, child := range Children(open[0]) {
			if !slices.Contains(but, child) {
				out, open = append(out, child), append(open, child)
			}
		}
	}
	return out
}

// StatOf are what the system tells of a process behind its name: its state, its parent, and so on;
// empty if it is not there. A process can give itself any name, also one with brackets and blanks
// in it.
func StatOf(pid int) []string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil
	}
	return strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
}

// IsBelow reports whether a process descends from another one.
func IsBelow(pid, from int) bool {
	for range 1000 {
		fields := StatOf(pid)
		if len(fields) < 2 {
			return false
		}
		var err error
		if pid, err = strconv.Atoi(fields[1]); err != nil || pid < 2 {
			return false
		}
		if pid == from {
			return true
		}
	}
	return false
}

// Line is the command line of a process, its words separated by spaces; empty where it can't be
// seen.
func Line(pid int) string {
	data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return strings.ReplaceAll(strings.TrimRight(string(data), "\x00"), "\x00", " ")
}
