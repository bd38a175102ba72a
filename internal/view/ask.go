package view

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"
	"charm.land/lipgloss/v2"

	"nimbleharbor/internal/fill"
)

// ErrLeft is the error of a form that a person has left before its end.
var ErrLeft = errors.New("the form was left")

// Ask asks a person on a terminal, one setting at a time; an answer left empty leaves the question
// open. It goes back to the one before, and what is typed for a secret is not shown. Its error is
// ErrLeft if the form was left.
func Ask(ctx context.Context, in io.Reader, out io.Writer, list []fill.Question) ([]string, error) {
	answers := make([]string, len(list))
	groups := make([]*huh.Group, len(list))
	plain := os.Getenv("TERM") == "dumb"
	for i, q := range list {
		input := huh.NewInput().Title(Washed(title(i, len(list), q))).Description(
			Washed(describe(q, i, plain))).Value(&answers[i]).Prompt("> ").
			Validate(func(answer string) error {
				_, err := q.Check(answer)
				return err
			})
		if q.Secret {
			input = input.EchoMode(huh.EchoModePassword)
		}
		if plain {
			fmt.Fprintln(out)
		}
		groups[i] = huh.NewGroup(input)
	}
	// Signals end the context; a second handler of them can wait for the first for ever.
	form := huh.NewForm(groups...).WithProgramOptions(tea.WithoutSignalHandler()).WithInput(in).WithOutput(
		out).WithShowHelp(false).WithTheme(huh.ThemeFunc(calm)).WithAccessible(plain)
	err := form.RunWithContext(ctx)
	if errors.Is(err, huh.ErrUserAborted) || ctx.Err() != nil || err == nil && !plain &&
		form.State != huh.StateCompleted {
		return nil, ErrLeft // by a key, or by a signal
	}
	for i := range answers {
		answers[i] = strings.TrimSpace(answers[i])
	}
	return answers, err
}

// calm is a look without colour that is needed to understand it, and without lines beside the text.
func calm(isDark bool) *huh.Styles {
	s := huh.ThemeBase(isDark)
	none := lipgloss.NewStyle()
	s.Focused.Base, s.Blurred.Base = none, none
	s.Focused.Title, s.Blurred.Title = none.Bold(true), none.Bold(true)
	s.Focused.ErrorMessage, s.Focused.ErrorIndicator = none.Bold(true), none
	return s
}

func title(i, n int, q fill.Question) string {
	of := ""
	if n > 1 {
		of = fmt.Sprintf(" (%d of %d)", i+1, n)
	}
	return fmt.Sprintf("%s in %s%s%s", q.Key, q.File, usedBy(q.Services), of)
}

func describe(q fill.Question, i int, plain bool) string {
	var lines []string
	if q.Hint != "" {
		lines = append(lines, q.Hint)
	}
	if !strings.Contains(q.Hint, q.URL) {
		lines = append(lines, "Where: "+q.URL)
	}
	if q.Why != "" {
		lines = append(lines, "Why: "+q.Why)
	}
	keys := ""
	if q.Secret {
		keys = "What you type is masked. "
	}
	if !plain {
		keys += "Enter takes it, or skips it if empty; "
		if i > 0 {
			keys += "shift+tab goes back; "
		}
		keys += "ctrl+c leaves, and nothing is written."
	}
	if keys = strings.TrimSpace(keys); keys != "" {
		lines = append(lines, "", keys)
	}
	return strings.Join(lines, "\n")
}
