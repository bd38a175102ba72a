package probe

import (
	psnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"

	"nimbleharbor/internal/stack"
)

// Owner finds the process that listens on a TCP port of this machine. It is nil when there is none, or
// when the system doesn't let this user see it. The command is the program's name without arguments,
// since those may hold secrets.
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
