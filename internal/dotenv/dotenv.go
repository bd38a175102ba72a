// Package dotenv reads environment files and edits them without loss: whatever an edit does not
// concern stays as it was, byte for byte.
//
// The format is the one that the Compose Specification describes for env_file and that the common
// loaders share: one KEY=VALUE a line, an optional "export " before it, comments with #, values bare,
// in single quotes (literal) or in double quotes (with escapes), quoted ones over several lines.
package dotenv

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

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
	if bytes.IndexByte(data, 0) >= 0 {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "env-binary", At: stack.Place{File: name},
			Text: "this is a binary file, not a settings file", Remedy: "Move it away, or name it differently."}
	}
	p := parser{file: f, line: 1}
	p.parse()
	if len(p.faults) > 0 {
		return nil, p.faults
	}
	return f, nil
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

// Set changes the value of every occurrence of key, or appends the key if the file lacks it. The new
// value reads back as given: it is quoted where it must be.
func (f *File) Set(key, value string) error {
	if !validKey(key) {
		return fmt.Errorf("%q can't be a setting's name", key)
	}
	var out []byte
	last, found := 0, false
	for i := range f.Settings {
		s := &f.Settings[i]
		if s.Key != key {
			continue
		}
		found = true
		out = append(out, f.data[last:s.start]...)
		if !s.HasValue {
			out = append(out, '=')
		}
		out = append(out, quoted(value, s.quote)...)
		last = s.end
	}
	if found {
		out = append(out, f.data[last:]...)
	} else {
		out = f.lineAppended(key + "=" + quoted(value, 0))
	}
	return f.become(out)
}

// Append adds lines (comments, a setting) at the end, in the file's own line ends.
func (f *File) Append(lines ...string) error {
	next := f
	for _, line := range lines {
		next = &File{Name: f.Name, data: next.lineAppended(line)}
	}
	return f.become(next.data)
}

func (f *File) become(data []byte) error {
	next, err := Parse(f.Name, data)
	if err != nil {
		return err
	}
	*f = *next
	return nil
}

func (f *File) lineAppended(line string) []byte {
	end := "\n"
	if bytes.Contains(f.data, []byte("\r\n")) {
		end = "\r\n"
	}
	out := append([]byte(nil), f.data...)
	if len(out) > 0 && !bytes.HasSuffix(out, []byte("\n")) {
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
			if err != nil {
				faults = append(faults, &stack.Fault{Kind: stack.Unreadable, Code: "env-variable", At: stack.Place{File: f.Name, Line: s.Line},
					Text: fmt.Sprintf("%s: %v", s.Key, err), Remedy: "Correct the expression, or put the value in single quotes to keep it as it is."})
				continue
			}
			values[s.Key] = v
		}
	}
	if len(faults) > 0 {
		return nil, faults
	}
	return values, nil
}

// quoted writes a value so that it reads back the same, keeping the quotes it had where they serve.
func quoted(value string, was byte) string {
	single := !strings.Contains(value, "'")
	switch {
	case was == '\'' && single:
		return "'" + value + "'"
	case was == 0 && plain(value):
		return value
	case strings.Contains(value, "$") && single:
		return "'" + value + "'"
	}
	r := strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\r", `\r`, "$", `\$`)
	return `"` + r.Replace(value) + `"`
}

func plain(value string) bool {
	return !strings.ContainsAny(value, " \t\r\n\"'#$\\`") && utf8.ValidString(value)
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

// RawValues reads a file in the format that the Compose Specification calls raw: KEY=VALUE a line, the
// value as it stands, with its quotes and dollar signs; lines that begin with # and empty ones count for
// nothing. A bare key is taken from env.
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
