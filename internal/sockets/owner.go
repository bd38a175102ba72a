// Package sockets tells which ports of this machine are held, and by whom.
package sockets

import (
	"errors"
	"net"
	"strconv"
	"syscall"

	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"nimbleharbor/internal/stack"
)

// Owner finds the process that listens on a TCP port of this machine. It is nil when there is none,
// or when the system doesn't let this user see it. The command is the program's name without
// arguments, since those may hold secrets.
func Owner(port int) *stack.Owner { return Owners()[port] }

// Owners finds the processes of all listening TCP ports.
func Owners() map[int]*stack.Owner {
	out := map[int]*stack.Owner{}
	list, err := psnet.Connections("tcp")
	if err != nil {
		return out
	}
	for _, c := range list {
		if c.Status != "LISTEN" || c.Pid == 0 || out[int(c.Laddr.Port)] != nil {
			continue
		}
		o := &stack.Owner{PID: int(c.Pid)}
		if p, err := process.NewProcess(c.Pid); err == nil {
			o.Command, _ = p.Name()
		}
		out[int(c.Laddr.Port)] = o
	}
	return out
}

// UDPBound reports whether some program holds the UDP port.
func UDPBound(port int) bool {
	c, err := net.ListenPacket("udp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return true
	}
	c.Close()
	return false
}

// Free reports whether a program of ours could listen on the TCP port, on every address of this
// machine or, where host is not empty, on that one.
func Free(host string, port int) bool {
	hosts := []string{host}
	if host == "" {
		hosts = []string{"127.0.0.1", ""}
	}
	for _, h := range hosts {
		l, err := net.Listen("tcp", net.JoinHostPort(h, strconv.Itoa(port)))
		if err != nil {
			return !errors.Is(err, syscall.EADDRINUSE)
		}
		l.Close()
	}
	return true
}
