package cli

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/gofrs/flock"
	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/locker"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

// fillFlags are what fill and launch both take.
type fillFlags struct {
	set      []string
	answers  string
	only     string
	noLocker bool
	try      bool
}

func (f *fillFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.set, "set", nil, "KEY=VALUE, or FILE:KEY=VALUE for one file; may be repeated")
	c.Flags().StringVar(&f.answers, "answers", "",
		"a file that answers what would be asked: KEY=VALUE lines, or TOML with a table for each settings file")
	c.Flags().BoolVar(&f.noLocker, "no-locker", false,
		"neither take issued secrets out of the locker nor keep them there")
}

func (a *app) fill() *cobra.Command {
	var flags fillFlags
	var dry, reveal bool
	c := &cobra.Command{
		Use: "fill", Short: "Makes the settings files: copies, derives, generates, and asks for the rest",
		Args: cobra.NoArgs,
		Long: `Makes every settings file that a template or a compose file promises, and completes
those that are there. Each setting keeps its value, follows from the stack, is made
up, or is asked for: on a terminal in a form, otherwise by --set, --answers, the
shell's variable of the same name, or the locker. What was there before is kept
in .nharbor/before.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.open(cmd.Context())
			if w == nil || w.stack == nil || err != nil && !onlyVariables(err) {
				return err
			}
			if !dry {
				free, err := a.alone(cmd.Context(), w)
				if err != nil {
					return err
				}
				defer free()
			}
			p, err := a.makeFill(cmd.Context(), w, flags, !dry)
			if err != nil {
				return err
			}
			if !dry {
				if err := a.writeFill(cmd.Context(), w, p, flags); err != nil {
					return err
				}
				p.Restart = a.stale(cmd.Context(), w, p)
			}
			if !p.Complete {
				a.status = int(stack.Missing)
			}
			if a.json {
				return view.JSON(a.out, p)
			}
			t := a.text()
			t.Fill(p, dry, reveal)
			t.Loud(p)
			t.Blank()
			if !p.Complete {
				t.Missing(p)
				t.Blank()
				t.Line("Give them with --set KEY=VALUE or, so that they stay out of the shell's history, with " +
					"--answers FILE or nharbor locker put KEY. To leave one empty: nharbor fill --set KEY=")
				return nil
			}
			if len(p.Restart) > 0 {
				t.Line("Every setting has its value, and these still run with the old ones: %s. Next: nharbor "+
					"restart %s", strings.Join(p.Restart, ", "), strings.Join(p.Restart, " "))
				return nil
			}
			next := "nharbor launch"
			if dry {
				next = "nharbor fill, without --dry-run"
			}
			t.Line("Every setting has its value. Next: %s", next)
			return nil
		},
	}
	flags.add(c)
	c.Flags().StringVar(&flags.only, "file", "", "this settings file alone")
	c.Flags().BoolVar(&dry, "dry-run", false, "decide, but write nothing")
	c.Flags().BoolVar(&reveal, "reveal", false, "show secrets")
	c.Flags().BoolVar(&flags.try, "try", false, "ask the address beside an issued secret whether it is taken")
	return c
}

// alone keeps others from filling the same workspace until free is called, so that a secret is made once. The workspace
// is
// surveyed again if somebody else was at it since. Where no lock can be had the writing itself will say why.
func (a *app) alone(ctx context.Context, w *work) (free func(), err error) {
	free = func() {}
	if dir, err := workspace.MakeStateDir(w.root); err == nil {
		lock := flock.New(filepath.Join(dir, "fill.lock"))
		if got, err := lock.TryLock(); err == nil && !got {
			if !a.json {
				view.For(a.err).Line("Waiting for another command that fills the settings here.")
			}
			lock.Lock()
		}
		free = func() { lock.Unlock() }
	}
	for _, e := range w.stack.EnvFiles {
		if _, err := fs.Stat(w.fsys, e.Path); (err == nil) != e.Present {
			if err := w.survey(ctx); err != nil && !onlyVariables(err) {
				free()
				return nil, err
			}
			break
		}
	}
	return free, nil
}

// onlyVariables reports whether all that is wrong is variables without a value, which fill can give.
func onlyVariables(err error) bool {
	for _, f := range stack.AllFaults(err) {
		if f.Code != "compose-variable-required" {
			return false
		}
	}
	return true
}

// makeFill plans the settings; asking, if a person is there.
func (a *app) makeFill(ctx context.Context, w *work, flags fillFlags, ask bool) (*fill.Plan, error) {
	opt := fill.Options{Random: rand.Reader, Only: flags.only, Now: time.Now(), Environment: os.LookupEnv,
		Git: gitKnows(ctx, w)}
	var err error
	if opt.Set, err = pairs(flags.set); err != nil {
		return nil, err
	}
	if flags.answers != "" {
		if opt.Answers, err = readAnswers(flags.answers); err != nil {
			return nil, err
		}
	}
	var stores map[string]string
	opt.Data = func(service string) string {
		if stores == nil {
			stores = launch.Stores(ctx, w.root, w.stack)
		}
		return stores[service]
	}
	waived := readWaived(w.root)
	opt.Waived = func(file, key string) bool { return slices.Contains(waived, fill.Member{File: file, Key: key}) }
	if !flags.noLocker {
		opt.Locker = a.fromLocker(ctx, w)
	}
	if flags.try {
		opt.Try = func(endpoint, secret string) (string, bool) { return fill.Trial(ctx, trialClient, endpoint, secret) }
	}
	if ask && a.asks() {
		opt.Ask = func(list []fill.Question) ([]string, error) { return view.Ask(ctx, a.in, a.err, list) }
	}
	p, err := fill.Make(w.fsys, w.stack, opt)
	if errors.Is(err, view.ErrLeft) {
		return nil, &stack.Fault{Kind: stack.Interrupted, Code: "interrupted", Text: "left without writing anything",
			Remedy: "Come back with nharbor fill."}
	}
	return p, err
}

var trialClient = &http.Client{Timeout: 10 * time.Second}

// fromLocker looks issued secrets up by the repository that a settings file lies in. A locker that can't be used is
// said once, and asked no more.
func (a *app) fromLocker(ctx context.Context, w *work) func(file, key string) (string, bool) {
	store, err := locker.Default()
	names := map[string]string{}
	return func(file, key string) (string, bool) {
		if err != nil {
			return "", false
		}
		var value string
		var ok bool
		if value, ok, err = store.Get(w.repository(ctx, file, names), key); err != nil {
			a.complain(err)
		}
		return value, ok
	}
}

// complain says on the error output what went wrong without being a reason to end.
func (a *app) complain(err error) {
	for _, f := range stack.AllFaults(err) {
		if a.json {
			view.JSONLine(a.err, map[string]string{"schema": "nharbor.warning/1", "code": f.Code, "text": f.Text,
				"remedy": f.Remedy})
		} else {
			where := ""
			if f.At.File != "" {
				where = " (" + f.Where() + ")"
			}
			view.For(a.err).Line("warning: %s%s. %s", f.Text, where, f.Remedy)
		}
	}
}

// repository names the repository that a settings file belongs to, or its workspace where it belongs to none.
func (w *work) repository(ctx context.Context, file string, known map[string]string) string {
	top, ok := gitrepo.Top(filepath.Dir(filepath.Join(w.root, filepath.FromSlash(file))))
	if !ok {
		return "folder:" + w.root
	}
	if _, asked := known[top]; !asked {
		if known[top] = gitrepo.Name(ctx, top); known[top] == "" {
			known[top] = "folder:" + top
		}
	}
	return known[top]
}

// gitKnows asks git about all settings files at once, one question for each checkout.
func gitKnows(ctx context.Context, w *work) func(string) string {
	files := map[string][]string{} // by the checkout's top, relative to it
	known := map[string]string{}
	for _, e := range w.stack.EnvFiles {
		for _, name := range []string{e.Path, filepath.ToSlash(filepath.Join(filepath.Dir(e.Path), ".env.local")),
			filepath.ToSlash(filepath.Join(filepath.Dir(e.Path), ".env"))} {
			if top, rel, ok := inCheckout(w.root, name); ok && !slices.Contains(files[top], rel) {
				files[top] = append(files[top], rel)
			}
		}
	}
	if top, _, ok := inCheckout(w.root, ".env"); ok {
		files[top] = append(files[top], ".env")
	}
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
		top, rel, _ := inCheckout(w.root, file)
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

// writeFill writes the files, and keeps in the locker what only a third party can give.
func (a *app) writeFill(ctx context.Context, w *work, p *fill.Plan, flags fillFlags) error {
	if err := p.Write(w.root); err != nil {
		return err
	}
	if err := keepWaived(w.root, p.Waived); err != nil {
		return err
	}
	if flags.noLocker {
		return nil
	}
	var keep []locker.Secret
	names := map[string]string{}
	for _, f := range p.Files {
		for i := range f.Settings {
			if s := &f.Settings[i]; s.Issued && s.Origin == fill.Answered && s.Value() != "" {
				keep = append(keep, locker.Secret{Repository: w.repository(ctx, f.Path, names), Key: s.Key,
					Value: s.Value(), Since: time.Now().UTC().Truncate(time.Second)})
				s.Remark = strings.TrimPrefix(s.Remark+"; kept in the locker for the next time", "; ")
			}
		}
	}
	if len(keep) == 0 {
		return nil
	}
	store, err := locker.Default()
	if err == nil {
		err = store.Put(keep...)
	}
	if err != nil {
		a.complain(err)
	}
	return nil
}

// waivedFile holds the settings that are to stay empty, beside the rest of the workspace's state.
func waivedFile(root string) string { return filepath.Join(root, workspace.StateDir, "empty.json") }

func readWaived(root string) (list []fill.Member) {
	if data, err := os.ReadFile(waivedFile(root)); err != nil || json.Unmarshal(data, &list) != nil {
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
		_, err = workspace.MakeStateDir(root)
	}
	if err == nil {
		err = workspace.WriteFile(waivedFile(root), data, 0o600)
	}
	if err != nil {
		return &stack.Fault{Kind: stack.Unreadable, Code: "state-unwritable", At: stack.Place{File: waivedFile(root)},
			Text:   "what is to stay empty can't be remembered: " + stack.Reason(err),
			Remedy: "Check the free space and the rights of .nharbor.", Cause: err}
	}
	return nil
}

// stale lists the services that run with what the files said before they were written.
func (a *app) stale(ctx context.Context, w *work, p *fill.Plan) []string {
	r, err := launch.ReadRecord(w.root)
	if err != nil || !r.Alive() || !slices.ContainsFunc(p.Files, func(f fill.File) bool { return f.Written }) {
		return nil
	}
	now := &work{root: w.root, fsys: w.fsys}
	if now.survey(ctx) != nil {
		return nil
	}
	c := a.changes(now, r)
	if c == nil {
		return nil
	}
	return c.Services
}

// readAnswers reads KEY=VALUE lines, or TOML: keys at its top for every file, and in a table named after a settings
// file for that one.
func readAnswers(name string) (map[string]string, error) {
	unreadable := func(at stack.Place, text string, err error) error {
		return &stack.Fault{Kind: stack.Unreadable, Code: "answers-unreadable", At: at, Text: text,
			Remedy: "Name a file of KEY=VALUE lines, or a .toml file: KEY = \"VALUE\", and a table like " +
				"[\"api/.env\"] for what one file alone is to get.", Cause: err}
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, unreadable(stack.Place{File: name}, "the answers can't be read: "+stack.Reason(err), err)
	}
	if filepath.Ext(name) != ".toml" {
		f, err := dotenv.Parse(name, data)
		if err != nil {
			return nil, err
		}
		return f.Values(func(string) (string, bool) { return "", false })
	}
	var tree map[string]any
	if err := toml.Unmarshal(data, &tree); err != nil {
		at := stack.Place{File: name}
		var de *toml.DecodeError
		if errors.As(err, &de) {
			at.Line, _ = de.Position()
		}
		return nil, unreadable(at, "the answers are no valid TOML", nil)
	}
	out := map[string]string{}
	for key, v := range tree {
		table, ok := v.(map[string]any)
		if !ok {
			table = map[string]any{key: v}
			key = ""
		}
		for k, v := range table {
			switch v.(type) {
			case string, int64, float64, bool:
			default:
				return nil,
					unreadable(stack.Place{File: name},
						fmt.Sprintf("the answer for %s is no text, number, true or false", k), nil)
			}
			if key != "" {
				k = key + ":" + k
			}
			out[k] = fmt.Sprint(v)
		}
	}
	return out, nil
}
