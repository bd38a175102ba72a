package steward

import (
	"os"
	"strconv"
	"strings"
	"time"
)

// ticks is how many units of /proc/PID/stat's times a second has; Linux has the same number on all
// processors that we build for.
const ticks = 100

// takenBy sums up what process groups, and what has come of them in other groups, take: by the name
// of each group's service.
func takenBy(groups map[int]string) map[string]taken {
	out := map[string]taken{}
	if len(groups) == 0 {
		return out
	}
	entries, err := os.ReadDir("/proc")
	if err != nil {
		return out
	}
	type process struct {
		parent, group int
		cpu           time.Duration
		memory        uint64
	}
	all := map[int]process{}
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		data, err := os.ReadFile("/proc/" + e.Name() + "/stat")
		if err != nil {
			continue
		}
		// PID (NAME) STATE PARENT GROUP ..., proc(5); the name may have anything in it
		_, rest, found := strings.Cut(string(data), ") ")
		if i := strings.LastIndex(string(data), ") "); i >= 0 {
			rest = string(data[i+2:])
		}
		f := strings.Fields(rest)
		if !found || len(f) < 22 {
			continue
		}
		number := func(i int) int64 { n, _ := strconv.ParseInt(f[i], 10, 64); return n }
		all[pid] = process{parent: int(number(1)), group: int(number(2)),
			cpu:    time.Duration(number(11)+number(12)) * time.Second / ticks,
			memory: uint64(max(number(21), 0)) * uint64(os.Getpagesize())}
	}
	for _, p := range all {
		name, of := groups[p.group]
		for depth := 0; !of && depth < 64 && p.parent > 1; depth++ {
			parent, known := all[p.parent]
			if !known {
				break
			}
			name, of = groups[parent.group]
			p.parent = parent.parent
		}
		if of {
			t := out[name]
			out[name] = taken{t.cpu + p.cpu, t.memory + p.memory, t.processes + 1}
		}
	}
	return out
}
