package readme

import (
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
)

// Address is one on this machine.
type Address struct {
	Scheme string // http, https, ws or wss; empty where only a host and a port stand there
	Port   int
	Path   string // behind the port, as it stands; empty for none
	Line   int
}

// Page reports whether it is one that a browser opens.
func (a Address) Page() bool { return a.Scheme != "" }

var localAddress = expr.New(`(?i)\b(?:(https?|wss?)://)?(?:localhost|127\.0\.0\.1|0\.0\.0\.0):(\d{2,5})\b` +
	`(/[\w.~-][\w./~-]*)?`)

func (d *Document) addresses() {
	for i, line := range d.Lines {
		for _, m := range localAddress.FindAllStringSubmatch(line, -1) {
			if port, err := strconv.Atoi(m[2]); err == nil && port > 0 && port < 1<<16 {
				d.Addresses = append(d.Addresses, Address{Scheme: m[1], Port: port,
					Path: strings.TrimRight(m[3], "."), Line: i + 1})
			}
		}
	}
}

// Between is the first address in the lines from one to before another; ok is false where none
// stands there.
func (d *Document) Between(from, to int) (a Address, ok bool) {
	for _, a := range d.Addresses {
		if a.Line >= from && a.Line < to {
			return a, true
		}
	}
	return Address{}, false
}

// OnlyPage is the one port that a document has addresses with; 0 if there are none or several;
// with it the line that names it first.
func (d *Document) OnlyPage() (port, line int) {
	for _, a := range d.Addresses {
		switch {
		case a.Port == port || !a.Page() && protocol.OfPort("", a.Port) != "http":
		case port == 0:
			port, line = a.Port, a.Line
		default:
			return 0, 0
		}
	}
	return port, line
}
