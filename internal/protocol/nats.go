package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
)

// nats greets with what it is, in JSON (its client protocol, INFO).
var nats = &Protocol{
	Name:     "nats",
	Ports:    []int{4222},
	Programs: []string{"nats-server"},
	Drivers: []string{"nats", "nats-py", "github.com/nats-io/nats.go", "async-nats",
		"io.nats:jnats", "NATS.Client", "gnat"},
	Scheme:  "nats",
	images:  expr.New(`^nats`),
	schemes: expr.New(`^nats$`),
	keys:    expr.New(`(?i)(^|[_.-])(nats|broker)`),
	ask:     greeting("nats"),
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("INFO {")) },
}
