// Package session is the way from a folder to a plan, as a row of values, each made once from the
// one before:
//
//	Open     Workspace  the folder, its files and its checkouts
//	Survey   Surveyed   what is here
//	Fill     Filled     what each setting should hold; Write writes it and surveys again
//	Mix      Mixed      what is to be launched, where, and in which order
//	Needs, Commands     what the machine lacks for that, and what would run
//	Plan                what a steward executes
//
// A stage doesn't change the ones before it. Files are read through one cache for the whole row;
// what Write has written is read anew. Faults are *stack.Fault or stack.Faults with the codes of
// the packages that do the work, besides workspace-unreadable, settings-missing, need-unmet,
// nothing-to-launch, not-launched and already-launched.
package session

import (
	"cmp"
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/judge"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/survey"
	"nimbleharbor/internal/workspace"
)

// Workspace is an opened workspace. It stays open as long as the program runs.
type Workspace struct {
	Root      string // absolute
	Files     *reading.Files
	Checkouts []stack.Checkout

	// commits are what checkouts are taken to be at, by their paths, where that is not what is
	// checked out.
	commits map[string]string
}

// Open opens the workspace that the folder lies in or, where exactly is true, that it is. Nothing
// of it is read through a link that leaves it.
func Open(ctx context.Context, dir string, exactly bool) (*Workspace, error) {
	w := &Workspace{Root: dir}
	if !exactly {
		w.Root = workspace.Root(dir)
	}
	root, err := os.OpenRoot(w.Root)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeWorkspaceUnreadable,
			At: stack.Place{File: w.Root}, Text: "the folder can't be opened: " +
				err.Error(), Remedy: "Check its rights.", Cause: err}
	}
	w.Files = reading.Of(reading.Under(root))
	w.Checkouts = Checkouts(ctx, w.Root)
	for _, path := range places(w.Root) {
		for _, err := range []error{gitrepo.Sound(w.dir(path)),
			gitrepo.Clear(w.dir(path), []string{"x"})} {
			if u := (*gitrepo.Unsound)(nil); errors.As(err, &u) {
				w.Files.NoteUnread(filepath.ToSlash(filepath.Join(path, u.File)), u.Why)
			}
		}
	}
	return w, nil
}

// Checkouts finds the working copies in a workspace: the root itself, and those directly below it.
// Paths are relative to it.
func Checkouts(ctx context.Context, root string) []stack.Checkout {
	paths := places(root)
	var mu sync.Mutex
	var out []stack.Checkout
	var wait beside.Group
	for _, p := range paths {
		dir := filepath.Join(root, p)
		wait.Go(func() {
			c, err := gitrepo.Describe(ctx, dir)
			if err != nil {
				return
			}
			c.Path = filepath.ToSlash(p)
			mu.Lock()
			defer mu.Unlock()
			out = append(out, c)
		})
	}
	wait.Wait()
	slices.SortFunc(out, func(a, b stack.Checkout) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// places are the folders that can be checkouts of a workspace: itself, and those directly below it.
func places(root string) (paths []string) {
	has := func(name string) bool {
		_, err := os.Lstat(filepath.Join(root, name, ".git"))
		return err == nil
	}
	if has(".") {
		paths = append(paths, ".")
	}
	entries, err := os.ReadDir(root)
	if err != nil {
		return paths
	}
	for _, e := range entries {
		if e.IsDir() && has(e.Name()) {
			paths = append(paths, e.Name())
		}
	}
	return paths
}

// unread adds a remark for each file that counts by its name and was not read for what it is.
func (w *Workspace) unread(s *stack.Stack) {
	for _, u := range w.Files.Unread() {
		s.Remarks = append(s.Remarks, stack.Remark{Level: stack.Warning, Code: stack.CodeFileUnread,
			At: stack.Place{File: u.Path}, Text: "this is not read: " + u.Why.Error(),
			Remedy: "Put the file there that belongs there, or remove it."})
	}
}

// Surveyed is a workspace with what is in it.
type Surveyed struct {
	*Workspace
	Stack *stack.Stack
	code  bool // what code reads is known too
}

// Code says whether a survey reads the code for the variables that it reads, which only settings
// need.
type Code bool

// The two.
const (
	WithCode    Code = true
	WithoutCode Code = false
)

// Survey says what is in the workspace. With an error there may still be all that was found; then
// it is not nil.
func (w *Workspace) Survey(code Code) (*Surveyed, error) {
	seen := map[string]survey.Sight{}
	remembers := memory.Recall(w.Root)
	for service, sight := range remembers.Seen() {
		seen[service] = survey.Sight{Port: sight.Port, Said: sight.Said, Speaks: sight.Speaks}
	}
	s, err := survey.Survey(w.Files,
		survey.Options{Root: w.Root, Checkouts: w.Checkouts, Env: os.LookupEnv,
			System: runtime.GOOS, ReadCode: bool(code), Seen: seen, Changed: w.changed})
	var f *stack.Fault
	if errors.As(err, &f) && f.Code == stack.CodeNothingFound {
		w.pointElsewhere(f)
	}
	if s == nil {
		return nil, err
	}
	w.unread(s)
	taught(remembers, s, err == nil)
	return &Surveyed{Workspace: w, Stack: s, code: bool(code)}, err
}

// pointElsewhere names folders nearby that look like an application, where here is none.
func (w *Workspace) pointElsewhere(f *stack.Fault) {
	var near []string
	for _, d := range survey.Below(w.Files, 5) {
		near = append(near, filepath.Join(w.Root, d))
	}
	near = append(near, workspace.Near(w.Root)...)
	if len(near) > 0 {
		f.Remedy += " Folders nearby that look like one: " + strings.Join(near, ", ") +
			". Start there with -C."
	} else {
		f.Remedy += " No folder above or beside this one looks like an application either. To " +
			"get one: nharbor clone ADDRESS"
	}
}

// OnlyVariables reports whether all that is wrong is variables without a value, which fill can
// give.
func OnlyVariables(err error) bool {
	for _, f := range stack.AllFaults(err) {
		if f.Code != stack.CodeComposeVariableRequired {
			return false
		}
	}
	return true
}

// Mixed is what is to be launched, where each service runs, and in which order.
type Mixed struct {
	*Surveyed
	Options plan.Options
	Mix     *plan.Mixed
	Order   *order.Order
	Moved   *Moved // nil where the ports are as the files say, or as a person does
}

// Mix turns the survey into what is to be launched, and puts it in order. With a cycle there is an
// order that shows it besides the error.
func (s *Surveyed) Mix(opt plan.Options) (*Mixed, error) {
	with, err := plan.Provide(s.Stack, opt.Provide)
	if err != nil {
		return nil, err
	}
	if with != s.Stack {
		provided := *s
		provided.Stack = with
		s = &provided
	}
	mix, err := plan.Mix(s.Stack, opt)
	if err != nil {
		return nil, err
	}
	o, err := order.Build(mix.Stack,
		order.Options{Services: opt.Services, Except: opt.Except, Literal: opt.Literal,
			Seconds: memory.Recall(s.Root).Seconds()})
	return &Mixed{Surveyed: s, Options: opt, Mix: mix, Order: o}, err
}

// Services lists the names of the services in the order.
func (m *Mixed) Services() []string {
	out := []string{}
	for _, n := range m.Order.Nodes {
		if name, ok := n.ID.Service(); ok {
			out = append(out, name)
		}
	}
	return out
}

// Needs asks this machine for all that the launch needs. Ports that the record's stack holds count
// as free.
func (m *Mixed) Needs(ctx context.Context, r *record.Record) *needs.Answer {
	a := needs.Ask(ctx, m.Mix.Stack, m.Services(), r.HeldPorts(),
		&needs.Local{Dir: m.Root, Files: m.Files,
			Stacks: steward.Holding(ctx, workspace.ID(m.Root))})
	m.releases(ctx, a)
	if len(m.Services()) > 0 {
		m.ofCheckouts(ctx, a, time.Now())
	}
	return a
}

// Commands lists all that would run, and reports whether some of it is new: nobody has vouched for
// it as it is.
func (m *Mixed) Commands(ctx context.Context) (list []consent.Command, fresh bool, err error) {
	list = consent.Commands(m.Files, m.Mix.Stack, m.Order, m.asCommitted(ctx))
	fresh, err = consent.MarkNew(m.Root, list)
	return list, fresh, err
}

// Lying lists all that would run as it lies there, whatever is committed of it: consent that is
// pinned to what somebody has read, elsewhere, goes by nothing that a checkout says of itself.
func (m *Mixed) Lying() []consent.Command {
	return consent.Commands(m.Files, m.Mix.Stack, m.Order, nil)
}

// Tests lists what tests would run, with what that leads to, and reports whether some of it is new.
func (m *Mixed) Tests(ctx context.Context,
	tests []plan.Test) (list []consent.Command, fresh bool, err error) {
	list = consent.CommandsOf(m.Files, m.Mix.Stack, m.beside(tests), m.asCommitted(ctx))
	fresh, err = consent.MarkNew(m.Root, list)
	return list, fresh, err
}

// LyingTests lists the same as it lies there.
func (m *Mixed) LyingTests(tests []plan.Test) []consent.Command {
	return consent.CommandsOf(m.Files, m.Mix.Stack, m.beside(tests), nil)
}

func (m *Mixed) beside(tests []plan.Test) (out []consent.Beside) {
	for _, t := range tests {
		folder := t.Project
		if rel, err := filepath.Rel(m.Root, t.Dir); err == nil {
			folder = filepath.ToSlash(rel)
		}
		out = append(out, consent.Beside{ID: t.ID, Command: t.Command, Expands: t.Expands,
			Folder: folder, At: t.At})
	}
	return out
}

// Afresh is the same launch by the files as they are now, all of them read anew.
func (m *Mixed) Afresh(ctx context.Context) (*Mixed, error) {
	w, err := Open(ctx, m.Root, true)
	if err != nil {
		return nil, err
	}
	s, err := w.Survey(Code(m.code))
	if s == nil || err != nil && !OnlyVariables(err) {
		return nil, err
	}
	return s.Mix(m.Options)
}

func (m *Mixed) asCommitted(ctx context.Context) consent.Committed {
	return func(files []string) (map[string]string, map[string]bool) {
		return m.committed(ctx, files)
	}
}

// committed tells of files what the commits that are checked out have of them, and which of the
// others git would ignore: what it keeps it doesn't ignore, and isn't asked about twice.
func (w *Workspace) committed(ctx context.Context,
	files []string) (blobs map[string]string, ignored map[string]bool) {
	blobs, ignored = map[string]string{}, map[string]bool{}
	var group beside.Group
	var mu sync.Mutex
	for _, c := range w.Checkouts {
		var own []string
		for _, name := range files {
			if rel, err := filepath.Rel(filepath.FromSlash(c.Path),
				filepath.FromSlash(name)); err == nil && filepath.IsLocal(rel) {
				own = append(own, filepath.ToSlash(rel))
			}
		}
		if len(own) == 0 {
			continue
		}
		dir := w.dir(c.Path)
		group.Go(func() {
			known := gitrepo.Committed(ctx, dir, cmp.Or(w.commits[c.Path], "HEAD"), own)
			others := slices.DeleteFunc(own, func(name string) bool { return known[name] != "" })
			ignores := gitrepo.Ignored(ctx, dir, others)
			mu.Lock()
			defer mu.Unlock()
			for name, blob := range known {
				blobs[path.Join(c.Path, name)] = blob
			}
			for name := range ignores {
				ignored[path.Join(c.Path, name)] = true
			}
		})
	}
	group.Wait()
	return blobs, ignored
}

// Plan works out what a steward executes.
func (m *Mixed) Plan() (*plan.Plan, error) {
	if len(m.Options.On) > 0 && m.Mix.Engines == nil {
		var err error
		if m.Mix.Engines, err = engines.Whereabouts(context.Background(), m.Options); err != nil {
			return nil, err
		}
	}
	return plan.Make(m.Root, m.Files, m.Mix, m.Order, m.Options)
}

// Value gives the value of a setting as a service gets it, for what a workspace asks of its own.
func (m *Mixed) Value(service, key string) (string, bool) {
	p, err := m.Plan()
	if err != nil {
		return "", false
	}
	env := p.Services[stack.ServiceNode(service)].Environment
	for _, kv := range slices.Backward(env) {
		if k, v, ok := strings.Cut(kv, "="); ok && k == key {
			return v, true
		}
	}
	return os.LookupEnv(key)
}

// Judge gives the one judgement of the workspace's stack as it was launched, or would be.
func (s *Surveyed) Judge(ctx context.Context, r *record.Record) stack.Check {
	q := judge.Judging{Root: s.Root, Stack: s.Stack, Record: r}
	opt := plan.Options{}
	if r != nil {
		opt = r.Options
	}
	if m, err := s.Mix(opt); err == nil {
		q.Services, q.Value = m.Mix.Stack.Services, m.Value
	}
	return q.Ask(ctx)
}

// Changes tells what has changed since the record's stack was launched; nil where nothing has, or
// where it can't be told.
func (s *Surveyed) Changes(r *record.Record) *stack.Changed {
	if !r.Alive() {
		return nil
	}
	m, err := s.Mix(r.Options)
	if err != nil {
		return nil
	}
	now, err := m.Plan()
	if err != nil {
		return nil
	}
	if c := plan.Changes(r.Prints, now); c.Any() {
		return &c
	}
	return nil
}
