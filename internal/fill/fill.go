// Package fill decides what each setting of a workspace should hold, and makes the settings files.
package fill

import (
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
	values "nimbleharbor/internal/value"
)

// The origins of a setting's value.
const (
	Kept      = "kept"
	Template  = "template"
	Derived   = "derived"
	Generated = "generated"
	Answered  = "answered"
	Locker    = "locker"
	Missing   = "missing"
)

// Setting is what was decided for one key.
type Setting struct {
	Key    string `json:"key"`
	Line   int    `json:"line"` // in the template, or in the file where that exists
	Origin string `json:"origin"`
	Secret bool   `json:"secret"`
	Remark string `json:"remark"` // the reason, or what is noticed about it
	// Level is stack.Warning for a remark that should not be passed over, else empty.
	Level stack.Level `json:"level,omitempty"`
	// Issued is true for a secret that only a third party can give.
	Issued bool `json:"issued,omitempty"`

	Comment string `json:"-"`
	value   string
	was     string // what the file or the template holds
	there   bool   // the file held it before
	form    string // the form that a made-up value has
	service string // whose password the value is or carries
	user    string // root, if it is not that of the service's usual user
	// dispensable is true where the code does without it, unsaid where nothing says whether an
	// empty one is needed.
	dispensable, unsaid bool
	expands             bool
}

// Value is what the setting will hold. It may be a secret.
func (s *Setting) Value() string { return s.value }

func (s *Setting) remark(level stack.Level, text string, args ...any) {
	if text = fmt.Sprintf(text, args...); s.Remark != "" && s.Remark != text {
		text = s.Remark + "; " + text
	}
	s.Remark = text
	if level != "" {
		s.Level = level
	}
}

// What git knows of a settings file.
const (
	Ignored   = "ignored"
	Untracked = "untracked" // git would take it with the next add
	Tracked   = "tracked"
)

// File is one settings file.
type File struct {
	Path     string    `json:"path"`
	Template string    `json:"template"`
	Format   string    `json:"format"`
	Written  bool      `json:"written"`
	Git      string    `json:"git,omitempty"` // Ignored, Untracked or Tracked; empty outside of any checkout
	Services []string  `json:"services,omitempty"`
	Settings []Setting `json:"settings"`
	Remarks  []string  `json:"remarks,omitempty"`

	present bool
	old     []byte
	source  *settings.Document // what the new content is made from
	stands  bool               // it is copied, with what only stands for values in it
	// what belongs in it is known by what code reads, and by nothing else
	byCode bool
	layers []string
}

// Secret reports whether the file holds a secret.
func (f *File) Secret() bool {
	return slices.ContainsFunc(f.Settings,
		func(s Setting) bool { return s.Secret && s.value != "" })
}

func (f *File) remark(text string, args ...any) {
	f.Remarks = append(f.Remarks, fmt.Sprintf(text, args...))
}

// Unknown is a file that a compose file asks for, that has no template, and of which no code tells
// what it holds.
type Unknown struct {
	Path     string      `json:"path"`
	At       stack.Place `json:"at"`
	Services []string    `json:"services"`
}

// Lack is a setting that only a person can give.
type Lack struct {
	File     string   `json:"file"`
	Key      string   `json:"key"`
	Hint     string   `json:"hint"`
	URL      string   `json:"url"`
	Services []string `json:"services,omitempty"` // that read the file
	Why      string   `json:"why,omitempty"`
	// Skipped is true if a person was asked and has left it open.
	Skipped bool `json:"skipped,omitempty"`
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
	// Unknown are files that must be there and of which nothing says what they hold.
	Unknown []Unknown `json:"unknown,omitempty"`
	Links   []Link    `json:"links"`
	// Remarks are what survey noticed that concerns settings.
	Remarks []stack.Remark `json:"remarks,omitempty"`
	// Waived are the settings that a person has said are to stay empty.
	Waived []Member `json:"waived,omitempty"`
	// Restart are the services that still run with the values of before.
	Restart []string `json:"restart,omitempty"`
}

// Question is a setting that is asked for.
type Question struct {
	File, Key, Hint, URL string
	Why                  string
	Secret               bool
	Services             []string // that read the file
	// Check judges an answer: an error refuses it, a note is worth telling. It shows no value.
	Check func(answer string) (note string, err error)
}

// Options are what a plan is told.
type Options struct {
	Set     map[string]string // KEY or FILE:KEY, from the command line
	Answers map[string]string // the same, from a file
	Only    string            // this file alone; empty for all
	Random  io.Reader         // the source of generated secrets
	Now     time.Time         // for what expires; zero leaves that out

	// Environment gives variables of the shell, which answer what would be asked; nil for none.
	Environment dotenv.Lookup
	// Locker gives an issued secret that was kept before, by the settings file and the key; nil for
	// none.
	Locker func(file, key string) (string, bool)
	// Waived tells that a person wants a setting to stay empty; nil for none.
	Waived func(file, key string) bool
	// Git tells what git knows of a file: Ignored, Untracked, Tracked, or empty; nil for outside of
	// any checkout.
	Git func(file string) string
	// Data tells, by service, of a store of data that exists already, in words that name it; nil
	// for none.
	Data func(service string) string
	// Try asks an endpoint whether it takes an issued secret; nil doesn't try.
	Try func(endpoint, secret string) (verdict string, refused bool)
	// Ask asks a person; an empty answer leaves a question open. Nil asks nobody.
	Ask func([]Question) ([]string, error)
}

// Make plans all settings files of the stack. It writes nothing.
func Make(fsys fs.FS, s *stack.Stack, opt Options) (*Plan, error) {
	m := &maker{fsys: fsys, stack: s, opt: opt,
		plan: &Plan{Schema: "nharbor.fill/1", Files: []File{}, Missing: []Lack{}, Links: []Link{}}}
	m.opening().look()
	var faults stack.Faults
	for _, e := range s.EnvFiles {
		if err := m.opening().open(e); err != nil {
			faults = append(faults, stack.AllFaults(err)...)
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	m.opening().variables()
	if err := m.opening().only(); err != nil {
		return nil, err
	}
	if err := m.giving().given(); err != nil {
		return nil, err
	}
	m.deciding().decide()
	m.deciding().sameVerdict()
	m.deriving().derive()
	if err := m.giving().resolve(); err != nil {
		return nil, err
	}
	m.linking().linkUp()
	m.deciding().notice()
	m.overlay()
	given := map[string]bool{}
	m.each(func(_ *File, s *Setting) { given[s.Key] = true })
	m.plan.Remarks = append(m.plan.Remarks, survey.Unnamed(s.Reads, given)...)
	for _, r := range s.Remarks {
		if r.Code == stack.CodeSettingsModuleMissing {
			m.plan.Remarks = append(m.plan.Remarks, r)
		}
	}
	if opt.Only != "" {
		m.plan.keepOnly(path.Clean(opt.Only))
	}
	m.plan.Complete = len(m.plan.Missing) == 0 && len(m.plan.Unknown) == 0
	return m.plan, nil
}

type maker struct {
	fsys  fs.FS
	stack *stack.Stack
	opt   Options
	plan  *Plan
	facts []facts
	reads map[string]stack.Read // by name, over all projects
	// byFile holds the services that read a settings file.
	byFile map[string][]string
	known  map[string]string // values that were given for a key once

	places  map[Member]place // where each setting stands; for links
	grouped map[place]bool   // what belongs to a service's password already
}

func (m opening) look() {
	m.reads, m.byFile, m.known = map[string]stack.Read{}, map[string][]string{}, map[string]string{}
	for _, r := range m.stack.Reads {
		if known, ok := m.reads[r.Name]; ok {
			r.Must, r.Default = r.Must || known.Must, r.Default && known.Default
			r.At, r.Project = known.At, known.Project
		}
		m.reads[r.Name] = r
	}
	for i := range m.stack.Services {
		v := &m.stack.Services[i]
		for _, ref := range v.EnvFiles {
			m.byFile[ref.Path] = append(m.byFile[ref.Path], v.Name)
		}
	}
	m.facts = factsOf(m.stack)
}

// open reads a file and its template into the plan.
func (m opening) open(e stack.EnvFile) error {
	if e.Format == "" {
		e.Format = settings.FormatOf(e.Path)
	}
	f := File{Path: e.Path, Template: e.Template, Format: e.Format, present: e.Present,
		Services: m.byFile[e.Path], layers: e.Layers, Settings: []Setting{}}
	if m.opt.Git != nil {
		f.Git = m.opt.Git(e.Path)
	}
	var template *settings.Document
	var err error
	if e.Template != "" {
		if template, _, err = m.document(e.Template, e.Format); err != nil {
			return err
		}
	}
	if f.source = template; !e.WantedAt.IsZero() && !e.Present {
		f.source = m.wanted(&f, e)
		if len(f.source.Entries) == 0 {
			m.plan.Unknown = append(m.plan.Unknown,
				Unknown{Path: e.Path, At: e.WantedAt, Services: f.Services})
			return nil
		}
	}
	old := map[string]bool{}
	if e.Present {
		if f.source, f.old, err = m.document(e.Path, e.Format); err != nil {
			return err
		}
		for _, s := range f.source.Entries {
			old[s.Key] = true
		}
		if err := m.addNew(&f, template); err != nil {
			return err
		}
	}
	f.Format = f.source.Format
	if f.Format == settings.Other && !f.present {
		placeholders(&f)
	}
	m.list(&f, template, old)
	m.plan.Files = append(m.plan.Files, f)
	return nil
}

// document reads a settings file, to be changed, and gives its bytes as they are.
func (m opening) document(name string, format string) (*settings.Document, []byte, error) {
	d, err := settings.Read(m.fsys, name, format)
	if dotenv.Unread(err) {
		return nil, nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvUnreadable,
			At:     stack.Place{File: name},
			Text:   "the settings file can't be read: " + stack.Reason(err),
			Remedy: "Check its rights.", Cause: err}
	}
	if err != nil {
		return nil, nil, err
	}
	return d.Clone(), d.Bytes(), nil
}

// addNew adds what is new in the template of a file that is there, which may be nil.
func (m opening) addNew(f *File, template *settings.Document) error {
	if template == nil || template.Format != f.source.Format {
		return nil
	}
	m.deciding().obsolete(f, template)
	added, err := f.source.AddFrom(template)
	if err != nil {
		return err
	}
	if len(added) > 0 {
		f.remark("new in %s and added at their place: %s", f.Template, strings.Join(added, ", "))
	}
	return nil
}

// list lists a file's settings, each once with its last value. Old are the keys that were there.
func (m opening) list(f *File, template *settings.Document, old map[string]bool) {
	seen := map[string]bool{}
	for _, s := range f.source.Entries {
		if seen[s.Key] {
			continue
		}
		seen[s.Key] = true
		last, _ := f.source.Get(s.Key)
		set := Setting{Key: s.Key, Line: last.Line, Comment: last.Comment,
			Secret: values.IsSecret(s.Key, last.Value), Origin: Template, value: last.Value,
			was: last.Value, there: old[s.Key], expands: last.Expands}
		if template != nil {
			if t, ok := template.Get(s.Key); ok && t.Comment != "" {
				set.Comment = t.Comment
			}
			m.deciding().templateSecret(&set, template)
		}
		duplicates(&set, f.source)
		f.Settings = append(f.Settings, set)
	}
}

// wanted makes the source of a file that a compose file asks for, without a template: what the code
// of the services that read it reads, and nobody else gives.
func (m opening) wanted(f *File, e stack.EnvFile) *settings.Document {
	f.byCode = true
	var lines []string
	for _, r := range e.Wants {
		lines = append(lines, fmt.Sprintf("# %s:%d asks for it.\n%s=\n", r.At.File, r.At.Line,
			r.Name))
	}
	for _, name := range f.Services {
		v := m.stack.Service(name)
		if key := protocol.MustHave(v.Image, v.Env); key != "" && v.Build == "" {
			lines = append(lines, fmt.Sprintf("# %s does not start without it.\n%s=\n", v.Image,
				key))
		}
		for _, r := range m.stack.Reads {
			if _, given := v.Env[r.Name]; given || r.Default && !values.IsSecret(r.Name, "") ||
				v.Build == "" || r.Project != v.Build && r.Project != v.Project {
				continue
			}
			lines = append(lines, fmt.Sprintf("# %s:%d reads it.\n%s=\n", r.At.File, r.At.Line,
				r.Name))
		}
	}
	if e.Wants == nil {
		slices.Sort(lines)
	}
	d, err := settings.Parse(f.Path, settings.Env, []byte(strings.Join(slices.Compact(lines), "")))
	if err != nil {
		d, _ = settings.Parse(f.Path, settings.Env, nil)
	}
	if e.Wants != nil {
		f.remark("it has no template: these are what the code asks for, %s:%d first",
			e.WantedAt.File, e.WantedAt.Line)
		return d
	}
	f.remark("%s:%d asks for it, and it has no template: these are what is known to be read",
		e.WantedAt.File, e.WantedAt.Line)
	return d
}

// variables adds what compose files take from a settings file and nobody gives.
func (m opening) variables() {
	for _, v := range m.stack.Variables {
		secret := values.IsSecret(v.Name, "")
		if !secret && !v.Required {
			continue
		}
		i := slices.IndexFunc(m.plan.Files, func(f File) bool { return f.Path == v.File })
		if i < 0 {
			i = len(m.plan.Files)
			m.newFile(v.File)
		}
		f := &m.plan.Files[i]
		if slices.ContainsFunc(f.Settings, func(s Setting) bool { return s.Key == v.Name }) {
			continue
		}
		f.Settings = append(f.Settings,
			Setting{Key: v.Name, Line: 0, Secret: secret, Origin: Template, Comment: v.Says,
				Remark: fmt.Sprintf("%s:%d takes it from here", v.At.File, v.At.Line)})
	}
}

// newFile adds a file to the plan that neither exists nor has a template.
func (m opening) newFile(name string) *File {
	empty, _ := settings.Parse(name, settings.Env, nil)
	f := File{Path: name, Format: settings.Env, source: empty, Services: m.byFile[name],
		Settings: []Setting{}}
	if m.opt.Git != nil {
		f.Git = m.opt.Git(name)
	}
	m.plan.Files = append(m.plan.Files, f)
	return &m.plan.Files[len(m.plan.Files)-1]
}

// only makes sure that the one file that was asked for is there.
func (m opening) only() error {
	name := path.Clean(m.opt.Only)
	if m.opt.Only == "" || slices.ContainsFunc(m.plan.Files,
		func(f File) bool { return f.Path == name }) {
		return nil
	}
	if !fs.ValidPath(name) {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFileOutside,
			Text:   fmt.Sprintf("%s lies outside the workspace", m.opt.Only),
			Remedy: "Name a settings file of this workspace, relative to its top."}
	}
	if _, err := fs.Stat(m.fsys, name); err == nil {
		return m.open(stack.EnvFile{Path: name, Format: settings.FormatOf(name), Present: true})
	}
	m.newFile(name).Format = settings.Env
	return nil
}

// Insists reports whether the code insists on a value that no settings file and no template names.
func (p *Plan) Insists() bool {
	return slices.ContainsFunc(p.Remarks, func(r stack.Remark) bool {
		return r.Code == stack.CodeVariableInNoTemplate && r.Level == stack.Warning
	})
}

// ByCodeAlone reports whether all files are yet to be made, and hold what code asks for, since no
// template says what belongs in them.
func (p *Plan) ByCodeAlone() bool {
	code := func(f File) bool { return f.byCode }
	return slices.ContainsFunc(p.Files, code) && !slices.ContainsFunc(p.Files,
		func(f File) bool { return f.present || f.Template != "" })
}

// Lacks reports whether a program wants its settings from a file that isn't there, and that isn't
// filled either.
func (p *Plan) Lacks() bool {
	return slices.ContainsFunc(p.Remarks,
		func(r stack.Remark) bool { return r.Level == stack.Problem })
}

// Loose is what a person should look at, though nothing is known to be missing. Standing are the
// keys whose values, as they came from a template, only stand for others; Empty those without a
// value of which nothing says whether it is needed; Copied the files that are copied with what only
// stands for values in them. What the code does without is none of them.
type Loose struct{ Standing, Empty, Copied []string }

// Loose is what a person should look at, though nothing is known to be missing.
func (p *Plan) Loose() (out Loose) {
	for i := range p.Files {
		f := &p.Files[i]
		if f.stands {
			out.Copied = append(out.Copied, f.Path)
		}
		for k := range f.Settings {
			s := &f.Settings[k]
			switch {
			case s.dispensable, s.Origin != Template && s.Origin != Kept:
			case s.value == "" && s.unsaid:
				out.Empty = append(out.Empty, s.Key)
			case values.StandsFor(s.Key, s.value):
				out.Standing = append(out.Standing, s.Key)
			}
		}
	}
	return out
}

// keepOnly drops all files but one, and what is said of the others.
func (p *Plan) keepOnly(name string) {
	p.Files = slices.DeleteFunc(p.Files,
		func(f File) bool { return f.Path != name && f.Template != name })
	p.Missing = slices.DeleteFunc(p.Missing, func(l Lack) bool { return l.File != name })
	p.Links = slices.DeleteFunc(p.Links, func(l Link) bool {
		return !slices.ContainsFunc(l.Members, func(m Member) bool { return m.File == name })
	})
}

// place points at one setting of the plan.
type place struct{ file, setting int }

func (m *maker) at(p place) *Setting { return &m.plan.Files[p.file].Settings[p.setting] }

// each calls f for every setting.
func (m *maker) each(f func(*File, *Setting)) {
	for i := range m.plan.Files {
		for k := range m.plan.Files[i].Settings {
			f(&m.plan.Files[i], &m.plan.Files[i].Settings[k])
		}
	}
}
