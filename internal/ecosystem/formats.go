package ecosystem

import (
	"encoding/json"
	"encoding/xml"
	"errors"
	"maps"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v4"

	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// anyMap is an object of which only the values that are texts matter; it reads as empty where
// another kind of value stands.
type anyMap map[string]string

// UnmarshalJSON takes texts as they are and anything else as a mark that the key is there.
func (m *anyMap) UnmarshalJSON(data []byte) error {
	var raw map[string]any
	if json.Unmarshal(data, &raw) != nil {
		return nil
	}
	*m = make(anyMap, len(raw))
	for k, v := range raw {
		text, ok := v.(string)
		if !ok || text == "" {
			text = "*"
		}
		(*m)[k] = text
	}
	return nil
}

// workspaces are a list of patterns, or an object that holds one.
type workspaces []string

// UnmarshalJSON reads both forms.
func (w *workspaces) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, (*[]string)(w)) == nil {
		return nil
	}
	var long struct{ Packages []string }
	if json.Unmarshal(data, &long) == nil {
		*w = long.Packages
	}
	return nil
}

func parseYAML(data []byte, out any) error { return yaml.Unmarshal(data, out) }

// parseTOML reads a TOML manifest; its fault tells the place.
func parseTOML(f Folder, name string, data []byte, out any) error {
	err := reading.TOML(data)
	if err == nil {
		err = toml.Unmarshal(data, out)
	}
	if err == nil {
		return nil
	}
	fault := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax, At: f.At(name, 1),
		Text: "not valid TOML: " + strings.TrimPrefix(err.Error(),
			"toml: "), Remedy: "Correct the file at this place or just above it.", Cause: err}
	var at *toml.DecodeError
	if errors.As(err, &at) {
		fault.At.Line, fault.Column = at.Position()
		if lines := strings.Split(string(data), "\n"); fault.At.Line <= len(lines) {
			fault.Line = value.Excerpt(strings.TrimRight(lines[fault.At.Line-1], "\r"))
		}
	}
	return fault
}

// parseXML reads an XML manifest; its fault tells the line.
func parseXML(f Folder, name string, data []byte, out any) error {
	err := xml.Unmarshal(data, out)
	if err == nil {
		return nil
	}
	fault := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeManifestSyntax, At: f.At(name, 1),
		Text: "not valid XML: " +
			err.Error(), Remedy: "Correct the file at this place or just above it.", Cause: err}
	var at *xml.SyntaxError
	if errors.As(err, &at) {
		fault.At.Line, fault.Text = at.Line, "not valid XML: "+at.Msg
		if lines := strings.Split(string(data), "\n"); at.Line >= 1 && at.Line <= len(lines) {
			fault.Line = strings.TrimRight(lines[at.Line-1], "\r")
		}
	}
	return fault
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// lineWith is the place of the first line of the file that contains the text; the file as a whole
// if none does.
func (f Folder) lineWith(name, text string) stack.Place {
	data, err := f.Read(name)
	if err != nil {
		return f.At(name, 0)
	}
	return f.At(name, lineOf(data, text))
}
