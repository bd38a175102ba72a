package fill

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Content gives what the file will hold, with everything that wasn't decided anew byte for byte as
// it was. Missing settings stay as they are in the template.
func (f *File) Content() ([]byte, error) {
	changes := map[string]string{}
	for _, s := range f.Settings {
		if was, ok := f.source.Get(s.Key); s.Origin == Missing || ok && was.Value == s.value {
			continue
		}
		changes[s.Key] = s.value
	}
	out, err := f.source.Edit(changes)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSettingInvalid,
			At:   stack.Place{File: f.Path},
			Text: err.Error(), Remedy: "Name the setting with letters, digits and _ only, or " +
				"edit the file by hand.", Cause: err}
	}
	return out, nil
}

// Contents are what the files will hold that Write would write, by their paths.
func (p *Plan) Contents() (map[string][]byte, error) {
	out := map[string][]byte{}
	for i := range p.Files {
		f := &p.Files[i]
		if f.source == nil {
			continue
		}
		content, err := f.Content()
		if err != nil {
			return nil, err
		}
		if f.present && bytes.Equal(content, f.old) ||
			!f.present && len(content) == 0 && f.Template == "" {
			continue
		}
		out[f.Path] = content
	}
	return out, nil
}

// Write makes the files below root, each at once or not at all, readable by this user alone. A file
// whose content would not change is left untouched.
func (p *Plan) Write(root string) error {
	contents, err := p.Contents() // nothing is written unless everything can be
	if err != nil {
		return err
	}
	for i := range p.Files {
		f := &p.Files[i]
		content, changes := contents[f.Path]
		if !changes {
			continue
		}
		name, err := target(root, f.Path)
		if err != nil {
			return err
		}
		if f.present {
			if err := keepOld(root, f); err != nil {
				return err
			}
		} else if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			return unwritable(f, err)
		}
		if err := workspace.WriteFile(name, content, 0o600); err != nil {
			return unwritable(f, err)
		}
		f.Written = true
	}
	return nil
}

func unwritable(f *File, err error) error {
	return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvUnwritable,
		At:   stack.Place{File: f.Path},
		Text: "the settings file can't be written: " + stack.Reason(err),
		Remedy: "Check the folder's rights and the free space. What was there before is " +
			"unchanged.", Cause: err}
}

// target is the file to write: the one of that path or, where that is a symbolic link, what the
// link leads to, so that the link stays one. Nothing outside of the workspace is ever a target.
func target(root, file string) (string, error) {
	fault := func(text string) error {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvLink,
			At: stack.Place{File: file}, Text: text,
			Remedy: "Replace the link by a file, or edit what it points at yourself."}
	}
	realRoot, err := filepath.EvalSymlinks(root)
	if err != nil {
		return "", err
	}
	within := func(name string) bool {
		rel, err := filepath.Rel(realRoot, name)
		return err == nil && filepath.IsLocal(rel)
	}
	name := filepath.Join(root, filepath.FromSlash(file))
	if info, err := os.Lstat(name); err == nil && info.Mode()&os.ModeSymlink != 0 {
		to, err := filepath.EvalSymlinks(name)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return "", fault("the settings file is a symbolic link that leads nowhere")
		case err != nil || !within(to):
			return "", fault("the settings file is a symbolic link that leads out of the workspace")
		}
		return to, nil
	}
	// Of a folder that is not there yet, the nearest one that is decides.
	dir := filepath.Dir(name)
	for {
		real, err := filepath.EvalSymlinks(dir)
		if errors.Is(err, fs.ErrNotExist) && dir != filepath.Dir(dir) && dir != root {
			dir = filepath.Dir(dir)
			continue
		}
		if err != nil {
			return "", fault("the folder of the settings file can't be found: " + stack.Reason(err))
		}
		if !within(real) {
			return "", fault("the folder of the settings file lies outside the workspace")
		}
		return name, nil
	}
}

// keepOld puts what a file held before into the workspace's state, readable by this user alone.
func keepOld(root string, f *File) error {
	dir, err := workspace.MakeStateDir(root, "before", filepath.Dir(filepath.FromSlash(f.Path)))
	if err == nil {
		err = workspace.WriteFile(filepath.Join(dir, filepath.Base(f.Path)), f.old, 0o600)
	}
	if err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeEnvNotKept,
			At:   stack.Place{File: f.Path},
			Text: "what the file holds can't be kept before it is changed: " + stack.Reason(err),
			Remedy: "Check the free space and the rights of .nharbor. Nothing was " +
				"changed.", Cause: err}
	}
	return nil
}
