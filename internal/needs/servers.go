package needs

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// servers asks for those beside the stack that settings point at.
func (a *asker) servers(ctx context.Context, services []*stack.Service) {
	for _, w := range a.stack.Servers {
		if !slices.ContainsFunc(services, func(s *stack.Service) bool { return s.Name == w.For }) {
			continue
		}
		name := fmt.Sprintf("%s on port %d", w.Speaks, w.Port)
		if i := slices.IndexFunc(a.needs,
			func(n Need) bool { return n.Name == name && n.Kind == Server }); i >= 0 && w.Needed {
			a.needs[i].Level = Required
		}
		how := "answering"
		if with := withWhom(&w); with != "" {
			how += " " + with
		}
		if a.wantedToo(name, how, w.For, w.At) {
			continue
		}
		n := Need{Name: name, Kind: Server, Wanted: how + ", for " + w.For,
			Found: "answers", Met: a.machine.Answers(ctx, w.Port, w.Speaks), Level: Optional,
			Because: []stack.Place{w.At}, For: []string{w.For}}
		if w.Needed {
			n.Level = Required
		}
		if !n.Met {
			known := &diagnose.Need{Kind: string(Server), Key: w.Key, MadeBy: w.MadeBy,
				Make: howToRun(&w)}
			if p := protocol.Named(w.Speaks); p != nil && (p.Beside != nil || w.Image != "") {
				known.Provide = w.Speaks
			}
			if w.Fixed {
				known.Key = ""
			}
			f := known.Explain()
			n.Found, n.Remedy = f.Cause, f.Remedy
			if with := withWhom(&w); with != "" {
				n.Found += "; wanted " + with
			}
		}
		a.needs = append(a.needs, n)
	}
}

// withWhom is what a server is to have, in words; empty if nothing is known of that.
func withWhom(w *stack.Server) string {
	switch {
	case w.Database != "" && w.User != "":
		return fmt.Sprintf("with the database %s and the user %s", w.Database, w.User)
	case w.Database != "":
		return "with the database " + w.Database
	}
	return ""
}

// howToRun is a command of the container engine that starts a server as it is wanted, and who uses
// its image; empty where nobody says which image.
func howToRun(w *stack.Server) string {
	known := protocol.Named(w.Speaks)
	if w.Image == "" || known == nil {
		return ""
	}
	words := []string{"docker run -d -p", fmt.Sprintf("127.0.0.1:%d:%d", w.Port, known.Ports[0])}
	for _, set := range known.RunsAs(w.User, w.Database) {
		words = append(words, "-e", set)
	}
	says := strings.Join(append(words, w.Image), " ")
	says += fmt.Sprintf(" (the image that %s:%d uses", w.ImageAt.File, w.ImageAt.Line)
	if strings.Contains(says, "…") {
		says += "; … is the password"
		if !w.Fixed {
			says += " in " + w.Key
		}
	}
	return says + ")"
}
