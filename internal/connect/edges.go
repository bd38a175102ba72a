// Package connect finds what a service connects to, from its settings, options, configuration and
// drivers: another service of the stack, which it waits for (Edges, Drivers), or a server on this
// machine that nothing of the stack offers (Elsewhere).
package connect

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// Connections asks the facts of a workspace, and adds edges and servers to its stack.
type Connections struct {
	*facts.Facts
}

// Value is one setting as a service sees it.
type Value struct {
	Key, Text string
	At        stack.Place
	Fixed     bool // none of the settings that fill sets
	Waived    bool // a comment on it, or on the lines just above, says that one may do without
}

// Settings lists what a service's environment says, with places: its own keys, and its files or,
// where one isn't there yet, the file's template.
func (s *Connections) Settings(svc *stack.Service) []Value {
	var out []Value
	for key, text := range svc.Env {
		out = append(out, Value{Key: key, Text: text, At: svc.EnvAt[key]})
	}
	slices.SortFunc(out, func(a, b Value) int { return strings.Compare(a.Key, b.Key) })
	for _, ref := range svc.EnvFiles {
		file := ref.Path
		if _, err := fs.Stat(s.Files, file); err != nil {
			file = ""
			for _, e := range s.Stack.EnvFiles {
				if e.Path == ref.Path {
					file = e.Template
				}
			}
		}
		if given, f := s.Values(file); f != nil {
			waived, last := false, 0
			for _, set := range f.Settings {
				if set.Comment != "" || set.Line != last+1 {
					waived = value.Waives(set.Comment)
				}
				last = set.Line
				out = append(out, Value{Key: set.Key, Text: given[set.Key], Waived: waived,
					At: stack.Place{File: f.Name, Line: set.Line}})
			}
		}
	}
	return slices.Concat(out, flags(svc), s.configs(svc), s.proxies(svc))
}

var (
	variableWithDefault = expr.New(`\$\{[\w.-]+:([^{}]*)\}`)
	// embedded is Ruby's way to have a variable in a file, with what stands for it where it is not
	// set.
	embedded = expr.New(`<%=\s*ENV(?:\.fetch)?[\[(]\s*["']\w+["']\s*(?:,\s*["']?([^"')]*?)["']?\s*)?[\])]` +
		`\s*(?:(?:\|\||\{)\s*["']?([^"'}]*?)["']?\s*\}?\s*)?%>`)
	otherStage = expr.New(`(?i)^(test|testing|production|prod|staging)\.`)
)

// configs lists what the configuration files of a native service's framework say, as if they were
// settings; of two files that say something of the same key, the later one counts. What is switched
// off is left out.
func (s *Connections) configs(svc *stack.Service) []Value {
	p := s.Stack.Project(svc.Project, svc.Manager)
	if svc.Runs != stack.Native || p == nil {
		return nil
	}
	byKey := map[string]int{}
	var out []Value
	for _, name := range ecosystem.FrameworkNamed(p.FrameworkAt(svc.Dir())).Config {
		file, fixed := path.Join(svc.Dir(), name), true
		if !s.Exists(file) {
			i := slices.IndexFunc(s.Stack.EnvFiles,
				func(e stack.EnvFile) bool { return e.Path == file })
			if i < 0 || s.Stack.EnvFiles[i].Template == "" {
				continue
			}
			file, fixed = s.Stack.EnvFiles[i].Template, false
		}
		for _, e := range s.configOf(file) {
			if otherStage.MatchString(e.Key) {
				continue
			}
			text := variableWithDefault.ReplaceAllString(embedded.ReplaceAllString(e.Value,
				"$1$2"), "$1")
			v := Value{Key: e.Key, Text: connection(text),
				At: stack.Place{File: file, Line: e.Line}, Fixed: fixed}
			if i, known := byKey[e.Key]; known {
				out[i] = v
				continue
			}
			byKey[e.Key] = len(out)
			out = append(out, v)
		}
	}
	off := map[string]bool{}
	for _, v := range out {
		if prefix, is := strings.CutSuffix(v.Key, ".enabled"); is && v.Text == "false" {
			off[prefix] = true
		}
	}
	return slices.DeleteFunc(out, func(v Value) bool {
		for prefix := v.Key; strings.Contains(prefix, "."); {
			if prefix = prefix[:strings.LastIndexByte(prefix, '.')]; off[prefix] {
				return true
			}
		}
		return false
	})
}

// flags lists what the options of a service's command say, as if they were settings.
func flags(svc *stack.Service) (out []Value) {
	for _, c := range demand.CommandsOf(svc.Command) {
		for i, word := range c.Words {
			name, text, joined := strings.Cut(word, "=")
			if !strings.HasPrefix(name, "-") {
				continue
			}
			if !joined && i+1 < len(c.Words) {
				text = c.Words[i+1]
			}
			own := slices.ContainsFunc(svc.Ports, func(p stack.Port) bool {
				return strings.HasSuffix(text, ":"+strconv.Itoa(p.Target))
			})
			if name = strings.TrimLeft(name, "-"); strings.Contains(text, ":") && !own {
				out = append(out, Value{Key: name, Text: text, At: svc.At, Fixed: true})
			}
		}
	}
	return out
}

// proxies lists where a native front end hands calls on to, as if they were settings.
func (s *Connections) proxies(svc *stack.Service) []Value {
	if svc.Runs != stack.Native || svc.Dir() == "" {
		return nil
	}
	var out []Value
	add := func(name string, form *expr.Expr) {
		full := path.Join(svc.Dir(), name)
		data, err := fs.ReadFile(s.Files, full)
		if err != nil || len(data) > 1<<20 {
			return
		}
		for _, m := range form.FindAllSubmatchIndex(data, -1) {
			out = append(out,
				Value{Key: "proxy", Text: inTemplate.ReplaceAllString(string(data[m[2]:m[3]]), ""),
					At: stack.Place{File: full, Line: 1 + strings.Count(string(data[:m[2]]),
						"\n")}})
		}
	}
	p := s.Stack.Project(svc.Project, svc.Manager)
	if p == nil {
		return nil
	}
	folder := s.Tree.At(svc.Dir())
	for _, proxy := range ecosystem.Named(p.Ecosystem).Proxies {
		if strings.Contains(proxy.File, "/") || folder.Has(proxy.File) {
			add(proxy.File, proxy.Form)
		}
	}
	if proxies := ecosystem.Named(p.Ecosystem).Proxies; len(proxies) > 0 {
		for _, file := range ecosystem.ConfigsNamed(svc.Expands) {
			if fs.ValidPath(path.Join(svc.Dir(), file)) && !slices.ContainsFunc(proxies,
				func(o ecosystem.Proxy) bool { return o.File == file }) {
				add(file, proxies[0].Form)
			}
		}
	}
	return out
}

// inTemplate is what a program puts into a text, here into an address's scheme.
var inTemplate = expr.New(`\$\{[^}]*\}`)

var (
	hostKey = expr.New(`(?i)(^|_|^(?:pg|db))(host(name)?|server|addr(ess)?|endpoint|broker|url|uri|dsn)s?$`)
	// A setting of these names tells who may call, not whom to call.
	callerKey = expr.New(`(?i)origin|cors|allowed|public|callback|redirect|frontend|front_end|trusted`)
)

// Edges finds, for every setting that points at another service, the edge that it means.
func (s *Connections) Edges() {
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		if svc.Watches {
			continue
		}
		for _, v := range s.Settings(svc) {
			if callerKey.MatchString(ecosystem.Plain(v.Key)) || v.Text == "" ||
				facts.IsServer(svc) && svc.EnvAt[v.Key] != v.At {
				continue // a server's own image reads nothing of an application's settings file
			}
			for _, other := range s.pointsAt(svc, v) {
				if slices.ContainsFunc(svc.After, func(a stack.After) bool {
					return a.Service == other.Name && a.Because == stack.Inferred
				}) {
					continue
				}
				until := stack.Answering
				if other.Kind == stack.Once {
					until = stack.Finished
				}
				reason := fmt.Sprintf("%s:%d points at it (%s)", v.At.File, v.At.Line, v.Key)
				declared := slices.IndexFunc(svc.After,
					func(a stack.After) bool { return a.Service == other.Name })
				if declared < 0 {
					svc.After = append(svc.After,
						stack.After{Service: other.Name, Until: until, Because: stack.Inferred,
							At: v.At, Reason: reason})
				} else if a := &svc.After[declared]; a.Until == stack.Begun {
					// The file asks only that it has begun; that a setting points at it tells that
					// it is needed to answer.
					a.AsKnown = true
				}
			}
		}
	}
}

// pointsAt lists the services that a setting's value names by host, or by a port of this machine.
func (s *Connections) pointsAt(svc *stack.Service, v Value) []*stack.Service {
	var out []*stack.Service
	for _, a := range address.Find(v.Text) {
		if a.Port == 0 && address.Local(a.Host) && a.Host == strings.ToLower(v.Text) {
			a.Port = s.portBeside(svc, v)
		}
		if !a.Certain() && (!hostKey.MatchString(v.Key) || a.Host != strings.ToLower(v.Text)) {
			continue
		}
		ref, ok := address.Resolve(s.Stack.Services, svc.Name, svc.Runs == stack.Container, a.Host,
			a.Port)
		if other := s.Stack.Service(ref.Service); ok && !slices.Contains(out, other) {
			out = append(out, other)
		}
	}
	return out
}

var (
	connectionHost = expr.New(`(?i)(?:^|;)\s*(?:host|server|data source|address)\s*=\s*(?:tcp:)?([\w.-]+)(?:,(\d+))?`)
	connectionPort = expr.New(`(?i)(?:^|;)\s*port\s*=\s*(\d+)`)
)

// connection writes a connection string of pairs, as far as it names a host and a port, as an
// address.
func connection(text string) string {
	m := connectionHost.FindStringSubmatch(text)
	if m == nil {
		return text
	}
	if port := connectionPort.FindStringSubmatch(text); port != nil {
		m[2] = port[1]
	}
	if m[2] == "" {
		return text
	}
	return m[1] + ":" + m[2]
}

// ofStage is how a document of a file says for which stage alone it is.
var ofStage = expr.New(`(?i)(on-profile|profiles)$`)

// configOf lists what a configuration file says: all of its documents that are for work on the
// application. A file that can't be read says nothing.
func (s *Connections) configOf(file string) (out []settings.Entry) {
	data, err := s.Files.ReadFile(file)
	if err != nil {
		return nil
	}
	line := 0
	for _, text := range strings.SplitAfter(string(data), "\n---") {
		format := settings.FormatOf(strings.TrimSuffix(strings.TrimSuffix(file, ".example"),
			".sample"))
		d, err := settings.Parse(file, format, []byte(strings.TrimSuffix(text, "---")))
		first := line
		line += strings.Count(text, "\n")
		if err != nil {
			continue
		}
		if slices.ContainsFunc(d.Entries, func(e settings.Entry) bool {
			return ofStage.MatchString(e.Key) && otherStage.MatchString(e.Value+".")
		}) {
			continue
		}
		for _, e := range d.Entries {
			e.Line += first
			out = append(out, e)
		}
	}
	return out
}

var hostEnd = expr.New(`(?i)^(.*[._-])?host(name)?$`)

// portBeside is the port in the setting beside one that holds a host; 0 if there is none.
func (s *Connections) portBeside(svc *stack.Service, v Value) int {
	m := hostEnd.FindStringSubmatch(v.Key)
	if m == nil {
		return 0
	}
	for _, o := range s.Settings(svc) {
		if strings.EqualFold(o.Key, m[1]+"port") {
			return address.PortOf(o.Text)
		}
	}
	return 0
}
