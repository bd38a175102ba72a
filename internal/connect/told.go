package connect

import (
	"cmp"
	"net/url"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/stack"
)

// describe adds to a server that nothing of the stack offers what the checkout says of it: the
// database and the user that settings name, and the image that somebody else uses for it.
func (s *Connections) describe(w *stack.Server) {
	known, svc := protocol.Named(w.Speaks), s.Stack.Service(w.For)
	if known == nil || svc == nil {
		return
	}
	if known.SignIn != nil && len(known.SignIn.Database) > 0 {
		s.signInOf(w, s.Settings(svc))
	}
	w.Image, w.ImageAt = s.imageElsewhere(known)
}

var (
	// partKey takes from a setting's key what says which part of an address it holds.
	partKey = expr.New(`(?i)[._-]?(url|uri|dsn|host(name)?|server|address|adapter|dialect|engine|driver|connection|` +
		`client)$`)
	// aDatabase and aUser are what the keys beside it end in.
	aDatabase = expr.New(`(?i)^[._-]?(db_?name|database(_?name)?|name|db)$`)
	aPassword = expr.New(`(?i)^[._-]?(pass(word|wd)?|pwd)$`)
	aUser     = expr.New(`(?i)^[._-]?(user(_?name)?|login)$`)
	// aName is a name that can be given to a server as it is.
	aName = expr.New(`^[A-Za-z_][\w-]*$`)
)

// signInOf finds the database and the user in an address, and in the settings beside the one that
// points at the server.
func (s *Connections) signInOf(w *stack.Server, all []Value) {
	at := slices.IndexFunc(all, func(v Value) bool { return v.Key == w.Key && v.At == w.At })
	if at < 0 {
		return
	}
	if u, err := url.Parse(strings.TrimPrefix(all[at].Text, "jdbc:")); err == nil && u.Host != "" {
		w.Database = strings.TrimPrefix(u.Path, "/")
		if u.User != nil {
			w.User = u.User.Username()
			w.Password, _ = u.User.Password()
		}
	}
	for _, stem := range []string{partKey.ReplaceAllString(w.Key, ""), "development"} {
		for _, v := range all {
			rest, beside := strings.CutPrefix(v.Key, stem)
			if !beside || v.At.File != w.At.File {
				continue
			}
			switch {
			case aDatabase.MatchString(rest):
				w.Database = cmp.Or(w.Database, v.Text)
			case aUser.MatchString(rest):
				w.User = cmp.Or(w.User, v.Text)
			case aPassword.MatchString(rest):
				w.Password = cmp.Or(w.Password, v.Text)
			}
		}
	}
	for _, name := range []*string{&w.Database, &w.User} {
		if !aName.MatchString(*name) {
			*name = ""
		}
	}
}

// imageLine is a line of YAML that names an image.
var imageLine = expr.New(`^\s*-?\s*image:\s*["']?([^\s"'#$]+)`)

// imageElsewhere is the image of such a server that a build server, a compose file beside the
// stack, or a README's command uses, with its version; empty if nobody names one, or they name
// several.
func (s *Connections) imageElsewhere(known *protocol.Protocol) (image string, at stack.Place) {
	several := false
	tell := func(name string, place stack.Place) {
		_, tag, tagged := strings.Cut(path.Base(name), ":")
		switch {
		case !tagged || tag == "latest" || protocol.OfImage(name) != known:
		case image == "":
			image, at = name, place
		default:
			several = several || image != name
		}
	}
	for _, file := range slices.Concat(s.Tree.Workflows, s.Tree.Compose,
		[]string{".gitlab-ci.yml"}) {
		data, err := s.Files.ReadFile(file)
		if err != nil || len(data) > readme.MaxSize {
			continue
		}
		line := 0
		for text := range strings.Lines(string(data)) {
			line++
			if m := imageLine.FindStringSubmatch(text); m != nil {
				tell(m[1], stack.Place{File: file, Line: line})
			}
		}
	}
	s.eachContainerWord(tell)
	if several {
		return "", stack.Place{}
	}
	return image, at
}

// eachContainerWord tells the words of the instructions' calls of a container engine.
func (s *Connections) eachContainerWord(tell func(word string, at stack.Place)) {
	calls := demand.Program("docker", "podman")
	for _, d := range s.Demands {
		for _, part := range d.Parts {
			if len(part.Words) > 2 && calls(&demand.Call{Words: part.Words}) {
				for _, word := range part.Words[2:] {
					tell(word, d.At)
				}
			}
		}
	}
}
