package protocol

import (
	"bytes"
	"strconv"

	"nimbleharbor/internal/expr"
)

// Debuggers' ports. Whoever connects to one may let the program go on that waits for its debugger,
// or end it when it leaves: none of these is asked, each is recognised where it speaks first or was
// spoken to as something else.

// jdwp is the Java debug wire protocol, whose handshake is a fixed word (its specification, "JDWP
// Handshake").
var jdwp = &Protocol{
	Name:   "jdwp",
	Ports:  []int{5005, 8787},
	byUse:  true,
	Gentle: true,
	ask:    exchange("JDWP-Handshake", greetsWith("jdwp")),
	banner: func(b []byte) bool { return bytes.HasPrefix(b, []byte("JDWP-Handshake")) },
	hello:  "JDWP-Handshake",
}

// debugpy speaks the debug adapter protocol, and first.
var debugpy = &Protocol{
	Name:   "debugpy",
	Ports:  []int{5678},
	byUse:  true,
	Gentle: true,
	ask:    greeting("debugpy"),
	banner: func(b []byte) bool { return bytes.HasPrefix(b, []byte("Content-Length:")) },
}

// delve is the debugger of Go programs, which speaks JSON-RPC and ends its program when its one
// client leaves.
var delve = &Protocol{
	Name:     "delve",
	Ports:    []int{2345},
	Programs: []string{"dlv"},
	byUse:    true,
	Gentle:   true,
	ask: exchange(`{"method":"RPCServer.GetVersion","params":[{}],"id":1}`,
		greetsWith("delve")),
	banner: func(b []byte) bool { return bytes.Contains(b, []byte(`"DelveVersion"`)) },
}

// greetsWith judges a reply by the banner of the protocol that was asked for.
func greetsWith(want string) func([]byte) (answer, bool) {
	return func(reply []byte) (answer, bool) { return greeted(reply, want), true }
}

// debuggerOptions are the options by which programs are told to open a debugger's port. The port,
// where it is told, is the last part that was found; without one it is the protocol's own.
var debuggerOptions = []struct {
	opens  *Protocol
	option *expr.Expr
}{
	{jdwp, expr.New(`(?:-agentlib:jdwp=|-Xrunjdwp:)\S*?address=(?:[^\s,"']*:)?(\d+)`)},
	{inspector, expr.New(`--inspect(?:-brk|-wait)?(?:=(?:[^\s,"':]*:)?(\d+))?(?:[\s"',]|$)`)},
	{debugpy, expr.New(`\bdebugpy\b.*?--listen[ =](?:[^\s"':]*:)?(\d+)`)},
	{delve, expr.New(`\bdlv\b.*?(?:--listen|-l)[ =](?:[^\s"':]*:)?(\d+)`)},
}

// Debuggers finds the debugger's ports that a command line, or the options in an environment,
// opens: the protocol's name by its port.
func Debuggers(line string) map[int]string {
	out := map[int]string{}
	for _, o := range debuggerOptions {
		for _, m := range o.option.FindAllStringSubmatch(line, -1) {
			port, err := strconv.Atoi(m[1])
			if err != nil || port == 0 {
				port = o.opens.Ports[0]
			}
			out[port] = o.opens.Name
		}
	}
	return out
}

// IsGentle reports whether who speaks this protocol is looked at and not spoken to.
func IsGentle(name string) bool {
	p := Named(name)
	return p != nil && p.Gentle
}
