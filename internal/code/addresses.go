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
		`["'\x60](https?://([a-z0-9-]+(?:\.[a-z0-9-]+)+)(?::\d+)?)(/[a-z][\w-]*(?:/[a-z][\w-]*)?)`,
	)
	// Files of such names speak to the application's own server.
	speaksToServer = expr.New(
		`(?i)(^|[-_.])(api|client|http|axios|fetch\w*|config|constants?|env(ironments?)?|services?|` +
			`requests?)([-_.]|$)`,
	)
	thisMachine = expr.New(`^(localhost|127\.|0\.0\.0\.0|10\.|192\.168\.|.*\.(local|localhost|test)$)`)
)

// maxAddresses is how many addresses of one file are kept.
const maxAddresses = 5

// addressesOf keeps the addresses elsewhere that a file of code holds, if by its name it speaks to
// a server.
func (c *Reader) addressesOf(file string, data []byte) {
	name := strings.TrimSuffix(path.Base(file), path.Ext(file))
	if !bytes.Contains(data, []byte("://")) ||
		!speaksToServer.MatchString(name) &&
			!speaksToServer.MatchString(path.Base(path.Dir(file))) {
		return
	}
	text := string(data)
	found := absoluteAddress.FindAllStringSubmatchIndex(text, maxAddresses)
	for _, m := range found {
		if thisMachine.MatchString(text[m[4]:m[5]]) {
			continue
		}
		c.mu.Lock()
		c.found.Written = append(c.found.Written, Address{text[m[2]:m[3]], text[m[6]:m[7]],
			stack.Place{File: file, Line: 1 + strings.Count(text[:m[0]], "\n")}})
		c.mu.Unlock()
	}
}
