package protocol

import (
	"encoding/binary"
	"io"
	"net"

	"nimbleharbor/internal/stack"
)

// dns is RFC 1035, over UDP and TCP, asked for the address of localhost: any reply under our number
// will do.
var dns = &Protocol{
	Name:     "dns",
	Ports:    []int{53},
	Programs: []string{"dnsmasq", "named", "coredns"},
	ask:      askDNS,
	datagram: true,
	hello:    "\x00\x1b" + dnsQuery,
	hears: func(b []byte) bool {
		return len(b) >= 14 && string(b[2:4]) == "nh" && b[4]&0x80 != 0
	},
}

const dnsQuery = "nh\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x09localhost\x00\x00\x01\x00\x01"

func askDNS(t *talk) answer {
	query := []byte(dnsQuery)
	_, stream := t.conn.RemoteAddr().(*net.TCPAddr)
	if stream {
		query = append(binary.BigEndian.AppendUint16(nil, uint16(len(query))), query...)
	}
	if _, err := t.conn.Write(query); err != nil {
		return hangUp(err)
	}
	buf := make([]byte, 1500)
	var n int
	var err error
	if stream {
		n, err = io.ReadFull(t.conn, buf[:14])
		buf = buf[2:]
		n -= 2
	} else {
		n, err = t.conn.Read(buf)
	}
	switch {
	case n <= 0:
		return hangUp(err)
	case n < 12 || string(buf[:2]) != "nh" || buf[2]&0x80 == 0:
		return answer{verdict: stack.Stranger}
	case buf[3]&0x0f == 2:
		return answer{verdict: stack.Errs, speaks: "dns",
			says: "it fails to look names up (SERVFAIL)"}
	}
	return answer{verdict: stack.Answers, speaks: "dns"}
}

// Datagrams reports whether a port of this protocol can be asked over UDP.
func Datagrams(name string) bool {
	p := Named(name)
	return p != nil && p.datagram
}
