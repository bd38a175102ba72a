package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

// fillFlags are what fill and launch both take.
type fillFlags struct {
	set      []string
	answers  string
	only     string
	noLocker bool
	given    bool // --from-locker
	try      bool
}

func (f *fillFlags) add(c *cobra.Command) {
	c.Flags().StringArrayVar(&f.set, "set", nil,
		"KEY=VALUE, or FILE:KEY=VALUE for one file; may be repeated")
	c.Flags().StringVar(&f.answers, "answers", "",
		"a file that answers what would be asked: KEY=VALUE lines, or TOML with a table for "+
			"each settings file")
	c.Flags().BoolVar(&f.given, "from-locker", false,
		"this folder is the clone that it says to be: give it the issued secrets that the "+
			"locker has of that repository")
	c.Flags().BoolVar(&f.noLocker, "no-locker", false,
		"neither take issued secrets out of the locker nor keep them there")
}

func fillCommand(a *app) *cobra.Command {
	var flags fillFlags
	var dry, reveal bool
	c := &cobra.Command{
		Use: "fill", Short: "Makes the settings files: copies, derives, generates, and asks for " +
			"the rest",
		Args: takes(0, 0),
		Long: `Makes every settings file that a template or a compose file promises, and completes
those that are there. Each setting keeps its value, follows from the stack, is made
up, or is asked for: on a terminal in a form, otherwise by --set, --answers, the
shell's variable of the same name, or the locker. What was there before is kept
in .nharbor/before.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			s, err := a.surveyed(ctx, session.WithCode)
			if s == nil || err != nil && !session.OnlyVariables(err) {
				return err
			}
			if !dry {
				var free func()
				if s, free, err = s.Alone(ctx, a.waiting); err != nil {
					return err
				}
				defer free()
			}
			filling, err := a.filling(ctx, flags, !dry)
			if err != nil {
				return err
			}
			f, err := s.Fill(ctx, filling)
			if err != nil {
				return left(err)
			}
			p := f.Plan
			if !dry {
				now, err := f.Write(ctx)
				if now == nil {
					return err
				}
				p.Restart = f.Stale(now)
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
			t.Filled(p, dry, view.NextOf(s.Stack))
			return nil
		},
	}
	flags.add(c)
	c.Flags().StringVar(&flags.only, "file", "", "this settings file alone")
	c.Flags().BoolVar(&dry, "dry-run", false, "decide, but write nothing")
	c.Flags().BoolVar(&reveal, "reveal", false, "show secrets")
	c.Flags().BoolVar(&flags.try, "try", false,
		"ask the address beside an issued secret whether it is taken")
	return c
}

// waiting says that somebody else fills the settings of this workspace.
func (a *app) waiting() {
	if !a.json {
		view.For(a.err).Line("Waiting for another command that fills the settings here.")
	}
}

// filling is how the flags ask for settings to be filled; a person is asked if there is one.
func (a *app) filling(ctx context.Context, flags fillFlags, ask bool) (session.Filling, error) {
	out := session.Filling{Only: flags.only, Locker: !flags.noLocker, Try: flags.try,
		Complain: a.complain}
	var err error
	if out.Set, err = pairs(flags.set); err != nil {
		return out, err
	}
	if flags.answers != "" {
		if out.Answers, err = readAnswers(flags.answers); err != nil {
			return out, err
		}
	}
	switch {
	case flags.given:
		out.Clone = func(string, string) bool { return true }
	case ask && a.asks():
		out.Clone = func(folder, repository string) bool {
			return a.yes(fmt.Sprintf("The locker has secrets of %s. Is %s a clone of it that "+
				"you have made, and may it have them?", view.Clean(repository), view.Clean(folder)))
		}
	}
	if ask && a.asks() {
		out.Ask = func(list []fill.Question) ([]string, error) {
			return view.Ask(ctx, a.in, a.err, list)
		}
	}
	return out, nil
}

// left says of a form that was left that nothing was written.
func left(err error) error {
	if errors.Is(err, view.ErrLeft) {
		return &stack.Fault{Kind: stack.Interrupted, Code: stack.CodeInterrupted,
			Text: "left without writing anything", Remedy: "Come back with nharbor fill."}
	}
	return err
}

// complain says on the error output what went wrong without being a reason to end.
func (a *app) complain(err error) {
	for _, f := range stack.AllFaults(err) {
		if a.json {
			view.JSONLine(a.err, map[string]string{"schema": "nharbor.warning/1",
				"code": string(f.Code), "text": f.Text, "remedy": f.Remedy})
		} else {
			where := ""
			if f.At.File != "" {
				where = " (" + f.Where() + ")"
			}
			view.For(a.err).Line("warning: %s%s. %s", f.Text, where, f.Remedy)
		}
	}
}

// readAnswers reads KEY=VALUE lines, or TOML: keys at its top for every file, and in a table named
// after a settings file for that one.
func readAnswers(name string) (map[string]string, error) {
	unreadable := func(at stack.Place, text string, err error) error {
		return &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeAnswersUnreadable, At: at,
			Text: text,
			Remedy: "Name a file of KEY=VALUE lines, or a .toml file: KEY = \"VALUE\", and a " +
				"table like [\"api/.env\"] for what one file alone is to get.", Cause: err}
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, unreadable(stack.Place{File: name},
			"the answers can't be read: "+stack.Reason(err), err)
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
