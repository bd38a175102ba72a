// Package fill decides what each setting of a workspace should hold, and makes the settings files.
package fill

import (
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
)

// The origins of a setting's value.
const (
	Kept      = "kept"
	Template  = "template"
	Derived   = "derived"
	Generated = "generated"
	Answered  = "answered"
	Missing   = "missing"
)

// Setting is what was decided for one key.
type Setting struct {
	Key    string `json:"key"`
	Line   int    `json:"line"` // in the template, or in the file where that exists
	Origin string `json:"origin"`
	Secret bool   `json:"secret"`
	Remark string `json:"remark"`

	Comment string `json:"-"`
	value   string
}

// Value is what the setting will hold. It may be a secret.
func (s *Setting) Value() string { return s.value }

// File is one settings file.
type File struct {
	Path     string    `json:"path"`
	Template string    `json:"template"`
	Written  bool      `json:"written"`
	Settings []Setting `json:"settings"`
	Remarks  []string  `json:"remarks,omitempty"`

	present bool
	old     []byte
	source  *dotenv.File // what the new content is made from
}

// Lack is a setting that only a person can give.
type Lack struct {
	File string `json:"file"`
	Key  string `json:"key"`
	Hint string `json:"hint"`
	URL  string `json:"url"`
}

// Member is one place of a link.
type Member struct {
	File string `json:"file"`
	Key  string `json:"key"`
}

// Link is settings that hold one and the same secret.
type Link struct {
	Name    string   `json:"name"`
	Members []Member `json:"members"`
}

// Plan is the answer of the command fill: contract nharbor.fill/1.
type Plan struct {
	Schema   string `json:"schema"`
	Complete bool   `json:"complete"`
	Files    []File `json:"files"`
	Missing  []Lack `json:"missing"`
	Links    []Link `json:"links"`
}

// Question is a setting that is asked for.
type Question struct {
	File, Key, Hint, URL string
	Secret               bool
	Services             []string // that read the file
}

// Options are what a plan is told.
type Options struct {
	Set     map[string]string // KEY or FILE:KEY, from the command line
	Answers map[string]string // the same, from a file
	Only    string            // this file alone; empty for all
	Random  io.Reader         // the source of generated secrets
	// Ask asks a person; ok is false when the question is left open. Nil asks nobody.
	Ask func(Question) (value string, ok bool, err error)
}

// Make plans all settings files of the stack. It writes nothing.
func Make(fsys fs.FS, s *stack.Stack, opt Options) (*Plan, error) {
	m := maker{fsys: fsys, stack: s, opt: opt, plan: &Plan{Schema: "nharbor.fill/1"}, committed: map[string]bool{}}
	for _, v := range s.Services {
		for key, value := range v.Env {
			if v.EnvLiteral[key] && value != "" && dotenv.IsSecret(key, value) {
				m.committed[value] = true
			}
		}
	}
	for _, e := range s.EnvFiles {
		if opt.Only != "" && path.Clean(opt.Only) != e.Path {
			continue
		}
		if err := m.open(e); err != nil {
			return nil, err
		}
	}
	if opt.Only != "" && len(m.plan.Files) == 0 {
		if !fs.ValidPath(path.Clean(opt.Only)) {
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: "file-outside", Text: fmt.Sprintf("%s lies outside the workspace", opt.Only), Remedy: "Name a settings file of this workspace, relative to its top."}
		}
		f, _ := dotenv.Parse(opt.Only, nil)
		m.plan.Files = append(m.plan.Files, File{Path: path.Clean(opt.Only), source: f})
	}
	m.decide()
	m.linkUp()
	if err := m.given(); err != nil {
		return nil, err
	}
	if err := m.ask(); err != nil {
		return nil, err
	}
	m.plan.Complete = len(m.plan.Missing) == 0
	return m.plan, nil
}

type maker struct {
	fsys  fs.FS
	stack *stack.Stack
	opt   Options
	plan  *Plan
	// committed are the values of secrets that compose files hold themselves, not by a variable. They stay.
	committed map[string]bool
}

// open reads a file and its template into the plan.
func (m *maker) open(e stack.EnvFile) error {
	f := File{Path: e.Path, Template: e.Template, present: e.Present}
	read := func(name string) (*dotenv.File, []byte, error) {
		data, err := fs.ReadFile(m.fsys, name)
		if err != nil {
			return nil, nil, &stack.Fault{Kind: stack.Unreadable, Code: "env-unreadable", At: stack.Place{File: name}, Text: "the settings file can't be read: " + stack.Reason(err), Remedy: "Check its rights.", Cause: err}
		}
		parsed, err := dotenv.Parse(name, data)
		return parsed, data, err
	}
	var template *dotenv.File
	var err error
	if e.Template != "" {
		if template, _, err = read(e.Template); err != nil {
			return err
		}
	}
	f.source = template
	if e.Present {
		if f.source, f.old, err = read(e.Path); err != nil {
			return err
		}
		if template != nil {
			if err := addNew(f.source, template, &f); err != nil {
				return err
			}
		}
	}
	seen := map[string]bool{}
	for _, s := range f.source.Settings {
		if seen[s.Key] {
			continue
		}
		seen[s.Key] = true
		last, _ := f.source.Get(s.Key)
		set := Setting{Key: s.Key, Line: last.Line, Comment: last.Comment, Secret: dotenv.IsSecret(s.Key, last.Value), Origin: Template, value: last.Value}
		if template != nil {
			if t, ok := template.Get(s.Key); ok && t.Comment != "" {
				set.Comment = t.Comment
			}
		}
		f.Settings = append(f.Settings, set)
	}
	m.plan.Files = append(m.plan.Files, f)
	return nil
}

// addNew appends to an existing file what its template has come to hold since, with the comments.
func addNew(file, template *dotenv.File, f *File) error {
	for _, s := range template.Settings {
		if _, has := file.Get(s.Key); has {
			continue
		}
		var lines []string
		for _, c := range strings.Split(s.Comment, "\n") {
			if c != "" {
				lines = append(lines, "# "+c)
			}
		}
		if err := file.Append(append(lines, s.Key+"=")...); err != nil {
			return err
		}
		if err := file.Set(s.Key, s.Value); err != nil {
			return err
		}
		f.Remarks = append(f.Remarks, fmt.Sprintf("%s is new in the template and was added", s.Key))
	}
	return nil
}

var (
	optional  = regexp.MustCompile(`(?i)\boptional\b|leave (this |it )?empty|not (needed|required)|if (you )?(want|wish)`)
	required  = regexp.MustCompile(`(?i)\b(required|must be set|mandatory|needed)\b`)
	issuedBy  = regexp.MustCompile(`(?i)\b(issued|dashboard|console|sign up|register|request (one|it|a)|get (one|it|yours|a|your)|obtain|account|from your|ask )`)
	issuedKey = regexp.MustCompile(`(?i)(token|api_?key|client_(id|secret)|webhook_secret|license)(_|$)`)
	link      = regexp.MustCompile(`https?://[^\s"'<>)]+[^\s"'<>).,]`)
	weak      = regexp.MustCompile(`(?i)^(password|passwd|pass|secret|postgres|mysql|root|admin|test|dev|development|example|default|guest|1234\d*|qwerty|letmein|foo|bar|app|user)$`)
)

// decide judges every setting by itself.
func (m *maker) decide() {
	for i := range m.plan.Files {
		f := &m.plan.Files[i]
		for k := range f.Settings {
			s := &f.Settings[k]
			empty, stand := s.value == "", survey.Placeholder(s.value)
			switch {
			case f.present && !empty && wasThere(f, s.Key):
				s.Origin = Kept
				if stand && s.Secret {
					s.Remark = "still holds the template's placeholder"
				} else if s.Secret && weak.MatchString(s.value) {
					s.Remark = "a weak default"
				}
			case s.Secret && m.committed[s.value]:
				s.Remark = "the compose file itself holds the same value"
			case s.Secret && isURL(s.value): // judged with the link it may belong to
			case issued(s) && (empty || stand):
				s.Origin = Missing
			case s.Secret && (empty || stand || weak.MatchString(s.value)) && !optional.MatchString(s.Comment):
				s.Origin = Generated
				s.value = generate(m.opt.Random, s.Key, s.Comment)
			case (empty || stand) && required.MatchString(s.Comment) && !optional.MatchString(s.Comment):
				s.Origin = Missing
			case empty && optional.MatchString(s.Comment):
				s.Remark = "optional, left empty"
			case empty:
				s.Remark = "empty in the template, and nothing says that it is needed"
			case stand:
				s.Remark = "looks like a placeholder"
			}
		}
	}
}

// wasThere reports whether the key stood in the file before new ones were added.
func wasThere(f *File, key string) bool {
	old, err := dotenv.Parse(f.Path, f.old)
	if err != nil {
		return false
	}
	_, ok := old.Get(key)
	return ok
}

func issued(s *Setting) bool {
	if optional.MatchString(s.Comment) {
		return false
	}
	return s.Secret && issuedBy.MatchString(s.Comment) && (issuedKey.MatchString(s.Key) || link.MatchString(s.Comment)) ||
		s.Secret && issuedKey.MatchString(s.Key) && !strings.Contains(strings.ToLower(s.Comment), "random")
}

func isURL(v string) bool {
	u, err := url.Parse(v)
	return err == nil && u.Scheme != "" && u.Host != ""
}

// place points at one setting of the plan.
type place struct{ file, setting int }

func (m *maker) at(p place) *Setting { return &m.plan.Files[p.file].Settings[p.setting] }

// templateValue is what the setting held before anything was decided.
func (m *maker) templateValue(p place) string {
	v, _ := m.plan.Files[p.file].source.Get(m.at(p).Key)
	return v.Value
}

var family = []struct{ scheme, key *regexp.Regexp }{
	{regexp.MustCompile(`^(postgres(ql)?|mysql|mariadb|mongodb)`), regexp.MustCompile(`(?i)(^|_)(db|database|postgres|pg|mysql|mariadb|mongo|sql)`)},
	{regexp.MustCompile(`^rediss?`), regexp.MustCompile(`(?i)(^|_)(redis|cache|queue)`)},
	{regexp.MustCompile(`^amqps?`), regexp.MustCompile(`(?i)(^|_)(rabbit(mq)?|amqp|broker|queue)`)},
}

var passwordKey = regexp.MustCompile(`(?i)(^|_)(pass(word|wd)?|pwd)$`)

// linkUp finds the settings that hold one secret, and gives them one value: the same key in several
// files, and the password inside a URL.
func (m *maker) linkUp() {
	byKey := map[string][]place{}
	var urls []place
	for i, f := range m.plan.Files {
		for k, s := range f.Settings {
			p := place{i, k}
			if s.Secret && isURL(m.templateValue(p)) {
				urls = append(urls, p)
			} else if s.Secret {
				byKey[s.Key] = append(byKey[s.Key], p)
			}
		}
	}
	groups := map[string][]place{}
	for key, places := range byKey {
		for _, p := range places {
			if m.templateValue(p) == m.templateValue(places[0]) || m.at(p).Origin == Kept {
				groups[key] = append(groups[key], p)
			}
		}
	}
	for _, p := range urls {
		u, err := url.Parse(m.at(p).value)
		if err != nil || u.User == nil {
			continue
		}
		if pw, _ := u.User.Password(); m.committed[pw] {
			continue
		}
		if key := m.passwordFor(u, byKey); key != "" {
			groups[key] = append(groups[key], p)
		} else if pw, _ := u.User.Password(); survey.Placeholder(pw) {
			m.at(p).Remark = "the password in this address is a placeholder"
		}
	}
	keys := make([]string, 0, len(groups))
	for key := range groups {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	for _, key := range keys {
		m.unify(key, groups[key])
	}
}

// passwordFor finds the key that holds the password of an address.
func (m *maker) passwordFor(u *url.URL, byKey map[string][]place) string {
	pw, _ := u.User.Password()
	best, score := "", 0
	for key, places := range byKey {
		if !passwordKey.MatchString(key) {
			continue
		}
		n := 0
		for _, p := range places {
			if m.templateValue(p) == pw {
				n = 2
			}
		}
		if n == 0 && !survey.Placeholder(pw) && !weak.MatchString(pw) {
			continue
		}
		for _, f := range family {
			if f.scheme.MatchString(u.Scheme) && f.key.MatchString(key) {
				n++
			}
		}
		if n > score || n == score && n > 0 && key < best {
			best, score = key, n
		}
	}
	return best
}

// unify gives the members of a link one value: one that a person has set already, else the first made up.
func (m *maker) unify(key string, places []place) {
	if len(places) < 2 {
		return
	}
	value := ""
	for _, p := range places {
		if s := m.at(p); s.Origin == Kept && !isURL(s.value) && value == "" {
			value = s.value
		}
	}
	for _, p := range places {
		if s := m.at(p); value == "" && !isURL(s.value) {
			value = s.value
		}
	}
	l := Link{Name: key}
	for _, p := range places {
		s := m.at(p)
		l.Members = append(l.Members, Member{m.plan.Files[p.file].Path, s.Key})
		switch {
		case isURL(s.value):
			u, _ := url.Parse(s.value)
			if pw, _ := u.User.Password(); pw == value {
				continue
			}
			if s.Origin == Kept {
				s.Remark = "holds another password than " + key
				continue
			}
			s.value = withPassword(s.value, value)
			s.Origin = Derived
			s.Remark = "takes its password from " + key
		case s.Origin == Kept:
			if s.value != value {
				s.Remark = "differs from " + key + " in " + l.Members[0].File
			}
		case s.value != value:
			s.value = value
			if s.Origin == Generated || s.Origin == Template {
				s.Origin = Derived
				s.Remark = "the same as in " + l.Members[0].File
			}
		}
	}
	m.plan.Links = append(m.plan.Links, l)
}

// withPassword replaces the password in an address, and leaves every other character.
func withPassword(address, password string) string {
	start := strings.Index(address, "://") + 3
	end := start + strings.LastIndexByte(address[start:start+hostEnd(address[start:])], '@')
	user, _, _ := strings.Cut(address[start:end], ":")
	return address[:start] + user + url.UserPassword("", password).String() + address[end:]
}

// hostEnd is where the part before the path ends.
func hostEnd(s string) int {
	if i := strings.IndexAny(s, "/?#"); i >= 0 {
		return i
	}
	return len(s)
}

// given applies --set and the answers.
func (m *maker) given() error {
	for _, source := range []map[string]string{m.opt.Answers, m.opt.Set} {
		for name, value := range source {
			file, key := "", name
			if i := strings.LastIndexByte(name, ':'); i >= 0 {
				file, key = path.Clean(name[:i]), name[i+1:]
			}
			hit := false
			for i := range m.plan.Files {
				f := &m.plan.Files[i]
				if file != "" && f.Path != file {
					continue
				}
				for k := range f.Settings {
					if s := &f.Settings[k]; s.Key == key {
						s.value, s.Origin, s.Remark, hit = value, Answered, "", true
					}
				}
			}
			if hit {
				m.follow(key, value, file)
				continue
			}
			only := m.opt.Only
			if only == "" && file != "" {
				only = file
			}
			if i := slices.IndexFunc(m.plan.Files, func(f File) bool { return f.Path == path.Clean(only) }); only != "" && i >= 0 {
				f := &m.plan.Files[i]
				f.Settings = append(f.Settings, Setting{Key: key, Origin: Answered, Secret: dotenv.IsSecret(key, value), value: value})
				continue
			}
			return &stack.Fault{Kind: stack.WrongCall, Code: "setting-unknown", Text: fmt.Sprintf("no settings file has a key %s", name), Remedy: fmt.Sprintf("To add it to one, name the file: --file FILE --set %s=…", key)}
		}
	}
	return nil
}

// follow lets addresses take over a password that a person has given.
func (m *maker) follow(key, value, file string) {
	for _, l := range m.plan.Links {
		if l.Name != key {
			continue
		}
		for _, member := range l.Members {
			for i := range m.plan.Files {
				for k := range m.plan.Files[i].Settings {
					s := &m.plan.Files[i].Settings[k]
					if m.plan.Files[i].Path != member.File || s.Key != member.Key || s.Origin == Kept {
						continue
					}
					if isURL(s.value) {
						s.value, s.Origin = withPassword(s.value, value), Derived
					} else if file == "" {
						s.value = value
					}
				}
			}
		}
	}
}

// ask asks for what is missing, and lists what stays so.
func (m *maker) ask() error {
	known := map[string]string{}
	for i := range m.plan.Files {
		f := &m.plan.Files[i]
		for k := range f.Settings {
			s := &f.Settings[k]
			if s.Origin != Missing {
				continue
			}
			hint := strings.ReplaceAll(s.Comment, "\n", " ")
			lack := Lack{File: f.Path, Key: s.Key, Hint: hint, URL: link.FindString(hint)}
			if v, ok := known[s.Key]; ok {
				s.value, s.Origin = v, Answered
				continue
			}
			if m.opt.Ask != nil {
				v, ok, err := m.opt.Ask(Question{File: f.Path, Key: s.Key, Hint: hint, URL: lack.URL, Secret: s.Secret, Services: m.readers(f.Path)})
				if err != nil {
					return err
				}
				if ok && v != "" {
					s.value, s.Origin = v, Answered
					known[s.Key] = v
					continue
				}
			}
			m.plan.Missing = append(m.plan.Missing, lack)
		}
	}
	return nil
}

func (m *maker) readers(file string) []string {
	var out []string
	for _, s := range m.stack.Services {
		if slices.ContainsFunc(s.EnvFiles, func(r stack.EnvFileRef) bool { return r.Path == file }) {
			out = append(out, s.Name)
		}
	}
	return out
}
