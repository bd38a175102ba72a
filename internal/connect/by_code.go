package connect

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// hostByDefault is a setting with this machine as the host that its code falls back to:
// getenv("NAME_HOST", "localhost"), NAME_HOST || "localhost".
var hostByDefault = expr.New(
	`(?i)\b(\w+_HOST(?:NAME)?)\b["'\])]*\s*(?:,|\|\||\?\?|:-)\s*["'](?:localhost|127\.0\.0\.1)["']`)

// elsewhereByCode finds the servers on this machine that a service's code holds the address of and
// has a driver for, where no setting and nothing of the stack says more: that is what it speaks to
// as long as nobody tells it another.
func (s *Connections) elsewhereByCode(svc *stack.Service) {
	var open []*protocol.Protocol
	for _, known := range protocol.All {
		if s.drives(svc, known) && !s.isHere(known) &&
			!slices.ContainsFunc(s.Stack.Servers, func(w stack.Server) bool {
				return w.Speaks == known.Name && w.For == svc.Name
			}) {
			open = append(open, known)
		}
	}
	if len(open) == 0 {
		return
	}
	h := held{open: open, found: map[*protocol.Protocol]stack.Server{}}
	own := func(folder string) bool { return s.isCodeOf(svc, folder) }
	s.Mentions.Lines(svc.Dir(), own, h.line)
	for _, known := range open {
		isDatabase := known.SignIn != nil && len(known.SignIn.Database) > 0
		if w := h.found[known]; w.Port > 0 && !(isDatabase && h.keepsFile) {
			s.wantServer(stack.Server{Speaks: known.Name, Port: w.Port, For: svc.Name, Fixed: true,
				At: w.At})
		}
	}
}

// held are the servers on this machine whose addresses code holds, of those that are open.
type held struct {
	open      []*protocol.Protocol
	found     map[*protocol.Protocol]stack.Server
	keepsFile bool // and it may keep its data in a file instead
}

// line takes what one line of code holds.
func (h *held) line(line string, at stack.Place) {
	h.keepsFile = h.keepsFile || strings.Contains(line, "sqlite")
	if !strings.Contains(line, "localhost") && !strings.Contains(line, "127.0.0.1") ||
		commentLine.MatchString(line) {
		return
	}
	for _, a := range address.Find(line) {
		if !isText(line, a.Host) || !address.Local(a.Host) {
			continue // of a comment's, or of a document in the code
		}
		known := protocol.OfScheme(a.Scheme)
		if known == nil || known.SignIn == nil { // which many servers speak
			known = ofPort(h.open, a.Port)
		}
		h.take(known, a.Asked(), at)
	}
	for _, m := range hostByDefault.FindAllStringSubmatch(line, -1) {
		about := slices.DeleteFunc(protocol.OfKey(m[1]),
			func(p *protocol.Protocol) bool { return !slices.Contains(h.open, p) })
		if len(about) == 1 {
			h.take(about[0], about[0].Ports[0], at)
		}
	}
}

// take keeps the first address of an open server.
func (h *held) take(known *protocol.Protocol, port int, at stack.Place) {
	if slices.Contains(h.open, known) && h.found[known].Port == 0 {
		h.found[known] = stack.Server{Port: port, At: at}
	}
}

// isText reports whether what a line has first of a host's name stands in a text that begins there.
func isText(line, host string) bool {
	before, _, found := strings.Cut(line, host)
	before = strings.NewReplacer(`"""`, "", "'''", "").Replace(before)
	return found && (strings.Count(before, `"`)%2 == 1 || strings.Count(before, "'")%2 == 1 ||
		strings.Count(before, "`") == 1)
}

// isCodeOf reports whether the code of a folder is a service's: no project lies nearer in which
// another one lives, and it is not that of another program beside the one that is built.
func (s *Connections) isCodeOf(svc *stack.Service, dir string) bool {
	if besideProgram(svc, dir) {
		return false
	}
	owner := s.projectOfFolder(dir)
	return owner == svc.Dir() || !slices.ContainsFunc(s.Stack.Services,
		func(o stack.Service) bool { return o.Name != svc.Name && o.Dir() == owner })
}

// besideProgram reports whether a folder belongs to another of several programs that lie beside
// each other: the service builds one out of its own folder, as cmd/NAME.
func besideProgram(svc *stack.Service, dir string) bool {
	for _, w := range svc.NativeCommand {
		own, found := strings.CutPrefix(w, "./")
		if !found || path.Dir(own) == "." {
			continue
		}
		own = path.Join(svc.Dir(), own)
		all := path.Dir(own) + "/"
		return strings.HasPrefix(dir, all) && dir != own && !strings.HasPrefix(dir, own+"/")
	}
	return false
}

// ofPort is the one of the protocols that is usual on a port; nil for none.
func ofPort(list []*protocol.Protocol, port int) *protocol.Protocol {
	for _, known := range list {
		if slices.Contains(known.Ports, port) {
			return known
		}
	}
	return nil
}
