package plan

import (
	"io/fs"
	"slices"
	"strings"

	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// learn keeps a secret's value, so that logs can hide it. Short ones would hide ordinary words.
func (m *mixer) learn(key, value string) {
	if !values.IsSecret(key, value) {
		return
	}
	inside := false
	for _, pw := range []string{values.PasswordOf(value), values.WrittenPassword(value)} {
		if inside = inside || pw != ""; len(pw) >= 6 {
			m.secrets[pw] = true
		}
	}
	if !inside && len(value) >= 6 {
		m.secrets[value] = true
		// A text of several lines is shown line by line.
		for line := range strings.Lines(value) {
			if line = strings.TrimSpace(line); len(line) >= 16 && line != value &&
				!strings.HasPrefix(line, "-----") {
				m.secrets[line] = true
			}
		}
	}
}

// learnFiles keeps the secrets of the settings files that no service is known to read: a program
// may read them itself.
func (m *mixer) learnFiles(s *stack.Stack) {
	for _, e := range s.EnvFiles {
		if !e.Present {
			continue
		}
		d, err := settings.Read(m.files, e.Path, e.Format)
		if err != nil {
			continue
		}
		for _, entry := range d.Entries {
			if !values.Placeholder(entry.Value) {
				m.learn(entry.Key, entry.Value)
			}
		}
	}
}

// learnHanded keeps what a container, or a build, is handed as a secret, where it is a line: logs
// hide it.
func (m *mixer) learnHanded(c *stack.ContainerSpec) {
	for _, h := range slices.Concat(c.Handed, c.BuildHands) {
		text := h.Content
		if h.File != "" && fs.ValidPath(h.File) {
			data, err := fs.ReadFile(m.files, h.File)
			if err != nil || len(data) > longestSecret {
				continue
			}
			text = string(data)
		}
		if text = strings.TrimSpace(text); h.Secret && len(text) >= 6 &&
			!strings.Contains(text, "\n") {
			m.secrets[text] = true
		}
	}
}

// longestSecret is how many bytes a file may have that is taken for a secret of one line.
const longestSecret = 4096
