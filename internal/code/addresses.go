package code

import (
	"bytes"
	"path"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Address is one elsewhere, with a path, that code holds.
type Address struct {
	Address, Path string
	At            stack.Place
}

var (
	absoluteAddress = expr.New(
		`^(https?://([a-z0-9-]+(?:\.[a-z0-9-]+)+)(?::\d+)?)(/[a-z][\w-]*(?:/[a-z][\w-]*)?)`)
	// Files of such names speak to the application's own server.
	speaksToServer = expr.New(
		`(?i)(^|[-_.])(api|client|http|axios|fetch\w*|config|constants?|env(ironments?)?|services?|` +
			`requests?)([-_.]|$)`)
	thisMachine = expr.New(`^(localhost|127\.|0\.0\.0\.0|10\.|192\.168\.|.*\.(local|localhost|test)$)`)
)

// maxAddresses is how many addresses of one file are kept.
const maxAddresses = 5

// maySpeak is a quick look whether a file speaks to a server, by its name, and holds an address.
func maySpeak(file string, data []byte) bool {
	stem := strings.TrimSuffix(path.Base(file), path.Ext(file))
	return bytes.Contains(data, []byte("://")) && (speaksToServer.MatchString(stem) ||
		speaksToServer.MatchString(path.Base(path.Dir(file))))
}

// addresses are those elsewhere that a program holds, with a path.
func (p *program) addresses() (out []Address) {
	for i, t := range p.tokens {
		if len(out) == maxAddresses {
			break
		}
		if t.kind != text {
			continue
		}
		m := absoluteAddress.FindStringSubmatch(t.text)
		if m == nil || thisMachine.MatchString(m[2]) {
			continue
		}
		out = append(out, Address{strings.Clone(m[1]), strings.Clone(m[3]), p.place(i)})
	}
	return out
}
