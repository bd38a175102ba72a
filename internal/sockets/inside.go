package sockets

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
)

// Listening is a TCP port on which somebody listens inside of a network of its own.
type Listening struct {
	Port     int
	Loopback bool // on the loopback address of that network alone
}

// Parse reads the kernel's tables of TCP sockets, /proc/net/tcp and tcp6, one behind the other, as
// Linux writes them.
func Parse(tables []byte) []Listening {
	var out []Listening
	lines := bufio.NewScanner(bytes.NewReader(tables))
	for lines.Scan() {
		f := strings.Fields(lines.Text())
		if len(f) < 4 || f[3] != "0A" { // LISTEN
			continue
		}
		host, hex, ok := strings.Cut(f[1], ":")
		port, err := strconv.ParseUint(hex, 16, 16)
		if !ok || err != nil {
			continue
		}
		// Addresses stand in the byte order of the machine: 127.0.0.0/8 ends in 7F on a
		// little-endian one.
		l := Listening{Port: int(port), Loopback: len(host) == 8 &&
			(strings.HasSuffix(host, "7F") ||
				strings.HasPrefix(host, "7F")) || strings.TrimLeft(host, "0") == "1000000" &&
			len(host) == 32}
		i := slices.IndexFunc(out, func(o Listening) bool { return o.Port == l.Port })
		switch {
		case i < 0:
			out = append(out, l)
		case !l.Loopback:
			out[i].Loopback = false
		}
	}
	return out
}

// Inside tells who listens in the network of a process, if that is another than ours and can be
// looked at: on Linux alone, and with the right to.
func Inside(pid int) ([]Listening, bool) {
	ours, err := os.Readlink("/proc/self/ns/net")
	if err != nil || pid <= 0 {
		return nil, false
	}
	theirs, err := os.Readlink(fmt.Sprintf("/proc/%d/ns/net", pid))
	if err != nil || theirs == ours {
		return nil, false
	}
	var tables []byte
	for _, name := range []string{"tcp", "tcp6"} {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/net/%s", pid, name))
		if err != nil && name == "tcp" {
			return nil, false
		}
		tables = append(tables, data...)
	}
	return Parse(tables), true
}
