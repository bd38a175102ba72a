package session

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/locker"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Filling says how settings are to be filled.
type Filling struct {
	Set     map[string]string // KEY or FILE:KEY, from the command line
	Answers map[string]string // the same, from a file
	Only    string            // this settings file alone; empty for all
	Locker  bool              // take issued secrets out of the locker, and keep them there
	// Clone asks a person whether a folder is the clone that it says to be, before secrets of that
	// repository go into it; nil asks nobody, and gives none.
	Clone func(folder, repository string) bool
	Try   bool // ask the address beside an issued secret whether it is taken
	// Ask asks a person; nil asks nobody.
	Ask func([]fill.Question) ([]string, error)
	// Complain is told what went wrong without being a reason to end.
	Complain func(error)
}

// Filled is a survey with what each setting should hold.
type Filled struct {
	*Surveyed
	Plan    *fill.Plan
	filling Filling
}

// Fill decides what each setting should hold. It writes nothing.
func (s *Surveyed) Fill(ctx context.Context, f Filling) (*Filled, error) {
	opt := fill.Options{Random: rand.Reader, Only: f.Only, Now: time.Now(),
		Environment: os.LookupEnv, Set: f.Set, Answers: f.Answers, Git: s.gitKnows(ctx), Ask: f.Ask}
	var stores map[string]string
	opt.Data = func(service string) string {
		if stores == nil {
			stores = execute.Stores(ctx, s.Root, s.Stack)
		}
		return stores[service]
	}
	waived := readWaived(s.Root)
	opt.Waived = func(file, key string) bool {
		return slices.Contains(waived, fill.Member{File: file, Key: key})
	}
	if f.Locker {
		opt.Locker = s.fromLocker(ctx, f)
	}
	if f.Try {
		opt.Try = func(endpoint, secret string) (string, bool) {
			return fill.Trial(ctx, trialClient, endpoint, secret)
		}
	}
	p, err := fill.Make(s.Files, s.Stack, opt)
	if err != nil {
		return nil, err
	}
	return &Filled{Surveyed: s, Plan: p, filling: f}, nil
}

var trialClient = &http.Client{Timeout: 10 * time.Second}

// Write writes the files, keeps in the locker what only a third party can give, and surveys the
// workspace as it is then.
func (f *Filled) Write(ctx context.Context) (*Surveyed, error) {
	if err := f.Plan.Write(f.Root); err != nil {
		return nil, err
	}
	if err := keepWaived(f.Root, f.Plan.Waived); err != nil {
		return nil, err
	}
	if f.filling.Locker {
		f.keep(ctx)
	}
	var written []string
	for _, file := range f.Plan.Files {
		if file.Written {
			written = append(written, file.Path)
		}
	}
	if len(written) == 0 {
		return f.Surveyed, nil
	}
	f.Files.Forget(written...)
	return f.Survey(Code(f.code))
}

// keep puts issued secrets that were answered into the locker.
func (f *Filled) keep(ctx context.Context) {
	var list []locker.Secret
	names := map[string]string{}
	for _, file := range f.Plan.Files {
		for i := range file.Settings {
			if s := &file.Settings[i]; s.Issued && s.Origin == fill.Answered && s.Value() != "" {
				list = append(list, locker.Secret{Repository: f.Repository(ctx, file.Path, names),
					Key: s.Key, Value: s.Value(), Since: time.Now().UTC().Truncate(time.Second)})
				if top, ok := gitrepo.Top(filepath.Dir(filepath.Join(f.Root,
					filepath.FromSlash(file.Path)))); ok {
					workspace.SetKnown(top, names[top])
				}
				s.Remark = strings.TrimPrefix(s.Remark+"; kept in the locker for the next time",
					"; ")
			}
		}
	}
	if len(list) == 0 {
		return
	}
	store, err := locker.Default()
	if err == nil {
		err = store.Put(list...)
	}
	if err != nil {
		f.filling.Complain(err)
	}
}

// Alone keeps others from filling the same workspace until free is called, so that a secret is made
// once. Waiting is called if somebody else is at it, and ctx ends the wait. The survey is made anew
// if somebody else has filled since. Where no lock can be had, the writing itself will say why.
func (s *Surveyed) Alone(ctx context.Context,
	waiting func()) (now *Surveyed, free func(), err error) {
	free = func() {}
	if dir, err := workspace.MakeStateDir(s.Root); err == nil {
		lock := flock.New(filepath.Join(dir, "fill.lock"),
			flock.SetFlag(os.O_CREATE|os.O_RDWR|reading.NoFollow))
		if got, err := lock.TryLock(); err == nil && !got {
			waiting()
			if _, err := lock.TryLockContext(ctx, 20*time.Millisecond); ctx.Err() != nil {
				return nil, free, ctx.Err()
			} else if err != nil {
				return s, free, nil
			}
		}
		free = func() { lock.Unlock() }
	}
	for _, e := range s.Stack.EnvFiles {
		if _, err := fs.Stat(s.Files, e.Path); (err == nil) == e.Present {
			continue
		}
		for _, e := range s.Stack.EnvFiles {
			s.Files.Forget(e.Path)
		}
		now, err := s.Survey(Code(s.code))
		if err != nil && !OnlyVariables(err) {
			free()
			return nil, free, err
		}
		return now, free, nil
	}
	return s, free, nil
}

// fromLocker looks issued secrets up by the repository that a settings file lies in. A locker that
// can't be used is said once, and asked no more. A folder that says to be a clone of a repository,
// in its git configuration or by its first commit, which anybody could have written, gets none of
// its secrets until it is known to be one.
func (s *Surveyed) fromLocker(ctx context.Context, f Filling) func(file,
	key string) (string, bool) {
	store, err := locker.Default()
	names, asked := map[string]string{}, map[string]bool{}
	return func(file, key string) (string, bool) {
		if err != nil {
			return "", false
		}
		var value string
		var ok bool
		name := s.Repository(ctx, file, names)
		if value, ok, err = store.Get(name, key); err != nil {
			f.Complain(err)
		}
		if !ok || strings.HasPrefix(name, "folder:") {
			return value, ok
		}
		top, _ := gitrepo.Top(filepath.Dir(filepath.Join(s.Root, filepath.FromSlash(file))))
		if !workspace.Known(top, name) {
			if _, done := asked[top]; !done {
				asked[top] = f.Clone != nil && f.Clone(top, name)
				if asked[top] {
					workspace.SetKnown(top, name)
				} else {
					f.Complain(
						&stack.Fault{Code: stack.CodeLockerNotGiven, At: stack.Place{File: file},
							Text: fmt.Sprintf(
								"the locker has secrets of %s; that %s is a clone of it says only "+
									"the folder itself, so that they are "+
									"not given to it", name, top), Remedy: "If it is one: " +
								"nharbor fill --from-locker"})
				}
			}
			if !asked[top] {
				return "", false
			}
		}
		return value, ok
	}
}

// Repository names the repository that a settings file belongs to, or its workspace where it
// belongs to none. Known holds what was asked before.
func (w *Workspace) Repository(ctx context.Context, file string, known map[string]string) string {
	top, ok := gitrepo.Top(filepath.Dir(filepath.Join(w.Root, filepath.FromSlash(file))))
	if !ok {
		return "folder:" + w.Root
	}
	if _, asked := known[top]; !asked {
		if known[top] = gitrepo.Name(ctx, top); known[top] == "" {
			known[top] = "folder:" + top
		}
	}
	return known[top]
}

// gitKnows asks git about all settings files at once, one question for each checkout.
func (s *Surveyed) gitKnows(ctx context.Context) func(string) string {
	files := map[string][]string{} // by the checkout's top, relative to it
	known := map[string]string{}
	add := func(name string) {
		if top, rel, ok := inCheckout(s.Root, name); ok && !slices.Contains(files[top], rel) {
			files[top] = append(files[top], rel)
		}
	}
	for _, e := range s.Stack.EnvFiles {
		dir := filepath.Dir(e.Path)
		add(e.Path)
		add(filepath.ToSlash(filepath.Join(dir, ".env.local")))
		add(filepath.ToSlash(filepath.Join(dir, ".env")))
	}
	add(".env")
	for top, list := range files {
		tracked, ignored := gitrepo.Known(ctx, top, list)
		for _, rel := range list {
			switch {
			case tracked[rel]:
				known[top+"\x00"+rel] = fill.Tracked
			case ignored[rel]:
				known[top+"\x00"+rel] = fill.Ignored
			default:
				known[top+"\x00"+rel] = fill.Untracked
			}
		}
	}
	return func(file string) string {
		top, rel, _ := inCheckout(s.Root, file)
		return known[top+"\x00"+rel]
	}
}

func inCheckout(root, file string) (top, rel string, ok bool) {
	full := filepath.Join(root, filepath.FromSlash(file))
	if top, ok = gitrepo.Top(filepath.Dir(full)); !ok {
		return "", "", false
	}
	rel, err := filepath.Rel(top, full)
	return top, filepath.ToSlash(rel), err == nil
}

// waivedFile holds the settings that are to stay empty, beside the rest of the workspace's state.
const waivedFile = "empty.json"

func readWaived(root string) (list []fill.Member) {
	if data, err := workspace.ReadState(root, waivedFile); err != nil ||
		json.Unmarshal(data, &list) != nil {
		return nil // it is asked for again
	}
	return list
}

func keepWaived(root string, more []fill.Member) error {
	if len(more) == 0 {
		return nil
	}
	list := readWaived(root)
	for _, m := range more {
		if !slices.Contains(list, m) {
			list = append(list, m)
		}
	}
	data, err := json.MarshalIndent(list, "", " ")
	if err == nil {
		err = workspace.WriteState(root, waivedFile, data)
	}
	if err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeStateUnwritable,
			At:     stack.Place{File: filepath.Join(workspace.State(root), waivedFile)},
			Text:   "what is to stay empty can't be remembered: " + stack.Reason(err),
			Remedy: "Check the free space and the rights of .nharbor.", Cause: err}
	}
	return nil
}

// Missing are the settings that only a person can give, as faults; none for those that a person was
// asked for and has left open.
func (f *Filled) Missing() (faults stack.Faults) {
	for _, m := range f.Plan.Missing {
		if m.Skipped {
			continue
		}
		fault := &stack.Fault{Kind: stack.Missing, Code: stack.CodeSettingMissing,
			At:   stack.Place{File: m.File},
			Text: fmt.Sprintf("the setting %s has no value, and only you can give it", m.Key),
			Remedy: fmt.Sprintf(
				"Give it with --set or --answers, or run nharbor fill on a terminal; to leave "+
					"it empty: nharbor fill --set %s=", m.Key)}
		if m.Hint != "" {
			fault.Remedy = strings.TrimRight(m.Hint, ".") + ". " + fault.Remedy
		}
		faults = append(faults, fault)
	}
	for _, u := range f.Plan.Unknown {
		faults = append(faults, &stack.Fault{Kind: stack.Missing, Code: stack.CodeEnvFileMissing,
			At: u.At,
			Text: fmt.Sprintf("%s must be there, has no template, and nothing says what it "+
				"holds", u.Path),
			Remedy: "Ask who made the application what belongs in it; if it may be empty: touch " +
				u.Path})
	}
	return faults
}
