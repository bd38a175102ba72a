package fill

import (
	"fmt"
	"math"
	"net"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

var (
	// What is said to be required must be the setting: "required scopes" speaks of something else.
	required = expr.New(
		`(?i)\b(required\s*($|[.,;:!)\]*]|(to|for|in|by|when|if|unless|on|at|field|value|setting|variable)\b)|` +
			`(must be set|must set|mandatory|needed|needs? (a|to))\b)`)
	issuedBy = expr.New(
		`(?i)\b(issued|dashboard|console|sign up|register|request (one|it|a)|get (one|it|yours|a|your)|obtain|` +
			`account|from your|ask )`)
	issuedKey = expr.New(
		`(?i)(^|[_.-])(token|api[_.-]?key|client[_.-]?(id|secret)|webhook[_.-]?secret|license([_.-]?key)?|` +
			`consumer[_.-]?(key|secret)|secret[_.-]?access[_.-]?key|access[_.-]?key[_.-]?id|auth[_.-]?token|` +
			`access[_.-]?token|dsn)$`)
	// What stands in for a value that others issue begins as such values do.
	vendorShape = expr.New(`^(?:[a-z]{2,5}_(?:test|live|prod)_|whsec_|xox[abp]-|gh[pousr]_|glpat-|AKIA|AIza|SG\.)`)
	// The public half of what a third party gives.
	issuedID = expr.New(`(?i)(client[_.-]?id|access[_.-]?key[_.-]?id)$`)
	// Tokens and keys that the services of one stack agree on among themselves.
	ownKey = expr.New(
		`(?i)(^|[_.-])(internal|csrf|xsrf|setup|admin|shared|service|session|health|metrics|local|own|jwt|` +
			`cron)([_.-]|$)`)
	link = expr.New(`https?://[^\s"'<>)]+[^\s"'<>).,:]`)
	weak = expr.New(
		`(?i)^(password|passwd|pass|secret|postgres|mysql|root|admin|test|dev|development|example|default|guest|` +
			`1234\d*|qwerty|letmein|foo|bar|app|user|secret[_-]?key|keyboard cat|hunter2|toor|abc123|welcome\d*|` +
			`p[a@]ssw[o0]rd\d*|minioadmin|rabbitmq|redis|mongo|sa|none|null)$`)
)

// decide judges every setting by itself.
func (m deciding) decide() {
	m.each(func(f *File, s *Setting) {
		switch {
		case s.Origin == Answered:
		case s.there && s.value != "":
			m.judgeKept(f, s)
		default:
			m.judge(f, s)
		}
	})
}

// halves are the ends of keys of what a third party gives together: the public half and the secret
// one.
var halves = [][2]string{{"id", "secret"}, {"key_id", "key_secret"},
	{"access_key_id", "secret_access_key"},
	{"key", "secret"}, {"site_key", "secret_key"}, {"public_key",
		"secret_key"}, {"publishable_key", "secret_key"}}

// sameVerdict gives both halves of what a third party gives together one verdict: who needs one
// needs the other.
func (m deciding) sameVerdict() {
	m.each(func(f *File, s *Setting) {
		if s.Origin != Missing || !s.Issued {
			return
		}
		key := strings.ToLower(s.Key)
		for _, h := range halves {
			for i, end := range h {
				prefix, ok := strings.CutSuffix(key, "_"+end)
				if !ok {
					continue
				}
				other := sibling(f, prefix+"_", h[1-i])
				if other != nil && other.value == "" && other.Origin == Template &&
					other.Remark != "" && !values.Waives(other.Comment) {
					other.Origin, other.Issued, other.Remark = Missing, true, ""
				}
			}
		}
	})
}

func (m deciding) judgeKept(f *File, s *Setting) {
	s.Origin = Kept
	stand := values.Placeholder(s.value)
	if stand && !privateKey.MatchString(s.Key) {
		// If it is one that only a person can give, nobody has answered it yet.
		probe := *s
		probe.Origin = Template
		m.judge(f, &probe)
		if probe.Origin == Missing {
			s.Origin, s.Issued = Missing, probe.Issued
			return
		}
	}
	switch {
	case !s.Secret:
		return
	case stand:
		s.remark(stack.Warning, "still holds the template's placeholder; empty it, and fill "+
			"makes one up")
		return
	case weak.MatchString(s.value):
		s.remark("", "a weak default")
	}
	if note, err := m.giving().valid(s, s.value); err != nil {
		s.remark(stack.Warning, "%s", err)
	} else if note != "" {
		s.remark("", "%s", note)
	}
}

// passwordPrefix is what stands before the word for a password in a key; ok is false for a key that
// names none.
func passwordPrefix(key string) (prefix string, ok bool) {
	at := passwordKey.FindStringSubmatchIndex(key)
	if at == nil {
		return "", false
	}
	return key[:at[4]], true
}

// signsIn tells what becomes of a password with which a server is signed in at, unless that server
// is of this stack and has one: what is made up here nobody there would know. It is nil where it
// does not decide.
func (m deciding) signsIn(f *File, s *Setting, empty, stand bool) func() {
	prefix, ok := passwordPrefix(s.Key)
	if !ok {
		return nil
	}
	host := hostBeside(f, prefix)
	if host == nil || m.takenFrom(f, s.Key) {
		return nil
	}
	name, port := host.value, 0
	if h, p, err := net.SplitHostPort(name); err == nil {
		name = h
		port, _ = strconv.Atoi(p)
	} else if p := sibling(f, prefix, "port"); p != nil {
		port, _ = strconv.Atoi(p.value)
	}
	here := false // whether the stack has a server that could be meant
	for _, k := range m.deriving().kindsFor(f, prefix) {
		here = here || slices.ContainsFunc(m.facts, func(c facts) bool { return c.kind == k.Name })
		c, _ := m.deriving().meant(m.deriving().readerOf(f), k, name, or(port, k.Ports[0]))
		switch {
		case c == nil:
			continue
		case c.hasPassword():
			return nil
		}
		return func() {
			if stand {
				s.value, s.Origin = "", Derived
			}
			s.remark("", "%s asks for no password", c.svc.Name)
		}
	}
	return signsInElsewhere(s, host, empty, stand, here)
}

// hostBeside is the setting of the host that a password's prefix belongs to, also EMAIL_HOST beside
// EMAIL_HOST_PASSWORD; nil for none.
func hostBeside(f *File, prefix string) *Setting {
	if host := sibling(f, prefix, "host", "hostname", "server", "address", "addr"); host != nil {
		return host
	}
	if url := sibling(f, prefix, "url", "uri", "endpoint"); url != nil && url.value == "" {
		return url
	}
	name := strings.TrimRight(prefix, "_.-")
	if _, ok := hostPrefix(name); name != "" && ok {
		return sibling(f, name, "")
	}
	about, _, several := strings.Cut(prefix, "_")
	for i := range f.Settings {
		if o := &f.Settings[i]; several && strings.HasPrefix(o.Key, about+"_") &&
			mailHost.MatchString(o.value) {
			return o
		}
	}
	return nil
}

// mailHost is the name of somebody's server of mails, which gives the passwords for it itself.
var mailHost = expr.New(`(?i)^(smtp|mail|imap)[\w-]*(\.[\w-]+)+$`)

// signsInElsewhere is what a password comes to for a server that is not of the stack; here tells
// that the stack has one that could be meant all the same.
func signsInElsewhere(s, host *Setting, empty, stand, here bool) func() {
	placeholder := values.Placeholder(host.value)
	switch {
	case host.value != "" && placeholder && !here:
		return func() {
			s.remark("", "not made up: %s only stands for a server elsewhere", host.Key)
		}
	case host.value == "" && empty && !here:
		return func() { s.remark("", "left empty: %s names no server", host.Key) }
	case host.value == "" || placeholder:
	case stand:
		return func() { s.Origin = Missing }
	case empty:
		return func() {
			s.remark("", "left empty: %s is not of this stack, and nothing says that it wants one",
				host.value)
		}
	case !here:
		return func() { s.remark("", "kept: the server at %s is not of this stack", host.value) }
	}
	return nil
}

// takenFrom reports whether a compose file or a database takes its password from the key.
func (m deciding) takenFrom(f *File, key string) bool {
	return slices.ContainsFunc(m.facts, func(c facts) bool {
		return c.passwordFrom == key && (c.passwordFile == "" || c.passwordFile == f.Path)
	})
}

// variable reports whether a compose file can't be read without the setting.
func (m deciding) variable(f *File, s *Setting) bool {
	return slices.ContainsFunc(m.stack.Variables, func(v stack.Variable) bool {
		return v.Required && v.Name == s.Key && v.File == f.Path
	})
}

// issued reports whether only a third party can give the secret.
func (m deciding) issued(f *File, s *Setting) bool {
	r := rule.First(issuedRules, &asked{deciding: m, f: f, s: s,
		say: strings.ToLower(s.Comment), by: issuedBy.MatchString(s.Comment),
		named: issuedKey.MatchString(s.Key)})
	return r != nil && r.Then
}

// asked is a setting of which it is asked whether a third party gives its value: its comment in
// lower case, whether that names one, and whether the key's name speaks of one.
type asked struct {
	deciding
	f         *File
	s         *Setting
	say       string
	by, named bool
}

// issuedRules tell whether a third party gives a setting's value; the first that holds decides.
var issuedRules = []rule.Rule[*asked, bool]{
	// it opens a file that somebody has closed with it
	issuedIf("the key of a closed file", func(a *asked) bool {
		return a.s.Key == "RAILS_MASTER_KEY" &&
			a.exists(path.Join(path.Dir(a.f.Path), "config/credentials.yml.enc"))
	}, true),
	issuedIf("the key of no file", func(a *asked) bool { return a.s.Key == "RAILS_MASTER_KEY" },
		false),
	issuedIf("no secret", func(a *asked) bool {
		return !a.s.Secret && !(issuedID.MatchString(a.s.Key) && a.by)
	}, false),
	issuedIf("optional", func(a *asked) bool { return values.Waives(a.s.Comment) }, false),
	issuedIf("a form that is asked for", func(a *asked) bool {
		return asksForm.MatchString(a.say) && !issuedBy.MatchString(a.say)
	}, false),
	issuedIf("the second half of what a third party gives", func(a *asked) bool {
		id, ok := strings.CutSuffix(strings.ToUpper(a.s.Key), "_SECRET")
		return ok && sibling(a.f, id, "_ID", "_CLIENT_ID") != nil
	}, true),
	issuedIf("a comment that names a third party", func(a *asked) bool {
		return a.by && (a.named || link.MatchString(a.s.Comment))
	}, true),
	issuedIf("the shape of a third party's value", func(a *asked) bool {
		return vendorShape.MatchString(a.s.was)
	}, true),
	// those of the first may be a store of the stack's own
	issuedIf("a third party's name", func(a *asked) bool {
		return slices.ContainsFunc(choices[1:],
			func(c choice) bool { return c.vendor.MatchString(a.s.Key) })
	}, true),
	issuedIf("a name of what third parties give", func(a *asked) bool {
		return a.named && !ownKey.MatchString(a.s.Key) && !strings.Contains(a.say, "random")
	}, true),
}

func issuedIf(name string, when func(*asked) bool, is bool) rule.Rule[*asked, bool] {
	return rule.Rule[*asked, bool]{Name: name, When: when, Then: is}
}

func (m deciding) exists(file string) bool {
	f, err := m.fsys.Open(file)
	if err != nil {
		return false
	}
	f.Close()
	return true
}

// duplicates notices a key that stands several times with different values.
func duplicates(s *Setting, d *settings.Document) {
	if d.Times(s.Key) < 2 {
		return
	}
	var lines []string
	differ := false
	for _, e := range d.Entries {
		if e.Key == s.Key {
			lines = append(lines, fmt.Sprint(e.Line))
			differ = differ || e.Value != s.value
		}
	}
	if len(lines) > 1 && differ {
		s.remark(stack.Warning, "stands on the lines %s with different values; the last one counts",
			strings.Join(lines, ", "))
	}
}

// templateSecret notices a template that holds what looks like a real secret.
func (m deciding) templateSecret(s *Setting, template *settings.Document) {
	t, ok := template.Get(s.Key)
	if !ok || !s.Secret || isCarrier(t.Value) || t.Expands {
		return
	}
	switch {
	case s.there && s.value != "" && s.value == t.Value && !values.Placeholder(t.Value) &&
		!weak.MatchString(t.Value):
		s.remark(stack.Warning, "the same as in %s, which everybody with the repository can read",
			template.Name)
	case !s.there && realLooking(t.Value):
		s.remark(stack.Warning, "%s:%d holds what looks like a real secret; everybody with the "+
			"repository can read it", template.Name, t.Line)
	}
}

// realLooking reports whether a value is long and irregular enough to be a secret that is in use.
func realLooking(v string) bool {
	if strings.Contains(v, "PRIVATE KEY-----\n") {
		return true
	}
	if len(v) < 16 || values.Placeholder(v) || strings.ContainsAny(v, " ") || link.MatchString(v) {
		return false
	}
	count := map[rune]int{}
	digits, letters := 0, 0
	for _, c := range v {
		count[c]++
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z':
			letters++
		}
	}
	bits := 0.0
	for _, n := range count {
		p := float64(n) / float64(len(v))
		bits -= p * math.Log2(p)
	}
	return digits > 1 && letters > 1 && bits >= 3.2
}

// obsolete names what the template does not hold, and the code doesn't read.
func (m deciding) obsolete(f *File, template *settings.Document) {
	var names []string
	for _, e := range f.source.Entries {
		_, in := template.Get(e.Key)
		_, read := m.reads[e.Key]
		if !in && !read && !slices.Contains(names, e.Key) {
			names = append(names, e.Key)
		}
	}
	if len(names) > 0 {
		f.remark("not in %s, so your own or no longer used; kept: %s", f.Template,
			strings.Join(names, ", "))
	}
}

var quotedText = expr.New(`["'` + "`" + `]([^"'` + "`" + `\n]{3,80})["'` + "`" + `]`)

// placeholders names the lines of a copied file that still want a value.
func placeholders(f *File) {
	var lines []string
	for i, line := range strings.Split(string(f.source.Bytes()), "\n") {
		for _, m := range quotedText.FindAllStringSubmatch(line, -1) {
			if values.Placeholder(m[1]) {
				lines = append(lines, fmt.Sprint(i+1))
				break
			}
		}
	}
	f.remark("copied as it is: nharbor sets no values in files of this kind")
	if f.stands = len(lines) > 0; f.stands {
		f.remark("look at what seems to stand for a value of yours on line %s", strings.Join(lines, ", "))
	}
}

// notice says what only shows when every setting has its value.
func (m deciding) notice() {
	m.each(func(f *File, s *Setting) {
		for _, later := range m.after(f) {
			for _, o := range later.Settings {
				if o.Key == s.Key && o.value != "" && o.value != s.value && o.there {
					s.warn(&diagnose.Setting{Key: s.Key, Later: later.Path, Line: o.Line})
				}
			}
		}
		changed := s.Origin == Generated || s.Origin == Answered && s.there && s.value != s.was
		if changed && s.service != "" && m.opt.Data != nil {
			s.warn(&diagnose.Setting{Key: s.Key, Service: s.service, Store: m.opt.Data(s.service), Changed: true})
		}
	})
}

// warn says what is wrong with the setting, if anything is.
func (s *Setting) warn(known *diagnose.Setting) {
	if f := known.Explain(); f.Code != "" {
		s.remark(stack.Warning, "%s", f.Cause)
	}
}

// after lists the files that the framework reads on top of one.
func (m *maker) after(f *File) []*File {
	var out []*File
	at := slices.Index(f.layers, f.Path)
	if at < 0 {
		return nil
	}
	for _, name := range f.layers[at+1:] {
		for i := range m.plan.Files {
			if o := &m.plan.Files[i]; o.Path == name && o.present {
				out = append(out, o)
			}
		}
	}
	return out
}

var madeByTool = expr.New(
	`(?i)\b(do not edit|don't edit|automatically generated|auto-?generated|generated (by|from|automatically)|changes ` +
		`will be (lost|overwritten))\b`)

// overlay moves new values out of a file that a tool makes or that git keeps, into the layer on top
// that the framework reads and that is this person's own.
func (m *maker) overlay() {
	for i := range m.plan.Files {
		f := &m.plan.Files[i]
		var moved []Setting
		for _, s := range f.Settings {
			if s.value != s.was && s.Origin != Missing {
				moved = append(moved, s)
			}
		}
		if len(moved) == 0 || !f.present {
			continue
		}
		made := madeByTool.Match(f.old[:min(len(f.old), 600)])
		if !made && f.Git != Tracked {
			continue
		}
		why := "git keeps it"
		if made {
			why = "a tool makes it anew"
		}
		to := path.Join(path.Dir(f.Path), ".env.local")
		if at := slices.Index(f.layers, f.Path); at < 0 || !slices.Contains(f.layers[at+1:], to) {
			if made {
				f.remark("%s, and there is no layer on top of it: what is set here can be lost", why)
			}
			continue
		}
		m.moveTo(i, to, why)
	}
}

func (m *maker) moveTo(from int, to, why string) {
	k := slices.IndexFunc(m.plan.Files, func(f File) bool { return f.Path == to })
	if k < 0 {
		m.opening().newFile(to)
		k = len(m.plan.Files) - 1
		m.plan.Files[k].Template = m.plan.Files[from].Path
	}
	f, target := &m.plan.Files[from], &m.plan.Files[k]
	for i := range f.Settings {
		s := &f.Settings[i]
		if s.value == s.was || s.Origin == Missing {
			continue
		}
		moved := *s
		moved.there, moved.was = false, ""
		if own := slices.IndexFunc(target.Settings, func(o Setting) bool { return o.Key == s.Key }); own < 0 {
			moved.remark("", "on top of %s, since %s", f.Path, why)
			target.Settings = append(target.Settings, moved)
		}
		s.value, s.Origin, s.Level = s.was, Kept, ""
		s.Remark = "set in " + to + " instead"
	}
	f.remark("left as it is, since %s; what is new stands in %s", why, to)
}
