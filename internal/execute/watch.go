package execute

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/moby/patternmatcher"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// Watching is what develop.watch of the specification asks for: files that change are put into the
// running container, or have it started again, or built anew.
//
// One goroutine watches for each service with such rules, from the launch on until the executor's
// context ends. What it does it does one after another; changes that come meanwhile are done
// together.

// calm is how long no more files may change before those that have are seen to.
const calm = 150 * time.Millisecond

// watcher watches the files of one service.
type watcher struct {
	x     *Executor
	id    stack.NodeID
	rules []stack.Watch
	skip  []*patternmatcher.PatternMatcher // by rule
	only  []*patternmatcher.PatternMatcher // by rule; nil for all
	files *fsnotify.Watcher

	mu sync.Mutex
	// what has gone into its container since its image was built, by its place there
	synced map[string]engine.File
}

// watchAll begins to watch for every service that asks for it.
func (x watching) watchAll() {
	for id, s := range x.Plan().Services {
		if s.Runs != stack.Container || s.Container == nil || len(s.Container.Watch) == 0 {
			continue
		}
		w := &watcher{x: x.Executor, id: id, synced: map[string]engine.File{}}
		if err := w.begin(s.Container.Watch); err != nil {
			x.tell(id, fmt.Sprintf("its files are not watched: %v", err))
			continue
		}
		x.mu.Lock()
		x.watchers[id] = w
		x.mu.Unlock()
		go w.run(x.ctx)
	}
}

// tell adds words to the launch's events without changing how the service stands.
func (x *Executor) tell(id stack.NodeID, text string) {
	n := x.at(id)
	if n == nil {
		return
	}
	state := n.now().State
	x.journal.mu.Lock()
	defer x.journal.mu.Unlock()
	x.journal.add(stack.Event{T: float64(time.Since(x.started).Milliseconds()) / 1000, ID: id,
		State: state, Text: text})
}

func (w *watcher) begin(rules []stack.Watch) error {
	var err error
	if w.files, err = fsnotify.NewWatcher(); err != nil {
		return err
	}
	for _, r := range rules {
		if !filepath.IsLocal(filepath.FromSlash(r.Path)) {
			w.x.tell(w.id, r.Path+" lies outside of the workspace, and is not watched")
			continue
		}
		skip, err := patternmatcher.New(append([]string{".git", stateFolder}, r.Ignore...))
		if err != nil {
			return err
		}
		var only *patternmatcher.PatternMatcher
		if len(r.Include) > 0 {
			if only, err = patternmatcher.New(r.Include); err != nil {
				return err
			}
		}
		w.rules, w.skip, w.only = append(w.rules, r), append(w.skip, skip), append(w.only, only)
		if err := w.add(len(w.rules)-1, r.Path); err != nil {
			return err
		}
	}
	return nil
}

// stateFolder is that of our own state, which changes all the time.
const stateFolder = ".nharbor"

// add watches a folder of a rule and all below it that is not ignored.
func (w *watcher) add(rule int, folder string) error {
	root := filepath.Join(w.x.Plan().Root, filepath.FromSlash(folder))
	info, err := os.Lstat(root)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return w.files.Add(filepath.Dir(root))
	}
	return filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		if err != nil || !d.IsDir() {
			return nil
		}
		if rel, ok := w.under(rule, name); ok && rel != "." && w.ignored(rule, rel) {
			return fs.SkipDir
		}
		return w.files.Add(name)
	})
}

// under gives the path of a file below a rule's.
func (w *watcher) under(rule int, name string) (string, bool) {
	top := filepath.Join(w.x.Plan().Root, filepath.FromSlash(w.rules[rule].Path))
	rel, err := filepath.Rel(top, name)
	if err != nil || !filepath.IsLocal(rel) && rel != "." {
		return "", false
	}
	return filepath.ToSlash(rel), true
}

func (w *watcher) ignored(rule int, rel string) bool {
	if rel == "." {
		return false
	}
	if skip, err := w.skip[rule].MatchesOrParentMatches(rel); err == nil && skip {
		return true
	}
	if only := w.only[rule]; only != nil {
		in, err := only.MatchesOrParentMatches(rel)
		return err == nil && !in
	}
	return false
}

// run sees to changes until ctx ends.
func (w *watcher) run(ctx context.Context) {
	defer w.files.Close()
	changed := map[string]bool{}
	quiet := time.NewTimer(time.Hour)
	quiet.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case e, ok := <-w.files.Events:
			if !ok {
				return
			}
			if e.Has(fsnotify.Create) {
				if info, err := os.Lstat(e.Name); err == nil && info.IsDir() {
					w.within(e.Name, changed)
				}
			}
			if e.Op != fsnotify.Chmod {
				changed[e.Name] = true
				quiet.Reset(calm)
			}
		case <-w.files.Errors: // such as a queue that has overflowed: later changes come again
		case <-quiet.C:
			w.see(ctx, slices.Sorted(maps.Keys(changed)))
			clear(changed)
		}
	}
}

// within takes up a folder that is new, with what is in it already.
func (w *watcher) within(folder string, changed map[string]bool) {
	for i := range w.rules {
		if rel, ok := w.under(i, folder); ok && !w.ignored(i, rel) {
			w.add(i, path.Join(w.rules[i].Path, rel))
		}
	}
	filepath.WalkDir(folder, func(name string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			changed[name] = true
		}
		return nil
	})
}

// see does what the rules ask for files that have changed: first what is to be put into the
// container, then the strongest of what is to be done with it.
func (w *watcher) see(ctx context.Context, names []string) {
	var c seen
	for i := range w.rules {
		w.seeBy(i, names, &c)
	}
	if len(c.shown) == 0 {
		return
	}
	slices.Sort(c.shown)
	c.shown = slices.Compact(c.shown)
	what := c.shown[0]
	if len(c.shown) > 1 {
		what = fmt.Sprintf("%s and %d more", what, len(c.shown)-1)
	}
	w.remember(c.put, c.gone, c.rebuild)
	switch {
	case c.rebuild:
		w.x.tell(w.id, what+" changed: it is built anew")
		w.x.watching().renew(w.id)
	case c.again:
		w.x.tell(w.id, what+" changed: it is started again")
		w.x.watching().renew(w.id)
	default:
		if err := w.into(ctx, c.put, c.gone, c.runs); err != nil {
			w.x.tell(w.id, fmt.Sprintf("%s changed, and could not be put into its container: %v",
				what, err))
			return
		}
		w.x.tell(w.id, what+" changed: put into its container")
	}
}

// seen is what changed files come to, by the rules that they fall under.
type seen struct {
	put            []engine.File
	gone           []string // places in the container
	rebuild, again bool
	runs           []stack.Hook
	shown          []string // their names, as a person knows them
}

// seeBy adds what changed files come to by one rule.
func (w *watcher) seeBy(rule int, names []string, c *seen) {
	r, before := w.rules[rule], len(c.shown)
	for _, name := range names {
		rel, ok := w.under(rule, name)
		if !ok || w.ignored(rule, rel) {
			continue
		}
		if info, err := os.Lstat(name); err == nil && info.IsDir() {
			continue
		}
		c.shown = append(c.shown, path.Join(r.Path, rel))
		if !strings.HasPrefix(r.Action, "sync") {
			continue
		}
		target := path.Join(r.Target, rel)
		file, err := w.read(path.Join(r.Path, rel), target)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			c.gone = append(c.gone, target)
		case err == nil:
			c.put = append(c.put, file)
		}
	}
	if len(c.shown) == before {
		return
	}
	switch r.Action {
	case "rebuild":
		c.rebuild = true
	case "restart", "sync+restart":
		c.again = true
	case "sync+exec":
		if r.Exec != nil {
			c.runs = append(c.runs, *r.Exec)
		}
	}
}

// read reads a file of the workspace, never through a link that leaves it.
func (w *watcher) read(name, target string) (engine.File, error) {
	top, err := os.OpenRoot(w.x.Plan().Root)
	if err != nil {
		return engine.File{}, err
	}
	defer top.Close()
	info, err := top.Stat(filepath.FromSlash(name))
	if err != nil {
		return engine.File{}, err
	}
	data, err := reading.FileIn(top, filepath.FromSlash(name), maxAlong)
	return engine.File{Target: target, Data: data, Mode: int64(info.Mode().Perm())}, err
}

// remember keeps what a container that is started again must be given; one that is built anew has
// it all.
func (w *watcher) remember(put []engine.File, gone []string, anew bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if anew {
		clear(w.synced)
	}
	for _, f := range put {
		w.synced[f.Target] = f
	}
	for _, target := range gone {
		delete(w.synced, target)
	}
}

// given is what a new container gets of what has changed.
func (w *watcher) given() (out []engine.File) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, target := range slices.Sorted(maps.Keys(w.synced)) {
		out = append(out, w.synced[target])
	}
	return out
}

// into puts files into the running containers, and runs what is to be run there.
func (w *watcher) into(ctx context.Context, put []engine.File, gone []string,
	runs []stack.Hook) error {
	c, ok := w.x.at(w.id).now().Process.(*run.Container)
	if !ok {
		return nil // it will get them when it starts
	}
	for _, id := range c.IDs() {
		if len(put) > 0 {
			if err := c.Engine().Put(ctx, id, put, false); err != nil {
				return err
			}
		}
		if len(gone) > 0 {
			if _, err := c.Engine().Exec(ctx, id,
				append([]string{"rm", "-rf", "--"}, gone...)); err != nil {
				return err
			}
		}
		for _, h := range runs {
			if _, err := c.Engine().Hook(ctx, id, h, discard{}); err != nil {
				return err
			}
		}
	}
	return nil
}

type discard struct{}

func (discard) Write(p []byte) (int, error) { return len(p), nil }

// renew stops one service and starts it again, with its image as its files are now. What needs it
// goes on.
func (x watching) renew(id stack.NodeID) {
	old := x.at(id)
	if s := old.now().State; s == stack.Stopped || s == stack.Waiting {
		return
	}
	x.renewing.Add(1) // so that nobody takes the end of the old one for the end of all
	defer func() {
		x.renewing.Add(-1)
		x.journal.mu.Lock()
		x.journal.stir()
		x.journal.mu.Unlock()
	}()
	x.stop(old)
	fresh := newNode(x.Plan(), id)
	x.mu.Lock()
	x.nodes[id] = fresh
	x.mu.Unlock()
	for _, o := range x.Plan().Order.Nodes {
		if o.ID == id {
			x.node(fresh, o.After)
		}
	}
}

// initial is what a container gets of a rule's files when it is started first.
func (x watching) initial(s *plan.Service) (out []engine.File, err error) {
	x.mu.RLock()
	w := x.watchers[stack.ServiceNode(s.Name)]
	x.mu.RUnlock()
	for _, r := range s.Container.Watch {
		if !r.Initial || !strings.HasPrefix(r.Action, "sync") {
			continue
		}
		files, _, err := x.containers().along(stack.Mount{Source: r.Path, Target: r.Target})
		if err != nil {
			return nil, err
		}
		skip, err := patternmatcher.New(append([]string{".git"}, r.Ignore...))
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			rel := strings.TrimPrefix(strings.TrimPrefix(f.Target, r.Target), "/")
			if ignored, err := skip.MatchesOrParentMatches(rel); err == nil && !ignored {
				out = append(out, f)
			}
		}
	}
	if w != nil {
		out = append(out, w.given()...)
	}
	return out, nil
}
