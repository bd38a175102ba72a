package session

import (
	"context"
	"encoding/json"
	"path"
	"path/filepath"
	"slices"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Incoming is what the repositories of a workspace have that its checkouts don't, and what must be
// done again for it: contract nharbor.catchup/1.
type Incoming struct {
	Schema    string        `json:"schema"`
	Checkouts []Ahead       `json:"checkouts"`
	Again     *plan.Between `json:"again"`    // null where nothing comes
	Settings  []NewSetting  `json:"settings"` // that no settings file has yet
	Missing   []fill.Lack   `json:"missing"`  // of these, the ones that only a person can give
	// Commands are those that nobody has vouched for as they will be.
	Commands []consent.Command `json:"commands"`
	Needs    []needs.Need      `json:"needs"` // unmet ones that are not so now
	Running  bool              `json:"running"`
	Taken    bool              `json:"taken"` // it has been done
}

// Ahead is a checkout with what comes to it. Left says why nothing can: it follows no branch.
type Ahead struct {
	Path string `json:"path"`
	*gitrepo.Upstream
	Left string `json:"left,omitempty"`
}

// NewSetting is a setting that comes, and how it gets its value.
type NewSetting struct {
	File   string `json:"file"`
	Key    string `json:"key"`
	Origin string `json:"origin"`
	Secret bool   `json:"secret"`
}

// Any reports whether anything comes.
func (in *Incoming) Any() bool { return slices.ContainsFunc(in.Checkouts, Ahead.comes) }

func (a Ahead) comes() bool { return a.Upstream != nil && a.From != a.To }

// dir is a checkout's folder.
func (w *Workspace) dir(checkout string) string {
	return filepath.Join(w.Root, filepath.FromSlash(checkout))
}

// Fetch asks the repositories of all checkouts at the same time for what is new. What is checked
// out stays as it is. With any error nothing is to be brought in: besides those of package gitrepo
// its code is upstream-missing.
func (w *Workspace) Fetch(ctx context.Context,
	options func(name string) gitrepo.Options) (*Incoming, error) {
	in := &Incoming{Schema: "nharbor.catchup/1", Checkouts: make([]Ahead, len(w.Checkouts)),
		Settings: []NewSetting{}, Missing: []fill.Lack{}, Commands: []consent.Command{},
		Needs: []needs.Need{}}
	errs := make([]error, len(w.Checkouts))
	var wait beside.Group
	for i, c := range w.Checkouts {
		in.Checkouts[i].Path = c.Path
		name := c.Path
		if name == "." {
			name = filepath.Base(w.Root)
		}
		opt := options(name)
		wait.Go(func() {
			u, err := gitrepo.UpstreamOf(ctx, w.dir(c.Path))
			if err == nil {
				if err = u.Fetch(ctx, w.dir(c.Path), opt); err == nil {
					err = u.Look(ctx, w.dir(c.Path))
				}
			}
			in.Checkouts[i].Upstream, errs[i] = u, err
		})
	}
	wait.Wait()
	var faults stack.Faults
	followed := false
	for i, err := range errs {
		list := stack.AllFaults(err)
		if len(list) == 1 && list[0].Code == stack.CodeUpstreamMissing {
			in.Checkouts[i].Left = list[0].Text
			continue
		}
		faults, followed = append(faults, list...), true
	}
	if len(faults) > 0 {
		return nil, faults
	}
	if !followed {
		f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeUpstreamMissing,
			Text:   "nothing here is a checkout of a repository, so that nothing can come",
			Remedy: "What has been cloned can catch up: nharbor clone ADDRESS"}
		if len(errs) > 0 {
			f = stack.AllFaults(errs[0])[0]
		}
		return nil, f
	}
	return in, nil
}

// Weigh works out what must be done again, by what the files will be; none is written. The record
// is that of the launched stack, or nil. The error is that of what comes: it can't be read, or its
// settings can't be filled.
func (w *Workspace) Weigh(ctx context.Context, in *Incoming, r *record.Record,
	filling Filling) error {
	coming, names, done, err := w.coming(ctx, in)
	if err != nil {
		return err
	}
	defer done()
	opt := plan.Options{}
	if in.Running = r.Alive(); in.Running {
		opt = r.Options
	}
	now, then := &looked{}, &looked{}
	filling.Ask, filling.Try = nil, false
	var wait beside.Group
	wait.Go(func() {
		if now.look(ctx, w, opt, r, filling) != nil {
			now = &looked{} // then all that comes is new
		}
	})
	err = then.look(ctx, coming, opt, r, filling)
	wait.Wait()
	if NothingFound(err) {
		in.Again = plan.Differ(now.plan, &plan.Plan{Prints: &plan.Prints{}}, nil, nil, in.Running)
		return nil
	}
	if err != nil {
		return err
	}
	var projects []string
	for _, p := range then.mixed.Stack.Projects {
		projects = append(projects, p.Path)
	}
	// what comes of a template is told by what is filled
	for _, e := range then.mixed.Stack.EnvFiles {
		names = slices.DeleteFunc(names,
			func(name string) bool { return name == e.Template || name == e.Path })
	}
	in.Again = plan.Differ(now.plan, then.plan, names, projects, in.Running)
	in.isNew(now, then)
	return nil
}

// coming is the workspace as it will be, and the files that change; done lets go of what it reads
// from.
func (w *Workspace) coming(ctx context.Context, in *Incoming) (coming *Workspace, names []string,
	done func(), err error) {
	changed := map[string]func() ([]byte, error){}
	commits := map[string]string{}
	var open []*gitrepo.Objects
	done = func() {
		for _, o := range open {
			o.Close()
		}
	}
	for _, a := range in.Checkouts {
		if !a.comes() {
			continue
		}
		objects, err := gitrepo.Open(ctx, w.dir(a.Path))
		if err != nil {
			done()
			return nil, nil, nil, err
		}
		open = append(open, objects)
		commits[a.Path] = a.To
		for _, c := range a.Changes {
			name := path.Join(a.Path, c.Path)
			names = append(names, name)
			switch {
			case c.Gone:
				changed[name] = nil
			case c.Object != "":
				changed[name] = func() ([]byte, error) { return objects.Blob(c.Object) }
			}
		}
	}
	return &Workspace{Root: w.Root, Files: reading.Of(reading.Overlay(w.Files, changed)),
		Checkouts: w.Checkouts, commits: commits}, names, done, nil
}

// isNew keeps what is to be filled, vouched for and installed because of what comes, and not
// anyway.
func (in *Incoming) isNew(now, then *looked) {
	due := now.settings()
	for _, one := range then.settings() {
		if !slices.ContainsFunc(due, one.same) {
			in.Settings = append(in.Settings, one)
		}
	}
	for _, l := range then.filled.Missing {
		if slices.ContainsFunc(in.Settings, (&NewSetting{File: l.File, Key: l.Key}).same) {
			in.Missing = append(in.Missing, l)
		}
	}
	for _, c := range then.commands {
		if c.New && !slices.ContainsFunc(now.commands,
			func(o consent.Command) bool { return o.Digest == c.Digest }) {
			in.Commands = append(in.Commands, c)
		}
	}
	for _, n := range then.needs {
		if !n.Met && !slices.ContainsFunc(now.needs, func(o needs.Need) bool {
			return !o.Met && o.Kind == n.Kind && o.Name == n.Name && o.Wanted == n.Wanted
		}) {
			in.Needs = append(in.Needs, n)
		}
	}
}

// same reports whether two are of one key in one file.
func (s *NewSetting) same(o NewSetting) bool { return o.File == s.File && o.Key == s.Key }

// NothingFound reports whether a survey has found no application: what there is needs nothing done.
func NothingFound(err error) bool {
	list := stack.AllFaults(err)
	return len(list) == 1 && list[0].Code == stack.CodeNothingFound
}

// looked is a workspace with all that is concluded of it, as if its settings were filled.
type looked struct {
	mixed    *Mixed
	plan     *plan.Plan
	filled   *fill.Plan
	commands []consent.Command
	needs    []needs.Need
}

// look goes the whole way to a plan.
func (l *looked) look(ctx context.Context, w *Workspace, opt plan.Options, r *record.Record,
	filling Filling) error {
	s, err := w.Survey(WithCode)
	if s == nil || err != nil && !OnlyVariables(err) {
		return err
	}
	f, err := s.Fill(ctx, filling)
	if err != nil {
		return err
	}
	l.filled = f.Plan
	contents, err := f.Plan.Contents()
	if err != nil {
		return err
	}
	changed := map[string]func() ([]byte, error){}
	for name, data := range contents {
		changed[name] = func() ([]byte, error) { return data, nil }
	}
	full := *w
	full.Files = reading.Of(reading.Overlay(w.Files, changed))
	if s, err = full.Survey(WithCode); s == nil || err != nil && !OnlyVariables(err) {
		return err
	}
	if l.mixed, err = s.Mix(opt); err != nil {
		return err
	}
	l.needs = l.mixed.Needs(ctx, r).Needs
	if l.commands, _, err = l.mixed.Commands(ctx); err != nil {
		return err
	}
	l.plan, err = l.mixed.Plan()
	return err
}

// settings are those that no settings file has yet.
func (l *looked) settings() (out []NewSetting) {
	if l.filled == nil {
		return nil
	}
	for _, f := range l.filled.Files {
		for _, s := range f.Settings {
			if s.Origin != fill.Kept {
				out = append(out, NewSetting{f.Path, s.Key, s.Origin, s.Secret})
			}
		}
	}
	return out
}

// caughtUp is the state file of what was brought in last, so that it can be taken back.
const caughtUp = "caughtup.json"

// Way is how the checkouts have come to where they are, for the way back.
type Way struct {
	Checkouts []Leap `json:"checkouts"`
	// Services are those to be restarted; New is true if some have come or gone, and Data if
	// databases were changed.
	Services []string `json:"services"`
	New      bool     `json:"new"`
	Ran      bool     `json:"ran"` // the stack was launched then
	Data     bool     `json:"data"`
}

// Leap is a checkout that was brought from one commit to another.
type Leap struct {
	Path string `json:"path"`
	From string `json:"from"`
	To   string `json:"to"`
}

// Take brings the checkouts to what has been shown of them: all, or none. The way back is kept
// before anything is done.
func (w *Workspace) Take(ctx context.Context, in *Incoming,
	options func(name string) gitrepo.Options) error {
	restart, come, gone := in.Again.Names()
	way := Way{Services: restart, New: len(come)+len(gone) > 0, Ran: in.Running,
		Data: in.Again.Data}
	for _, a := range in.Checkouts {
		if a.comes() {
			way.Checkouts = append(way.Checkouts, Leap{a.Path, a.From, a.To})
		}
	}
	data, err := json.Marshal(way)
	if err != nil {
		return err
	}
	if err := workspace.WriteState(w.Root, caughtUp, data); err != nil {
		return err
	}
	for i, a := range in.Checkouts {
		if !a.comes() {
			continue
		}
		if err := a.Upstream.Take(ctx, w.dir(a.Path), options(a.Path)); err != nil {
			faults := stack.AllFaults(err)
			// the one that failed may be there, and lack a submodule
			for _, done := range in.Checkouts[:i+1] {
				if done.comes() {
					if err := gitrepo.Return(context.WithoutCancel(ctx), w.dir(done.Path), done.To,
						done.From); err != nil && done.Path != a.Path {
						faults = append(faults, stack.AllFaults(err)...)
					}
				}
			}
			return faults
		}
	}
	in.Taken = true
	return nil
}

// WayBack reads what was brought in last. The code of the error is no-way-back.
func (w *Workspace) WayBack() (*Way, error) {
	data, err := workspace.ReadState(w.Root, caughtUp)
	var way Way
	if err == nil {
		err = json.Unmarshal(data, &way)
	}
	if err != nil || len(way.Checkouts) == 0 {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNoWayBack,
			Text:   "nothing was brought in here by nharbor catchup that could be taken back",
			Remedy: "To see how the checkout came to where it is: git reflog", Cause: err}
	}
	return &way, nil
}

// Back brings the checkouts to where they were; one that is there already stays.
func (w *Workspace) Back(ctx context.Context, way *Way) error {
	var faults stack.Faults
	for _, m := range way.Checkouts {
		if !filepath.IsLocal(filepath.FromSlash(m.Path)) {
			continue
		}
		if i := slices.IndexFunc(w.Checkouts,
			func(c stack.Checkout) bool { return c.Path == m.Path }); i >= 0 &&
			w.Checkouts[i].Commit == m.From {
			continue
		}
		faults = append(faults, stack.AllFaults(gitrepo.Return(ctx, w.dir(m.Path), m.To,
			m.From))...)
	}
	if len(faults) > 0 {
		return faults
	}
	return workspace.WriteState(w.Root, caughtUp, []byte("null"))
}
