// Package ecosystem knows the package managers: how a project of each is recognised, what it wants of
// the machine, and how it installs, builds, serves, migrates and tests. One file for each manager.
package ecosystem

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strconv"
	"strings"

	"nimbleharbor/internal/stack"
)

// Folder is one folder of a workspace, with the names of the plain files in it.
type Folder struct {
	FS    fs.FS
	Path  string // relative to FS, "." for its root
	Files map[string]bool
}

// Has reports whether the folder holds a file of that name.
func (f Folder) Has(name string) bool { return f.Files[name] }

// At is the place of a file of the folder.
func (f Folder) At(name string, line int) stack.Place {
	return stack.Place{File: path.Join(f.Path, name), Line: line}
}

const maxManifest = 8 << 20

// Read reads a file of the folder; a file of more than 8 MB is refused.
func (f Folder) Read(name string) ([]byte, error) {
	file := path.Join(f.Path, name)
	r, err := f.FS.Open(file)
	if err == nil {
		defer r.Close()
		var data []byte
		data, err = io.ReadAll(io.LimitReader(r, maxManifest+1))
		if err == nil && len(data) <= maxManifest {
			return data, nil
		}
		if err == nil {
			err = fmt.Errorf("it has more than %d MB", maxManifest>>20)
		}
	}
	return nil, &stack.Fault{Kind: stack.Unreadable, Code: "file-unreadable", At: stack.Place{File: file}, Text: "the file can't be read: " + stack.Reason(err), Remedy: "Check its rights and its size.", Cause: err}
}

// Finding is what a manager's reader says of a folder.
type Finding struct {
	Project stack.Project
	Remarks []stack.Remark
}

// Reader recognises one manager's projects. It returns nil for a folder that is none, and a
// *stack.Fault for a manifest that can't be read.
type Reader func(Folder) (*Finding, error)

// Readers are all managers that are known.
var Readers = []Reader{readNpm, readPip, readGo}

// Manifests are the file names that make a folder a project.
var Manifests = []string{"package.json", "requirements.txt", "go.mod"}

// step makes a step of a project in the folder.
func (f Folder) step(role stack.Role, at stack.Place, command ...string) stack.Step {
	return stack.Step{ID: string(role) + ":" + f.Path, Role: role, Command: command, Env: map[string]string{}, At: at}
}

func (f Folder) in(names ...string) []string {
	var out []string
	for _, n := range names {
		if f.Has(n) {
			out = append(out, path.Join(f.Path, n))
		}
	}
	return out
}

// position tells line and column, both from 1, of an offset in a text.
func position(data []byte, offset int64) (line, column int) {
	offset = max(0, min(offset, int64(len(data))))
	before := data[:offset]
	return 1 + bytes.Count(before, []byte("\n")), int(offset) - bytes.LastIndexByte(before, '\n')
}

// parseJSON reads a JSON manifest into out, and tells on which line each key stands; keys of nested
// objects are joined with a dot.
func parseJSON(f Folder, name string, data []byte, out any) (map[string]int, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if err := json.Unmarshal(data, out); err != nil {
		offset := int64(0)
		text := err.Error()
		var syntax *json.SyntaxError
		var kind *json.UnmarshalTypeError
		switch {
		case errors.As(err, &syntax):
			offset = max(0, syntax.Offset-1)
			text = "not valid JSON: " + syntax.Error()
		case errors.As(err, &kind):
			offset = kind.Offset
			text = fmt.Sprintf("%s is %s where another kind of value is expected", kind.Field, kind.Value)
		}
		line, column := position(data, offset)
		lines := strings.Split(string(data), "\n")
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "manifest-syntax", At: f.At(name, line), Column: column, Text: text,
			Line: strings.TrimRight(lines[line-1], "\r"), Remedy: "Correct the file here or just above: often a comma too many or too few."}
	}
	return keyLines(data), nil
}

func keyLines(data []byte) map[string]int {
	lines := map[string]int{}
	d := json.NewDecoder(bytes.NewReader(data))
	var walk func(prefix string, depth int) bool
	walk = func(prefix string, depth int) bool {
		t, err := d.Token()
		if err != nil {
			return false
		}
		delim, ok := t.(json.Delim)
		if !ok {
			return true
		}
		for d.More() {
			at := prefix
			if delim == '{' {
				key, err := d.Token()
				if err != nil {
					return false
				}
				at = key.(string)
				if prefix != "" {
					at = prefix + "." + at
				}
				lines[at], _ = position(data, d.InputOffset())
			}
			if !walk(at, depth+1) {
				return false
			}
		}
		_, err = d.Token()
		return err == nil
	}
	walk("", 0)
	return lines
}

// lineOf finds the first line, from 1, that contains the text; 0 if none does.
func lineOf(data []byte, text string) int {
	i := bytes.Index(data, []byte(text))
	if i < 0 {
		return 0
	}
	line, _ := position(data, int64(i))
	return line
}

var portFlag = regexp.MustCompile(`(?:--port[= ]|-p[= ]|\bPORT=|(?:0\.0\.0\.0|127\.0\.0\.1|localhost):)(\d{2,5})\b`)

// portIn finds the port that a command line names.
func portIn(command string) int {
	if m := portFlag.FindStringSubmatch(command); m != nil {
		return portNumber(m[1])
	}
	return 0
}

func portNumber(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > 65535 {
		return 0
	}
	return n
}

// portByCode looks through source files of the folder for the expression, whose first group is the port.
func (f Folder) portByCode(expr *regexp.Regexp, files ...string) (int, stack.Place) {
	for _, name := range files {
		data, err := f.Read(name)
		if err != nil {
			continue
		}
		if m := expr.FindSubmatchIndex(data); m != nil {
			if port := portNumber(string(data[m[2]:m[3]])); port > 0 {
				line, _ := position(data, int64(m[2]))
				return port, f.At(name, line)
			}
		}
	}
	return 0, stack.Place{}
}

func httpPort(port int, at stack.Place) []stack.Port {
	if port == 0 {
		return nil
	}
	return []stack.Port{{Host: port, Target: port, Transport: "tcp", Speaks: "http", At: at}}
}

// portSetting finds the key PORT in the folder's settings files or their templates.
func (f Folder) portSetting() (int, stack.Place) {
	expr := regexp.MustCompile(`(?m)^(?:export )?PORT=["']?(\d+)`)
	return f.portByCode(expr, ".env.local", ".env", ".env.example", ".env.sample", ".env.template", "env.example")
}
