package ecosystem

import (
	"bytes"
	"path"
	"strings"

	"github.com/tailscale/hujson"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	sdkLine     = expr.New(`(?m)^(java|maven|gradle)=([\d.]+)`)
	fromLine    = expr.New(`(?mi)^\s*FROM\s+(?:--platform=\S+\s+)?([\w./-]+):v?(\d+(?:\.\d+)*)`)
	workflowKey = expr.New(`^\s*-?\s*([a-z]+)-version:\s*['"]?\[?['"]?v?(\d+(?:\.\d+)*)`)
)

// maxVersions is how many lines are read of a list of versions: one for each tool there is, and
// more.
const maxVersions = 500

// ToolVersions reads the files that pin tools for a folder and all below it.
func (f Folder) ToolVersions() []stack.Runtime {
	var out []stack.Runtime
	add := func(name, version string, at stack.Place) {
		tool := toolCalled(name)
		version = strings.TrimPrefix(version, "v")
		for i, r := range version {
			if (r < '0' || r > '9') && r != '.' {
				version = strings.TrimRight(version[:i], ".")
				break
			}
		}
		if tool != "" && version != "" {
			out = append(out, pins(tool, version, at))
		}
	}
	lines := strings.Split(f.text(".tool-versions"), "\n")
	for i, line := range lines[:min(len(lines), maxVersions)] {
		if fields := strings.Fields(strings.SplitN(line, "#", 2)[0]); len(fields) > 1 {
			version := fields[1]
			if _, after, ok := strings.Cut(version, "-"); ok && fields[0] == "java" {
				version = after
			}
			add(fields[0], version, f.At(".tool-versions", i+1))
		}
	}
	for _, name := range []string{"mise.toml", ".mise.toml"} {
		f.toolTable(name, add)
	}
	text := f.text(".sdkmanrc")
	for _, m := range sdkLine.FindAllStringSubmatchIndex(text, -1) {
		line, _ := position([]byte(text), int64(m[0]))
		add(text[m[2]:m[3]], text[m[4]:m[5]], f.At(".sdkmanrc", line))
	}
	return out
}

// toolTable adds the versions of a file with a table [tools].
func (f Folder) toolTable(name string, add func(tool, version string, at stack.Place)) {
	var m struct{ Tools map[string]any }
	text := f.text(name)
	if text == "" || parseTOML(f, name, []byte(text), &m) != nil {
		return
	}
	for _, tool := range sortedKeys(m.Tools) {
		if v, ok := m.Tools[tool].(string); ok {
			add(tool, v, f.lineWith(name, tool))
		}
	}
}

// Hints are the versions that a folder's Dockerfile and its build server's files use. They ask
// nothing of this machine.
func (f Folder) Hints(files []string) []stack.Runtime {
	var out []stack.Runtime
	for _, name := range files {
		text := f.text(name)
		if strings.HasPrefix(path.Base(name), "Dockerfile") {
			for _, m := range fromLine.FindAllStringSubmatchIndex(text, -1) {
				tool := toolIn(strings.ToLower(text[m[2]:m[3]]))
				line, _ := position([]byte(text), int64(m[2]))
				if tool != "" {
					hint := pins(tool, text[m[4]:m[5]], f.At(name, line))
					hint.Hint = true
					out = append(out, hint)
				}
			}
			continue
		}
		for i, line := range strings.Split(text, "\n") {
			if m := workflowKey.FindStringSubmatch(line); m != nil && !strings.Contains(line, ",") {
				tool := toolCalled(m[1])
				if tool == "" {
					continue
				}
				hint := pins(tool, m[2], f.At(name, i+1))
				hint.Hint = true
				out = append(out, hint)
			}
		}
	}
	return out
}

// DevContainer is what matters of a dev container's definition (containers.dev, the reference of
// devcontainer.json).
type DevContainer struct {
	At       stack.Place
	Image    string
	Ports    []int
	Commands []string // what it runs after the container is made
}

// DevContainer reads the folder's dev container definition; nil if it has none.
func (f Folder) DevContainer() (*DevContainer, error) {
	name := ""
	for _, n := range []string{".devcontainer/devcontainer.json", ".devcontainer.json"} {
		if f.exists(n) {
			name = n
			break
		}
	}
	if name == "" {
		return nil, nil
	}
	data, err := f.Read(name)
	if err != nil {
		return nil, err
	}
	var d struct {
		Image    string `json:"image"`
		Ports    []any  `json:"forwardPorts"`
		OnCreate any    `json:"onCreateCommand"`
		Update   any    `json:"updateContentCommand"`
		Post     any    `json:"postCreateCommand"`
		Start    any    `json:"postStartCommand"`
	}
	// Comments and commas at the end of lists become blanks, so that every place stays where it
	// was.
	if plain, err := hujson.Standardize(bytes.Clone(data)); err == nil {
		data = plain
	}
	if _, err := parseJSON(f, name, data, &d); err != nil {
		return nil, err
	}
	out := &DevContainer{At: f.At(name, 1), Image: d.Image}
	for _, p := range d.Ports {
		if n, ok := p.(float64); ok {
			out.Ports = append(out.Ports, int(n))
		}
	}
	for _, c := range []any{d.OnCreate, d.Update, d.Post, d.Start} {
		out.Commands = append(out.Commands, devCommands(c)...)
	}
	return out, nil
}

// devCommands reads a command: a line, a list of words, or an object of either that run side by
// side.
func devCommands(c any) []string {
	switch c := c.(type) {
	case string:
		return []string{c}
	case []any:
		var words []string
		for _, w := range c {
			if s, ok := w.(string); ok {
				words = append(words, s)
			}
		}
		return []string{strings.Join(words, " ")}
	case map[string]any:
		var out []string
		for _, k := range sortedKeys(c) {
			out = append(out, devCommands(c[k])...)
		}
		return out
	}
	return nil
}
