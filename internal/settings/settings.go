// Package settings reads settings files of several formats and edits them without loss: whatever an
// edit does not concern stays as it was, byte for byte.
package settings

import (
	"bytes"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
)

// The formats.
const (
	Env        = "dotenv"
	JSON       = "json" // with comments and trailing commas
	YAML       = "yaml"
	TOML       = "toml"
	Properties = "properties"
	Other      = "other" // copied as a whole, not read
)

// formats are those with levels, by their names, the endings of their files, and what reads and
// edits them. One more is a name, a line here and its file.
var formats = []struct {
	name    string
	endings []string
	how     format
}{
	{JSON, []string{".json", ".jsonc", ".json5"}, jsonFormat{}},
	{YAML, []string{".yml", ".yaml"}, yamlFormat{}},
	{TOML, []string{".toml"}, tomlFormat{}},
	{Properties, []string{".properties"}, propertiesFormat{}},
}

// code are endings of programs, which are not env files even if they are called so.
var code = []string{".js", ".mjs", ".cjs", ".ts", ".php", ".rb", ".py", ".exs"}

// FormatOf tells a file's format by its name.
func FormatOf(name string) string {
	base := path.Base(name)
	ending := path.Ext(base)
	for _, f := range formats {
		if slices.Contains(f.endings, ending) {
			return f.name
		}
	}
	if strings.Contains(base, "env") && !slices.Contains(code, ending) {
		return Env
	}
	return Other
}

// Entry is one setting.
type Entry struct {
	Key     string // in formats with levels the keys of all of them, with dots between
	Value   string
	Line    int    // from 1
	Comment string // the comment directly above and the one behind, without their signs
	// Expands is true for a value in which variables are replaced by others' values.
	Expands bool

	form       form
	start, end int // of the value as it is written
}

// form is how a value is written.
type form int

const (
	text  form = iota // in the format's usual quotes, or without where it needs none
	bare              // a number, true, false or nothing
	fixed             // in a way that can't be changed in place
)

// Document is a settings file that was read.
type Document struct {
	Name, Format string
	Entries      []Entry

	data []byte
	env  *dotenv.File // for the format Env
	how  format       // for those with levels
	keys *keys        // of Entries
}

// keys tell where the keys of a document stand. They are looked for when they are first asked for.
type keys struct {
	once  sync.Once
	last  map[string]int
	times map[string]int
}

func (d *Document) lookUp() *keys {
	if d.keys == nil { // one that a test has put together
		d.keys = &keys{}
	}
	k := d.keys
	k.once.Do(func() {
		k.last, k.times = make(map[string]int, len(d.Entries)), make(map[string]int, len(d.Entries))
		for i := range d.Entries {
			k.last[d.Entries[i].Key] = i
			k.times[d.Entries[i].Key]++
		}
	})
	return k
}

// Times is how often a key stands in the document.
func (d *Document) Times(key string) int { return d.lookUp().times[key] }

// format is what one of the formats with levels knows.
type format interface {
	// read finds the entries; its error says where.
	read(name string, data []byte) ([]Entry, error)
	// write gives the value as it is to stand in the place of the entry's.
	write(e *Entry, value string) (string, error)
	// add puts what the template has and the file lacks into the file, as far as the file's form
	// allows.
	add(file, template []byte, missing []string) ([]byte, error)
}

// Parse reads a file. Its faults come back together as stack.Faults, or one as a *stack.Fault, with
// no value of the file in them. A file of the format Other has no entries.
func Parse(name, kind string, data []byte) (*Document, error) {
	d := &Document{Name: name, Format: kind, data: data, keys: &keys{}}
	if kind == Env {
		f, err := dotenv.Parse(name, data)
		if err != nil {
			return nil, err
		}
		d.become(f)
		return d, nil
	}
	if len(data) > dotenv.MaxSize {
		return nil, dotenv.TooLarge(name, len(data))
	}
	if bytes.IndexByte(data, 0) >= 0 {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvBinary,
			At:   stack.Place{File: name},
			Text: "this is a binary file, not a settings file", Remedy: "Move it away, or name " +
				"it differently."}
	}
	for _, f := range formats {
		if f.name == kind {
			d.how = f.how
		}
	}
	if d.how == nil {
		return d, nil
	}
	// it ends lines, and no reader agrees with another on their numbers
	if kind == YAML && loneReturn(data) {
		return &Document{Name: name, Format: Other, data: data, keys: &keys{}}, nil
	}
	var err error
	if d.Entries, err = d.how.read(name, data); err == nil {
		// What has no name can't be asked for.
		d.Entries = slices.DeleteFunc(d.Entries, func(e Entry) bool { return e.Key == "" })
		return d, nil
	}
	if bytes.Contains(data, []byte("<%")) || bytes.Contains(data, []byte("{%")) {
		// A program makes the file from this one; it is no file of its format yet.
		return &Document{Name: name, Format: Other, data: data, keys: &keys{}}, nil
	}
	return nil, err
}

// loneReturn reports whether a carriage return stands without its line feed.
func loneReturn(data []byte) bool {
	for i, c := range data {
		if c == '\r' && (i+1 == len(data) || data[i+1] != '\n') {
			return true
		}
	}
	return false
}

// Read reads and parses a file of a file system. What was parsed of a reading.Files is kept: Clone
// it before an edit. The error is that of the reading, as dotenv.Unread tells, or Parse's.
func Read(fsys fs.FS, name, kind string) (*Document, error) {
	return reading.Once(fsys, name, "settings "+kind,
		func(data []byte) (*Document, error) { return Parse(name, kind, data) })
}

// Clone is a copy that can be edited without a change of the original.
func (d *Document) Clone() *Document {
	out := *d
	out.Entries, out.keys = slices.Clone(d.Entries), &keys{}
	if d.env != nil {
		env := *d.env
		env.Settings = slices.Clone(d.env.Settings)
		out.env = &env
	}
	return &out
}

func (d *Document) become(f *dotenv.File) {
	d.env, d.data = f, f.Bytes()
	d.Entries, d.keys = make([]Entry, len(f.Settings)), &keys{}
	for i, s := range f.Settings {
		d.Entries[i] = Entry{Key: s.Key, Value: s.Value, Line: s.Line, Comment: s.Comment,
			Expands: !s.Literal && strings.Contains(s.Value, "$")}
	}
}

// Bytes gives the file's content.
func (d *Document) Bytes() []byte { return d.data }

// Get returns the entry with the key; of several the last, which is the one that counts.
func (d *Document) Get(key string) (*Entry, bool) {
	if i, found := d.lookUp().last[key]; found {
		return &d.Entries[i], true
	}
	return nil, false
}

// Edit gives the content with other values. Keys that the file lacks are added to env and
// properties files; in a format with levels they are an error. The new values read back as given.
func (d *Document) Edit(changes map[string]string) ([]byte, error) {
	if len(changes) == 0 {
		return d.data, nil
	}
	if d.Format == Env {
		f := *d.env
		err := f.Edit(changes)
		return f.Bytes(), err
	}
	if d.how == nil {
		return nil, fmt.Errorf("%s is copied as it is; nharbor does not set values in files of "+
			"this kind", d.Name)
	}
	found := map[string]bool{}
	var out []byte
	last := 0
	for i := range d.Entries {
		e := &d.Entries[i]
		value, wanted := changes[e.Key]
		if !wanted {
			continue
		}
		found[e.Key] = true
		written, err := "",
			fmt.Errorf("%s:%d: the value of %s is written in a way that can't be changed in "+
				"place; edit it by hand", d.Name, e.Line, e.Key)
		if e.form != fixed {
			written, err = d.how.write(e, value)
		}
		if err != nil {
			return nil, err
		}
		out = append(append(out, d.data[last:e.start]...), written...)
		last = e.end
	}
	out = append(out, d.data[last:]...)
	for key, value := range changes {
		if found[key] {
			continue
		}
		if d.Format != Properties {
			return nil, fmt.Errorf("%s has no key %s", d.Name, key)
		}
		out = append(ended(out), propertiesFormat{}.line(key, value)...)
	}
	return out, nil
}

// AddFrom adds what the template has and the file lacks, each with its comment, behind the nearest
// setting above it that both have. It returns the keys that were added.
func (d *Document) AddFrom(template *Document) ([]string, error) {
	if d.Format == Env {
		added, err := d.env.AddFrom(template.env)
		if err == nil && len(added) > 0 {
			d.become(d.env)
		}
		return added, err
	}
	if d.how == nil {
		return nil, nil
	}
	have := map[string]bool{}
	for _, e := range d.Entries {
		have[e.Key], have[list(e.Key)] = true, true
	}
	var missing []string
	for _, e := range template.Entries {
		key := list(e.Key)
		if d.Format == Properties {
			key = e.Key // its keys have dots, and no levels
		}
		if key != "" && !have[key] {
			have[key] = true
			missing = append(missing, key)
		}
	}
	if len(missing) == 0 {
		return nil, nil
	}
	data, err := d.how.add(d.data, template.data, missing)
	if err != nil {
		return nil, err
	}
	next, err := Parse(d.Name, d.Format, data)
	if err != nil {
		return nil, fmt.Errorf("adding the new settings of %s to %s: %w", template.Name, d.Name,
			err)
	}
	var added []string
	for _, e := range next.Entries {
		if _, had := d.Get(e.Key); !had {
			added = append(added, e.Key)
		}
	}
	*d = *next
	return added, nil
}

// list is the key itself or, of an item of a list, the list's.
func list(key string) string {
	if at := listed.FindStringIndex(key); at != nil {
		return key[:at[0]]
	}
	return key
}

// Values gives the settings in effect, as a program sees them that reads the file; of an env file
// with its variables replaced, from env and the settings above.
func (d *Document) Values(env dotenv.Lookup) (map[string]string, error) {
	if d.Format == Env {
		return d.env.Values(env)
	}
	out := make(map[string]string, len(d.Entries))
	for _, e := range d.Entries {
		out[e.Key] = e.Value
	}
	return out, nil
}

// withComment is the first line, from 1, of the comment directly above a line, or the line itself.
func withComment(lines []string, line int) int {
	for line > 1 && strings.HasPrefix(strings.TrimSpace(lines[line-2]), "#") {
		line--
	}
	return line
}

func ended(data []byte) []byte {
	if len(data) > 0 && data[len(data)-1] != '\n' {
		return append(data, lineEnd(data)...)
	}
	return data
}

func lineEnd(data []byte) string {
	if bytes.Contains(data, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

// lineAt is the line of a byte, from 1, and its column in bytes, from 1.
func lineAt(data []byte, at int) (line, column int) {
	at = min(at, len(data))
	return 1 + bytes.Count(data[:at], []byte("\n")), at - bytes.LastIndexByte(data[:at], '\n')
}

func unreadable(name, kind string, line, column int, why string) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeSettingsSyntax,
		At:     stack.Place{File: name, Line: line},
		Column: column, Text: "this is not valid " + kind + ": " + why, Remedy: "Correct the line."}
}
