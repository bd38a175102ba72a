package connect

import (
	"cmp"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
)

var runsImage = expr.New(`(?m)^[^#\n]*\brun\s+-`)

// Elsewhere finds the servers on this machine that settings of native services point at, and that
// nothing of the stack offers. Where something of the stack speaks the same, a setting will be made
// to point at that, and nothing is concluded.
func (s *Connections) Elsewhere() {
	asks := func(v *stack.Service) bool {
		return v.Runs == stack.Native && !v.Watches && !s.inBrowser(v)
	}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if !asks(svc) {
			continue
		}
		s.elsewhereByAdapter(svc)
		for _, v := range s.Settings(svc) {
			if callerKey.MatchString(v.Key) {
				continue
			}
			for _, a := range address.Find(v.Text) {
				s.elsewhereByAddress(svc, v, a)
			}
		}
	}
	for i := range s.Stack.Services { // what a setting says goes before
		if svc := &s.Stack.Services[i]; asks(svc) {
			s.elsewhereByText(svc)
			s.elsewhereByCode(svc)
			s.elsewhereByDriver(svc)
		}
	}
	s.elsewhereByReadme()
	s.elsewhereByWords()
}

// insists is how instructions say that something must be there; the words for what may be are in
// mayBe.
var (
	insists = expr.New(`(?i)\b(need|requires?|required|must (have|be)|necessary|prerequisites?|` +
		`requirements?|dependencies|have .* (installed|running)|make sure)\b`)
	mayBe = expr.New(`(?i)\b(optional\w*|or|alternative\w*|if you|instead|recommend\w*|either|` +
		`supports?|such as|e\.g\.|for example)\b`)
)

// elsewhereByWords finds the servers that the instructions say are needed and for which a native
// service has a driver, where nothing says more of them: two witnesses, neither of which alone
// would do.
func (s *Connections) elsewhereByWords() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if svc.Runs != stack.Native || svc.Watches || s.inBrowser(svc) {
			continue
		}
		for _, known := range protocol.All {
			if known.SignIn == nil || s.isHere(known) || !s.drives(svc, known) ||
				slices.ContainsFunc(s.Stack.Servers,
					func(w stack.Server) bool { return w.Speaks == known.Name }) {
				continue
			}
			if at := s.saidToBeNeeded(known); at.File != "" {
				s.wantServer(stack.Server{Speaks: known.Name, Port: known.Ports[0], For: svc.Name,
					Fixed: true, At: at})
			}
		}
	}
}

// saidToBeNeeded is where instructions insist on a server of the protocol; nowhere if none do.
func (s *Connections) saidToBeNeeded(known *protocol.Protocol) (at stack.Place) {
	for _, file := range s.Instructions {
		text := s.ReadmeOf(file)
		for i, line := range text.Lines {
			head := text.At(i + 1).Head
			if !known.IsNamed(line) || s.BesideWork(stack.Place{File: file, Line: i + 1}) {
				continue
			}
			for sentence := range strings.SplitSeq(line, ". ") {
				says := insists.MatchString(sentence) || insists.MatchString(head)
				if says && known.IsNamed(sentence) && !mayBe.MatchString(sentence) {
					return stack.Place{File: file, Line: i + 1}
				}
			}
		}
	}
	return at
}

// elsewhereByAddress wants a server that an address of a setting leads to on this machine, unless
// the stack has one.
func (s *Connections) elsewhereByAddress(svc *stack.Service, v Value, a address.Address) {
	known, port := protocol.OfScheme(a.Scheme), a.Asked()
	if a.Scheme == "" {
		known, port = s.byParts(svc, v, a.Port)
		if known != nil && s.otherChosen(svc, known) {
			return
		}
	}
	if known == nil || known.SignIn == nil || !address.Local(a.Host) || port == 0 {
		return
	}
	if v.Waived && !s.drives(svc, known) {
		return
	}
	_, here := address.Resolve(s.Stack.Services, svc.Name, false, a.Host, port)
	if here || s.isHere(known) {
		return
	}
	s.wantServer(stack.Server{Speaks: known.Name, Port: port, For: svc.Name, Key: v.Key, At: v.At,
		Fixed: v.Fixed, MadeBy: s.madeBy(svc.Dir(), known),
		Needed: len(known.SignIn.Database) > 0 && s.asksDatabase(svc)})
}

// elsewhereByReadme finds the server that READMEs have people set up with its own client, on this
// machine, where nothing else says that there is one: it is for the one native service that they
// speak of.
func (s *Connections) elsewhereByReadme() {
	var natives []*stack.Service
	for i := range s.Stack.Services {
		if v := &s.Stack.Services[i]; v.Runs == stack.Native && !v.Watches &&
			v.Kind == stack.Lasting {
			natives = append(natives, v)
		}
	}
	if len(natives) != 1 {
		return
	}
	for _, d := range s.Demands {
		if !slices.Contains(s.Instructions, d.At.File) || s.BesideWork(d.At) {
			continue
		}
		for _, part := range d.Parts {
			if known := storeOfClient(part.Words); known != nil && !s.wantsStore() &&
				!s.isHere(known) {
				s.wantServer(stack.Server{Speaks: known.Name, Port: known.Ports[0],
					For: natives[0].Name, Fixed: true, At: d.At})
			}
		}
	}
}

// storeOfClient is the store on this machine that a command works on with its client; nil for none.
func storeOfClient(words []string) *protocol.Protocol {
	if len(words) < 2 {
		return nil
	}
	known := protocol.OfClient(words[0])
	if known == nil || known.SignIn == nil || len(known.SignIn.Database) == 0 ||
		elsewhereHost(words) {
		return nil
	}
	return known
}

// wantsStore reports whether a store is wanted by then.
func (s *Connections) wantsStore() bool {
	return slices.ContainsFunc(s.Stack.Servers, func(w stack.Server) bool {
		o := protocol.Named(w.Speaks)
		return o != nil && o.SignIn != nil && len(o.SignIn.Database) > 0
	})
}

// isHere reports whether a service of the stack speaks a protocol.
func (s *Connections) isHere(known *protocol.Protocol) bool {
	return slices.ContainsFunc(s.Stack.Services,
		func(o stack.Service) bool { return facts.Speaks(&o, known) })
}

// elsewhereHost reports whether a client's words name a server on another machine.
func elsewhereHost(words []string) bool {
	for i, w := range words {
		if (w == "-h" || w == "--host") && i+1 < len(words) && !address.Local(words[i+1]) {
			return true
		}
		if host, ok := strings.CutPrefix(w, "--host="); ok && !address.Local(host) {
			return true
		}
	}
	return false
}

// drives reports whether a driver of the protocol is among the packages of a service.
func (s *Connections) drives(svc *stack.Service, known *protocol.Protocol) bool {
	p := s.Stack.Project(svc.Project, svc.Manager)
	if p == nil {
		return false
	}
	_, _, _, found := p.UsedBy(svc.Dir(), slices.Concat(known.Drivers, known.Through))
	return found
}

// commentLine begins lines that say nothing to a program, in any language of settings.
var commentLine = expr.New(`^\s*(//|#|\*|/\*|;|--)`)

// elsewhereByText finds servers by addresses in settings that are programs, which are read line by
// line only.
func (s *Connections) elsewhereByText(svc *stack.Service) {
	for _, e := range s.Stack.EnvFiles {
		file := e.Path
		if !e.Present {
			file = e.Template
		}
		if e.Format != settings.Other || file == "" ||
			s.projectOfFolder(path.Dir(file)) != svc.Dir() {
			continue
		}
		data, err := s.Files.ReadFile(file)
		if err != nil || len(data) > readme.MaxSize {
			continue
		}
		found := s.serversIn(svc.Name, file, string(data))
		stores := map[string]bool{}
		for _, w := range found {
			if len(protocol.Named(w.Speaks).SignIn.Database) > 0 {
				stores[w.Speaks] = true
			}
		}
		if len(stores) > 1 {
			continue // one of several, and nobody says which
		}
		for _, w := range found {
			s.wantServer(w)
		}
	}
}

// serversIn are the servers on this machine whose addresses stand in a text, but for those that the
// stack has.
func (s *Connections) serversIn(service, file, text string) (found []stack.Server) {
	for i, line := range strings.Split(text, "\n") {
		if commentLine.MatchString(line) {
			continue
		}
		for _, a := range address.Find(line) {
			known := protocol.OfScheme(a.Scheme)
			if known == nil || known.SignIn == nil || !address.Local(a.Host) || s.isHere(known) {
				continue
			}
			found = append(found, stack.Server{Speaks: known.Name, Port: a.Asked(), For: service,
				Fixed: true, At: stack.Place{File: file, Line: i + 1}})
		}
	}
	return found
}

// projectOfFolder is the folder of the innermost project, or member of one, that a folder lies in.
func (s *Connections) projectOfFolder(dir string) string {
	for ; dir != "."; dir = path.Dir(dir) {
		for i := range s.Stack.Projects {
			if p := &s.Stack.Projects[i]; p.Path == dir || slices.Contains(p.Members, dir) {
				return dir
			}
		}
	}
	return "."
}

// fileStore are packages that keep data in a file of the application's own.
var fileStore = expr.New(
	`(?i)sqlite|bolt|badger|h2database|hsqldb|leveldb|^sled$|rocksdb|^redb$|^lmdb$|duckdb|nedb|lowdb`)

// elsewhereByDriver finds a server by the driver of the one kind of database that a service's code
// speaks to, where no setting and nothing of the stack says more. Languages whose frameworks come
// with a store in a file say nothing by a driver.
func (s *Connections) elsewhereByDriver(svc *stack.Service) {
	p := s.Stack.Project(svc.Project, svc.Manager)
	e := ecosystem.Named(cmp.Or(p, &stack.Project{}).Ecosystem)
	if e == nil || !e.Compiled && !e.ByDriver || usesFileStore(p, svc) {
		return
	}
	var one *protocol.Protocol
	var at stack.Place
	for _, known := range protocol.All {
		_, place, _, found := p.UsedBy(svc.Dir(), known.Drivers)
		if !found || known.SignIn == nil || len(known.SignIn.Database) == 0 {
			continue
		}
		if one != nil {
			return // it can do with either
		}
		one, at = known, place
	}
	if one == nil || s.isHere(one) || slices.ContainsFunc(s.Stack.Servers,
		func(w stack.Server) bool { return w.Speaks == one.Name }) {
		return
	}
	if slices.ContainsFunc(s.Settings(svc), func(v Value) bool {
		key := strings.ToLower(v.Key)
		return strings.Contains(key, "database") || strings.Contains(key, "db_")
	}) {
		return // a setting says where it is
	}
	s.wantServer(stack.Server{Speaks: one.Name, Port: one.Ports[0], For: svc.Name, At: at,
		Fixed: true, MadeBy: s.madeBy(svc.Dir(), one)})
}

// usesFileStore reports whether a service can keep its data in a file.
func usesFileStore(p *stack.Project, svc *stack.Service) bool {
	for _, folder := range p.Reaches(svc.Dir()) {
		for _, part := range p.Parts {
			for name := range part.Uses {
				if part.Folder == folder && fileStore.MatchString(name) {
					return true
				}
			}
		}
	}
	return false
}

// adapterKey is how a group of settings says which kind of database it is about.
var adapterKey = expr.New(`(?i)^(.*[._-])?(adapter|dialect|engine|driver|connection|client)$`)

// elsewhereByAdapter finds servers by groups of settings of which one names the kind of database.
func (s *Connections) elsewhereByAdapter(svc *stack.Service) {
	all := s.Settings(svc)
	for _, v := range all {
		m := adapterKey.FindStringSubmatch(v.Key)
		known := protocol.OfScheme(v.Text)
		if m == nil || known == nil || known.SignIn == nil {
			continue
		}
		host, port, at := "", known.Ports[0], v
		for _, o := range all {
			switch {
			case strings.EqualFold(o.Key, m[1]+"host"):
				host, at = o.Text, o
			case strings.EqualFold(o.Key, m[1]+"port") && address.PortOf(o.Text) > 0:
				port = address.PortOf(o.Text)
			}
		}
		if host != "" && !address.Local(host) || slices.ContainsFunc(s.Stack.Services,
			func(o stack.Service) bool { return facts.Speaks(&o, known) }) {
			continue
		}
		s.wantServer(stack.Server{Speaks: known.Name, Port: port, For: svc.Name, Key: at.Key,
			At:    at.At,
			Fixed: at.Fixed, MadeBy: s.madeBy(svc.Dir(), known), Needed: s.asksDatabase(svc)})
	}
}

// choosesKey is how settings choose one of several ways to keep, send or queue something.
var choosesKey = expr.New(`(?i)_(connection|driver|store|mailer|backend|transport|adapter)$`)

// otherChosen reports whether settings of a service choose among ways, and none of them this one.
func (s *Connections) otherChosen(svc *stack.Service, known *protocol.Protocol) bool {
	chooses := false
	for _, v := range s.Settings(svc) {
		if choosesKey.MatchString(v.Key) {
			if chooses = true; protocol.OfScheme(v.Text) == known ||
				strings.EqualFold(v.Text, known.Name) {
				return false
			}
		}
	}
	return chooses
}

// inBrowser reports whether what a service serves runs in a browser alone, which speaks to no
// server but by HTTP.
func (s *Connections) inBrowser(svc *stack.Service) bool {
	p := s.Stack.Project(svc.Project, svc.Manager)
	if p == nil {
		return false
	}
	f := ecosystem.FrameworkNamed(p.FrameworkAt(svc.Dir()))
	return f.Browser && !f.API
}

var hostPart = expr.New(`(?i)^(\w+_)host(name)?$`)

// byParts tells what a setting with nothing but a host is about, by its key, and on which port: the
// one that is written, that of the setting beside it, or the usual one. Where the key could mean
// several protocols it is nil.
func (s *Connections) byParts(svc *stack.Service, v Value, port int) (*protocol.Protocol, int) {
	m := hostPart.FindStringSubmatch(v.Key)
	if m == nil {
		return nil, 0
	}
	about := protocol.OfKey(m[1])
	if len(about) > 1 { // the key alone doesn't say which
		own := s.Stack.Project(svc.Project, svc.Manager)
		about = slices.DeleteFunc(slices.Clone(about), func(p *protocol.Protocol) bool {
			if own == nil {
				return true
			}
			_, _, _, found := own.UsedBy(svc.Dir(), p.Drivers)
			return !found
		})
	}
	if len(about) != 1 {
		return nil, 0
	}
	if port > 0 {
		return about[0], port
	}
	for _, o := range s.Settings(svc) {
		if strings.EqualFold(o.Key, m[1]+"port") {
			if port, err := strconv.Atoi(o.Text); err == nil {
				return about[0], port
			}
			return nil, 0
		}
	}
	return about[0], about[0].Ports[0]
}

// wantServer adds a server, unless it is known for the same service.
func (s *Connections) wantServer(w stack.Server) {
	if !slices.ContainsFunc(s.Stack.Servers, func(o stack.Server) bool {
		return o.Port == w.Port && o.Speaks == w.Speaks && o.For == w.For
	}) {
		s.describe(&w)
		s.Stack.Servers = append(s.Stack.Servers, w)
	}
}

// asksDatabase reports whether a service's project has a step that fails without its database.
func (s *Connections) asksDatabase(svc *stack.Service) bool {
	p := s.Stack.Project(svc.Project, svc.Manager)
	return p != nil && slices.ContainsFunc(p.Steps, func(st stack.Step) bool {
		return st.Role == stack.Create || st.Role == stack.Migrate || st.Role == stack.Seed
	})
}

// madeBy is the script of a folder that runs an image which speaks the protocol; empty if there is
// none, or several.
func (s *Connections) madeBy(dir string, known *protocol.Protocol) string {
	var found []string
	folder := s.Tree.At(dir)
	for name := range folder.Files {
		if path.Ext(name) != ".sh" {
			continue
		}
		data, err := folder.Read(name)
		if err == nil && slices.ContainsFunc(strings.Fields(string(data)), func(word string) bool {
			return protocol.OfImage(strings.Trim(word, `"'`)) == known
		}) && runsImage.Match(data) {
			found = append(found, path.Join(dir, name))
		}
	}
	if len(found) != 1 {
		return ""
	}
	return found[0]
}
