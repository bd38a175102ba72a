package fill

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Content gives what the file will hold, with everything that wasn't decided anew byte for byte as it
// was. Missing settings stay as they are in the template.
func (f *File) Content() ([]byte, error) {
	out := *f.source
	for _, s := range f.Settings {
		if was, ok := out.Get(s.Key); s.Origin == Missing || ok && was.Value == s.value {
			continue
		}
		if err := out.Set(s.Key, s.value); err != nil {
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: "setting-invalid", At: stack.Place{File: f.Path}, Text: err.Error(), Remedy: "Name the setting with letters, digits and _ only.", Cause: err}
		}
	}
	return out.Bytes(), nil
}

// Write makes the files below root, each at once or not at all, readable by this user alone. A file
// whose content would not change is left untouched.
func (p *Plan) Write(root string) error {
	for i := range p.Files {
		f := &p.Files[i]
		if f.source == nil {
			continue
		}
		data, err := f.Content()
		if err != nil {
			return err
		}
		if f.present && bytes.Equal(data, f.old) {
			continue
		}
		name := filepath.Join(root, filepath.FromSlash(f.Path))
		if err := inside(root, name); err != nil {
			return err
		}
		if f.present {
			if err := keepOld(root, f); err != nil {
				return err
			}
		}
		if err := workspace.WriteFile(name, data, 0o600); err != nil {
			return &stack.Fault{Kind: stack.Unreadable, Code: "env-unwritable", At: stack.Place{File: f.Path}, Text: "the settings file can't be written: " + stack.Reason(err), Remedy: "Check the folder's rights and the free space. What was there before is unchanged.", Cause: err}
		}
		f.Written = true
	}
	return nil
}

// inside refuses a file that a symbolic link would lead out of the workspace, and any that is a link itself.
func inside(root, name string) error {
	fault := func(text string) error {
		return &stack.Fault{Kind: stack.Unreadable, Code: "env-link", At: stack.Place{File: name}, Text: text, Remedy: "Replace the link by a file, or edit what it points at yourself."}
	}
	if info, err := os.Lstat(name); err == nil && info.Mode()&os.ModeSymlink != 0 {
		return fault("the settings file is a symbolic link, which is not written through")
	}
	realRoot, err := filepath.EvalSymlinks(root)
	if err != nil {
		return err
	}
	dir, err := filepath.EvalSymlinks(filepath.Dir(name))
	if err != nil {
		return fault("the folder of the settings file can't be found: " + stack.Reason(err))
	}
	if rel, err := filepath.Rel(realRoot, dir); err != nil || !filepath.IsLocal(rel) {
		return fault("the folder of the settings file lies outside the workspace")
	}
	return nil
}

// keepOld puts what a file held before into the workspace's state, readable by this user alone.
func keepOld(root string, f *File) error {
	dir, err := workspace.MakeStateDir(root, "before", filepath.Dir(filepath.FromSlash(f.Path)))
	if err == nil {
		err = workspace.WriteFile(filepath.Join(dir, filepath.Base(f.Path)), f.old, 0o600)
	}
	if err != nil {
		return fmt.Errorf("keeping what %s held: %w", f.Path, err)
	}
	return nil
}
