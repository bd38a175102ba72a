package protocol

import "bytes"

// ssh is recognised by its greeting (RFC 4253, section 4.2).
var ssh = &Protocol{
	Name:     "ssh",
	Ports:    []int{22},
	Programs: []string{"sshd"},
	ask:      greeting("ssh"),
	banner:   func(b []byte) bool { return bytes.HasPrefix(b, []byte("SSH-")) },
}
