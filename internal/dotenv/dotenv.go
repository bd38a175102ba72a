// Package dotenv reads environment files and edits them without loss: whatever an edit does not
// concern stays as it was, byte for byte.
//
// The format is the one that the Compose Specification describes for env_file and that the common
// loaders share: one KEY=VALUE a line, an optional "export " before it, comments with #, values
// bare, in single quotes (literal) or in double quotes (with escapes), quoted ones over several
// lines.
package dotenv

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
)

// Setting is one KEY=VALUE of a file.
type Setting struct {
	Key      string
	Value    string // unquoted and unescaped, variables not expanded
	HasValue bool   // false for a bare KEY, which takes its value from the environment
	Literal  bool   // in single quotes: variables in it are not expanded
	Line     int    // from 1
	Comment  string // the comment lines directly above and the one behind, without their signs

	quote      byte
	start, end int // of the value with its quotes, in the file's bytes
	from, next int // of its lines, with the comment lines above
}

// File is a parsed file. Its bytes are kept; Bytes gives them back with all edits.
type File struct {
	Name     string
	Settings []Setting
	data     []byte
}

// Parse reads an environment file; name is only for messages. All its faults come back together,
// as stack.Faults, with no value of the file in them.
func Parse(name string, data []byte) (*File, error) {
	f := &File{Name: name, data: data}
	if len(data) > MaxSize {
		return nil, TooLarge(name, len(data))
	}
	if bytes.IndexByte(data, 0) >= 0 {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvBinary,
			At:   stack.Place{File: name},
			Text: "this is a binary file, not a settings file", Remedy: "Move it away, or name " +
				"it differently."}
	}
	p := parser{file: f, line: 1}
	p.parse()
	if len(p.faults) > 0 {
		return nil, p.faults
	}
	return f, nil
}

// Read reads and parses a file of a file system. What was parsed of a reading.Files is kept, and
// not to be changed. The error is that of the reading, for which Unread is true, or Parse's.
func Read(fsys fs.FS, name string) (*File, error) {
	return reading.Once(fsys, name, "env",
		func(data []byte) (*File, error) { return Parse(name, data) })
}

// Unread reports whether a file could not be read, so that nothing is known of what it holds.
func Unread(err error) bool {
	var p *fs.PathError
	return errors.As(err, &p)
}

// MaxSize is the size in bytes beyond which a file is taken for anything but settings.
const MaxSize = 4 << 20

// TooLarge is the fault of a settings file beyond MaxSize.
func TooLarge(name string, size int) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvTooLarge,
		At: stack.Place{File: name},
		Text: fmt.Sprintf("with %d MB this is too large for a settings file, which has %d MB at "+
			"most", size>>20, MaxSize>>20), Remedy: "Move it away, or name it differently."}
}

// Bytes gives the file's content.
func (f *File) Bytes() []byte { return f.data }

// Get returns the setting with the key; of several the last, which is the one that counts.
func (f *File) Get(key string) (*Setting, bool) {
	for i := len(f.Settings) - 1; i >= 0; i-- {
		if f.Settings[i].Key == key {
			return &f.Settings[i], true
		}
	}
	return nil, false
}

// Set changes the value of every occurrence of key, or appends the key if the file lacks it. The
// new value reads back as given: it is quoted where it must be.
func (f *File) Set(key, value string) error {
	return f.Edit(map[string]string{key: value})
}

// Edit sets several keys at once, as Set does; keys that the file lacks are appended by name.
func (f *File) Edit(changes map[string]string) error {
	for key := range changes {
		if !validKey(key) {
			return fmt.Errorf("%q can't be a setting's name", key)
		}
	}
	out := make([]byte, 0, len(f.data)+256)
	last, found := 0, map[string]bool{}
	for i := range f.Settings {
		s := &f.Settings[i]
		value, wanted := changes[s.Key]
		if !wanted {
			continue
		}
		found[s.Key] = true
		out = append(out, f.data[last:s.start]...)
		if !s.HasValue {
			out = append(out, '=')
		}
		out = append(out, quoted(value, s.quote)...)
		last = s.end
	}
	out = append(out, f.data[last:]...)
	for _, key := range slices.Sorted(maps.Keys(changes)) {
		if !found[key] {
			out = f.lineAppended(out, key+"="+quoted(changes[key], 0))
		}
	}
	return f.become(out)
}

// AddFrom adds what the template has and the file lacks: each setting with its comment, as it is
// written there, behind the nearest setting above it that both have. It returns the keys that were
// added.
func (f *File) AddFrom(template *File) ([]string, error) {
	var added []string
	behind := map[int][]byte{} // where in the file, what
	at := f.top()
	for i := range template.Settings {
		s := &template.Settings[i]
		if own, has := f.Get(s.Key); has {
			at = own.next
			continue
		}
		if slices.Contains(added, s.Key) {
			continue
		}
		text := strings.TrimRight(string(template.data[s.from:s.next]), "\r\n")
		for _, line := range strings.Split(text, "\n") {
			behind[at] = append(append(behind[at], strings.TrimRight(line, "\r")...),
				f.lineEnd()...)
		}
		added = append(added, s.Key)
	}
	if len(added) == 0 {
		return nil, nil
	}
	var out []byte
	last := 0
	for _, p := range slices.Sorted(maps.Keys(behind)) {
		out = append(out, f.data[last:p]...)
		if len(out) > 0 && out[len(out)-1] != '\n' && string(out) != "\xef\xbb\xbf" {
			out = append(out, f.lineEnd()...)
		}
		out = append(out, behind[p]...)
		last = p
	}
	return added, f.become(append(out, f.data[last:]...))
}

// top is where the first setting could stand: behind a byte order mark and the comment that heads
// the file.
func (f *File) top() int {
	if len(f.Settings) > 0 {
		return f.Settings[0].from
	}
	return len(f.data)
}

func (f *File) lineEnd() string {
	if bytes.Contains(f.data, []byte("\r\n")) {
		return "\r\n"
	}
	return "\n"
}

func (f *File) become(data []byte) error {
	next, err := Parse(f.Name, data)
	if err != nil {
		return err
	}
	*f = *next
	return nil
}

func (f *File) lineAppended(out []byte, line string) []byte {
	end := f.lineEnd()
	if len(out) > 0 && out[len(out)-1] != '\n' {
		out = append(out, end...)
	}
	return append(append(out, line...), end...)
}

// Values gives the settings in effect: the last of equal keys wins, variables are expanded from the
// settings above and then from env, and a bare key is taken from env.
func (f *File) Values(env Lookup) (map[string]string, error) {
	values := make(map[string]string, len(f.Settings))
	lookup := func(name string) (string, bool) {
		if v, ok := env(name); ok {
			return v, true
		}
		v, ok := values[name]
		return v, ok
	}
	var faults stack.Faults
	total := 0
	for _, s := range f.Settings {
		switch {
		case !s.HasValue:
			if v, ok := env(s.Key); ok {
				values[s.Key] = v
			}
		case s.Literal:
			values[s.Key] = s.Value
		default:
			v, _, err := Expand(s.Value, lookup)
			if total += len(v); err == nil && total > maxTotal {
				err = fmt.Errorf("the values of the file grow beyond %d bytes", maxTotal)
			}
			if err != nil {
				faults = append(faults, &stack.Fault{Kind: stack.Unreadable,
					Code: stack.CodeEnvVariable, At: stack.Place{File: f.Name,
						Line: s.Line}, Column: s.start - bytes.LastIndexByte(
						f.data[:s.start], '\n'), Text: fmt.Sprintf("%s: %v", s.Key, err),
					Remedy: "Correct the expression, or put the value in single quotes to keep " +
						"it as it is."})
				continue
			}
			values[s.Key] = v
		}
		if total > maxTotal {
			break
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return values, nil
}

// Loose is a variable without a value, and without a default, that a setting is put together from.
type Loose struct {
	Key, Variable string
	Line          int
}

// LooseEnds finds the settings that lose a part because a variable has no value: a dollar sign that
// is meant as one, in a password or its hash, reads like the beginning of a variable.
func (f *File) LooseEnds(env Lookup) (out []Loose) {
	known := map[string]bool{}
	for _, s := range f.Settings {
		if s.HasValue && !s.Literal {
			_, uses, err := Expand(s.Value, func(name string) (string, bool) {
				if v, ok := env(name); ok {
					return v, true
				}
				return "x", known[name]
			})
			for _, u := range uses {
				if err == nil && !u.Set && !u.Backed {
					out = append(out, Loose{s.Key, u.Name, s.Line})
				}
			}
		}
		known[s.Key] = true
	}
	return out
}

// maxTotal is how many bytes the values of a file may come to, once variables are put in.
const maxTotal = 16 << 20

// quoted writes a value so that it reads back the same, keeping the quotes it had where they serve.
func quoted(value string, was byte) string {
	single := !strings.Contains(value, "'")
	switch {
	case was == '\'' && single:
		return "'" + value + "'"
	case was == 0 && plain(value):
		return value
	case strings.ContainsAny(value, "$`") && single:
		return "'" + value + "'"
	}
	r := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "$", `\$`, "`", "\\`")
	return `"` + r.Replace(value) + `"`
}

// plain reports whether a value needs no quotes: neither for those who read env files nor for a
// shell that reads one as its own lines, as many scripts have it do.
func plain(value string) bool {
	return !strings.ContainsAny(value, " \t\r\n\"'#$\\`;&|()<>") && !strings.HasPrefix(value, "~") &&
		utf8.ValidString(value)
}

func validKey(key string) bool {
	for i := 0; i < len(key); i++ {
		c := key[i]
		if !nameStart(c) && (i == 0 || !(c >= '0' && c <= '9' || c == '.' || c == '-')) {
			return false
		}
	}
	return key != ""
}

// RawValues reads a file in the format that the Compose Specification calls raw: KEY=VALUE a line,
// the value as it stands, with its quotes and dollar signs; lines that begin with # and empty ones
// count for nothing. A bare key is taken from env.
func RawValues(data []byte, env Lookup) map[string]string {
	out := map[string]string{}
	for line := range strings.Lines(strings.TrimPrefix(string(data), "\xef\xbb\xbf")) {
		line = strings.TrimRight(line, "\r\n")
		if line == "" || line[0] == '#' {
			continue
		}
		if key, value, ok := strings.Cut(line, "="); ok {
			out[key] = value
		} else if v, set := env(line); set {
			out[line] = v
		}
	}
	return out
}
