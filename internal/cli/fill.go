package cli

import (
	"bufio"
	"context"
	"crypto/rand"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

// fillFlags are what fill and launch both take.
type fillFlags struct {
	set     []string
	answers string
	only    string
}

func (f *fillFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.set, "set", nil, "KEY=VALUE, or FILE:KEY=VALUE for one file; may be repeated")
	c.Flags().StringVar(&f.answers, "answers", "", "a file of KEY=VALUE lines that answers what would be asked")
}

func (a *app) fill() *cobra.Command {
	var flags fillFlags
	var dry, reveal bool
	c := &cobra.Command{
		Use: "fill", Short: "Makes the settings files: copies, derives, generates, and asks for the rest", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.open(cmd.Context())
			if w == nil || w.stack == nil || err != nil && !onlyVariables(err) {
				return err
			}
			p, err := a.makeFill(w, flags, !dry)
			if err != nil {
				return err
			}
			if !dry {
				if err := p.Write(w.root); err != nil {
					return err
				}
			}
			if !p.Complete {
				a.status = int(stack.Missing)
			}
			if a.json {
				return view.JSON(a.out, p)
			}
			t := a.text()
			t.Fill(p, dry, reveal)
			a.warnTracked(cmd.Context(), w, p, t)
			t.Blank()
			if p.Complete {
				t.Line("Every setting has its value. Next: nharbor launch")
				return nil
			}
			t.Missing(p)
			t.Blank()
			t.Line("Give them with --set KEY=VALUE or, so that they stay out of the shell's history, with --answers FILE.")
			return nil
		},
	}
	flags.add(c)
	c.Flags().StringVar(&flags.only, "file", "", "this settings file alone")
	c.Flags().BoolVar(&dry, "dry-run", false, "decide, but write nothing")
	c.Flags().BoolVar(&reveal, "reveal", false, "show secrets")
	return c
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
func (a *app) makeFill(w *work, flags fillFlags, ask bool) (*fill.Plan, error) {
	opt := fill.Options{Random: rand.Reader, Only: flags.only}
	var err error
	if opt.Set, err = pairs(flags.set); err != nil {
		return nil, err
	}
	if flags.answers != "" {
		if opt.Answers, err = readAnswers(flags.answers); err != nil {
			return nil, err
		}
	}
	if ask && a.asks() {
		opt.Ask = a.ask
	}
	return fill.Make(w.fsys, w.stack, opt)
}

func readAnswers(name string) (map[string]string, error) {
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "answers-unreadable", At: stack.Place{File: name}, Text: "the answers can't be read: " + err.Error(), Remedy: "Name a file of KEY=VALUE lines.", Cause: err}
	}
	f, err := dotenv.Parse(name, data)
	if err != nil {
		return nil, err
	}
	return f.Values(func(string) (string, bool) { return "", false })
}

// ask asks one question on the terminal; an empty answer leaves it open.
func (a *app) ask(q fill.Question) (string, bool, error) {
	fmt.Fprintf(a.err, "\n%s in %s", q.Key, q.File)
	if len(q.Services) > 0 {
		fmt.Fprintf(a.err, ", used by %s", strings.Join(q.Services, ", "))
	}
	fmt.Fprintln(a.err)
	if q.Hint != "" {
		fmt.Fprintln(a.err, "  "+q.Hint)
	}
	if q.Secret {
		fmt.Fprint(a.err, "  Value (not shown while you type; empty to skip): ")
		b, err := term.ReadPassword(int(a.in.(*os.File).Fd()))
		fmt.Fprintln(a.err)
		return strings.TrimSpace(string(b)), err == nil, err
	}
	fmt.Fprint(a.err, "  Value (empty to skip): ")
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return strings.TrimSpace(line), err == nil, nil
}

// warnTracked says loudly when git keeps a settings file, or would at the next add.
func (a *app) warnTracked(ctx context.Context, w *work, p *fill.Plan, t *view.Text) {
	for _, f := range p.Files {
		secret := false
		for _, s := range f.Settings {
			secret = secret || s.Secret
		}
		full := filepath.Join(w.root, filepath.FromSlash(f.Path))
		top, ok := gitrepo.Top(filepath.Dir(full))
		if !ok || !secret {
			continue
		}
		rel, err := filepath.Rel(top, full)
		if err != nil {
			continue
		}
		tracked, ignored := gitrepo.Tracked(ctx, top, rel)
		switch {
		case tracked:
			t.Blank()
			t.Line("warning: git keeps %s, and it holds secrets. Take it out with: git rm --cached %s", f.Path, rel)
		case !ignored:
			t.Blank()
			t.Line("warning: git does not ignore %s, and it holds secrets. Add a line to .gitignore: %s", f.Path, filepath.Base(rel))
		}
	}
}
