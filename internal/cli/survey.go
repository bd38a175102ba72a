package cli

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/hide"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

func surveyCommand(a *app) *cobra.Command {
	var model, reveal, write, all bool
	var why string
	c := &cobra.Command{
		Use: "survey", Short: "Says what is here: projects, services, ports, settings, and how " +
			"that is known",
		Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if model { // which needs no more than the compose files
				w, err := a.opened(cmd.Context())
				if err != nil {
					return err
				}
				return a.surveying().surveyCompose(w, reveal)
			}
			w, err := a.surveyed(cmd.Context(), session.Code(!write))
			var f *stack.Fault
			if w == nil || errors.As(err, &f) && f.Code == stack.CodeNothingFound {
				return err
			}
			if write {
				return a.surveying().draft(w)
			}
			if why != "" {
				return a.surveying().why(w.Stack, why, err)
			}
			// What could be read is shown; what could not is the error.
			a.tells = true
			if a.json {
				shown := w.Stack
				if !reveal {
					shown = hide.Stack(shown)
				}
				write := view.JSON
				if reveal {
					write = view.JSONRevealed
				}
				if err := write(a.out, shown); err != nil {
					return err
				}
			} else {
				a.text().Survey(hide.Stack(w.Stack), all)
			}
			if session.OnlyVariables(err) {
				err = nil // a remark says so
			}
			if err == nil && !a.json {
				next := view.NextOf(w.Stack)
				if len(w.Stack.Services) > 0 {
					next = "nharbor needs (what this machine lacks), or " + next +
						" for the whole job."
				}
				a.text().Line("Next: %s", next)
			}
			return err
		},
	}
	c.Flags().BoolVar(&all, "all", false,
		"of a large application show everything, not what matters first")
	c.Flags().BoolVar(&model, "compose", false,
		"show the merged, interpolated model of the active compose files")
	c.Flags().BoolVar(&write, "write", false,
		"draft "+corrections.File+", in which every conclusion can be corrected")
	c.Flags().StringVar(&why, "why", "",
		"show all that is said of a service, a port or a setting of this name, what counts first")
	notTogether(c, "compose", "write")
	notTogether(c, "compose", "why")
	notTogether(c, "write", "why")
	c.Flags().BoolVar(&reveal, "reveal", false, "in JSON and with --compose: show secrets")
	return c
}

// draft writes the file of corrections. One that is there already is left as it is.
func (a surveying) draft(w *session.Surveyed) error {
	file := filepath.Join(w.Root, corrections.File)
	if _, err := os.Lstat(file); err == nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCorrectionsExist,
			At:   stack.Place{File: corrections.File},
			Text: "the file is there already; it is left as it is", Remedy: "To draft a new " +
				"one, move it away first."}
	}
	if err := workspace.WriteFile(file, []byte(survey.Draft(hide.Stack(w.Stack))),
		0o644); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeCorrectionsNotWritten,
			At: stack.Place{File: corrections.File}, Text: "the file can't be written: " +
				stack.Reason(err), Remedy: "Check the folder's rights and the disk.", Cause: err}
	}
	if a.json {
		return view.JSON(a.out, map[string]any{"schema": "nharbor.draft/1",
			"written": corrections.File})
	}
	what := "Everything in it is a comment"
	if survey.HasLearned(w.Stack) {
		what = "What launches had to learn counts by it, for whoever has it; the rest is a comment"
	}
	a.text().Line("Written: %s. %s; take the # from what you want to correct.", corrections.File,
		what)
	a.text().Line("See what comes of it: nharbor survey")
	return nil
}

// surveyCompose shows the model of the active compose files; those of several checkouts become one.
func (a surveying) surveyCompose(w *session.Workspace, reveal bool) error {
	projects, err := survey.Compose(w.Files, survey.Options{Root: w.Root, Checkouts: w.Checkouts,
		Env: os.LookupEnv})
	if err != nil {
		return err
	}
	if len(projects) == 0 {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeComposeNone,
			Text: "no compose file is active here", Remedy: "See what was found: nharbor survey"}
	}
	var models []*compose.Value
	from := map[string]map[string]compose.Given{}
	name, files := projects[0].Name, []string{}
	if name == "" {
		name = compose.NameOf(w.Root)
	}
	for _, p := range projects {
		m, given := p.Resolved()
		maps.Copy(from, given)
		if !reveal {
			m = m.Masked(p.Secrets)
		}
		models = append(models, m)
		files = append(files, p.Files...)
		files = append(files, p.Included...)
	}
	if a.json {
		sections := func(key string) any { return compose.Section(models, key) }
		write := view.JSON
		if reveal {
			write = view.JSONRevealed
		}
		return write(a.out, struct {
			Schema   string   `json:"schema"`
			Name     string   `json:"name"`
			Files    []string `json:"files"`
			Services any      `json:"services"`
			Networks any      `json:"networks"`
			Volumes  any      `json:"volumes"`
			Secrets  any      `json:"secrets"`
			Configs  any      `json:"configs"`
			// From tells, by service and key, where each setting of the environment is from.
			From map[string]map[string]compose.Given `json:"environmentFrom"`
		}{"nharbor.compose/1", name, files, sections("services"), sections("networks"),
			sections("volumes"), sections("secrets"), sections("configs"), from})
	}
	t := a.text()
	t.Reveals = reveal
	t.Compose(name, files, models, from)
	return nil
}

// why shows what all witnesses say of one thing. A fault of the survey is told behind it.
func (a surveying) why(s *stack.Stack, name string, fault error) error {
	claims := survey.Why(hide.Stack(s), name)
	if len(claims) == 0 {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNothingSaid,
			Text: fmt.Sprintf("nothing is said here of %q", name),
			Remedy: "Name a service, a port or a setting, as nharbor survey shows " +
				"them.", Cause: fault}
	}
	if a.json {
		if err := view.JSON(a.out, struct {
			Schema string        `json:"schema"`
			Name   string        `json:"name"`
			Claims []stack.Claim `json:"claims"`
		}{"nharbor.why/1", name, claims}); err != nil {
			return err
		}
		return fault
	}
	a.text().Why(claims)
	return fault
}
