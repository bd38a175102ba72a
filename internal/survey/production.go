package survey

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// writtenAddress is an address with a path that code holds, with its place.
type writtenAddress struct {
	address, path string
	at            stack.Place
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

// addressesOf keeps the addresses elsewhere that a file of code holds, if by its name it speaks to a server.
func (c *codeReader) addressesOf(file string, data []byte) {
	name := strings.TrimSuffix(path.Base(file), path.Ext(file))
	if !bytes.Contains(data, []byte("://")) ||
		!speaksToServer.MatchString(name) && !speaksToServer.MatchString(path.Base(path.Dir(file))) {
		return
	}
	text := string(data)
	found := absoluteAddress.FindAllStringSubmatchIndex(text, maxAddresses)
	for _, m := range found {
		if thisMachine.MatchString(text[m[4]:m[5]]) {
			continue
		}
		c.mu.Lock()
		c.written = append(c.written, writtenAddress{text[m[2]:m[3]], text[m[6]:m[7]],
			stack.Place{File: file, Line: 1 + strings.Count(text[:m[0]], "\n")}})
		c.mu.Unlock()
	}
}

// writtenAddresses remarks on addresses elsewhere that code holds and whose path a service here offers: what runs here
// would speak to a server that is somebody's in earnest.
func (s *surveyor) writtenAddresses() {
	if s.code == nil {
		return
	}
	written := slices.Clone(s.code.written)
	slices.SortFunc(written, func(a, b writtenAddress) int {
		if c := strings.Compare(a.at.File, b.at.File); c != 0 {
			return c
		}
		return a.at.Line - b.at.Line
	})
	for _, w := range written {
		own := s.projectOf(path.Dir(w.at.File))
		for i := range s.stack.Services {
			v := &s.stack.Services[i]
			dir := v.Home
			if v.Runs == stack.Native {
				dir = v.Dir()
			}
			if dir == "" || dir == own || len(v.Ports) == 0 || v.Ports[0].Host == 0 ||
				!s.mentioned([]string{dir}, "", []string{`"` + w.path, `'` + w.path, "`" + w.path}) {
				continue
			}
			s.remarkOn(
				stack.AboutService(v.Name), stack.Warning,
				stack.CodeAddressElsewhere,
				w.at,
				fmt.Sprintf(
					"this speaks to %s, while %s of this stack offers %s at http://localhost:%d",
					w.address,
					v.Name,
					w.path,
					v.Ports[0].Host,
				),
				fmt.Sprintf("For work on this machine write http://localhost:%d there, or take it from a setting.",
					v.Ports[0].Host),
			)
			break
		}
	}
}
