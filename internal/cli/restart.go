package cli

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/view"
)

func restartCommand(a *app) *cobra.Command {
	var vouched pinned
	var mends bool
	c := &cobra.Command{
		Use: "restart [SERVICE...]",
		Short: "Restarts the stack, or the services named and what needs them, with the " +
			"settings as they are now",
		Long: `Stops the services named, and those that need them, and starts them again with the
settings and commands as the files say them now. Steps that lead to them are done
again where what they depend on has changed.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			ms := &mendings{a: a.launching(), unask: mends, done: map[string]bool{}, running: true}
			for {
				again, err := a.restartOnce(cmd.Context(), args, vouched, ms)
				var f *stack.Fault
				if errors.As(err, &f) && f.Code == stack.CodeNotLaunched && len(ms.done) > 0 {
					// What was restarted was all that ran; with it the stack has ended.
					return a.launching().mending(cmd.Context(), ms.options, fillFlags{}, vouched,
						ms)
				}
				if err != nil || len(again) == 0 {
					return err
				}
				args, a.status = again, 0
			}
		},
	}
	c.Flags().BoolVar(&mends, "mend", false,
		"do what a cause asks for where something fails, as far as it was consented to, and go on")
	vouchFlag(c, &vouched)
	return c
}

// restartOnce restarts services, and gives those that are to be restarted once more, since
// something was agreed to that may mend them.
func (a *app) restartOnce(ctx context.Context, names []string, vouched pinned,
	ms *mendings) (again []string, err error) {
	s, r, err := a.launched(ctx, session.WithCode)
	if err != nil {
		return nil, err
	}
	if err := r.Has(names); err != nil {
		return nil, err
	}
	filling, err := a.filling(ctx, fillFlags{}, false)
	if err != nil {
		return nil, err
	}
	m, err := s.Again(ctx, r, filling)
	if err != nil {
		return nil, err
	}
	if err := a.consent(ctx, m, vouched); err != nil {
		return nil, err
	}
	plan, err := m.Plan()
	if err != nil {
		return nil, err
	}
	if err := a.runRestart(ctx, m, r, plan, names, ms); err != nil || len(ms.next) == 0 {
		return nil, err
	}
	ms.options = r.Options
	ms.options.Background = true
	s.Mend(ms.next, time.Now())
	for _, act := range ms.next {
		if name, ok := act.ID.Service(); ok {
			again = append(again, name)
		}
	}
	return again, nil
}

// runRestart restarts services by a plan. With mendings what can be done about failures is agreed
// to then; nil for none.
func (a *app) runRestart(ctx context.Context, m *session.Mixed, r *record.Record, plan *plan.Plan,
	names []string, ms *mendings) error {
	t, begin, width := a.text(), time.Now(), widest(m.Order)
	done, err := steward.Restart(ctx, r, plan, names, func(e stack.Event) {
		e.T = time.Since(begin).Seconds()
		if ms != nil {
			ms.saw(e)
		}
		switch {
		case a.json:
			view.JSONLine(a.out, e)
		case e.State != stack.Waiting:
			t.Event(e, width)
		}
	})
	if err != nil {
		return err
	}
	if r, err = record.Read(m.Root); err != nil {
		return err
	}
	if ms != nil && ms.agreed(ctx, m, done) {
		ms.tell(func(line string) {
			if !a.json {
				t.Line("%s", line)
			}
		})
		return nil
	}
	result := m.Result(ctx, r, done, time.Since(begin),
		func(rec *record.Service) bool { return rec.State != stack.Stopped })
	if ms != nil {
		result.Mended = ms.mended
	}
	if result.Outcome != stack.AllAnswer {
		a.status = 1
	}
	if a.json {
		return view.JSONLine(a.out, result)
	}
	t.Blank()
	t.Failures(result.Failures)
	t.Check(result.Check)
	if ms != nil {
		ms.running = done.Running > 0 // else the stack ends, and it takes a launch
		ms.byHand(t)
	}
	return nil
}

func resetCommand(a *app) *cobra.Command {
	var data bool
	c := &cobra.Command{
		Use: "reset", Short: "Throws away what was set up, so that the next launch does it " +
			"again", Args: takes(0, 0),
		Long: `Stops what runs and forgets which steps are done. With --data the volumes of this
stack's databases are removed too, and the database files that its steps have made:
all that is in them is lost. Volumes of other stacks are never touched.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			root, _, err := a.record()
			if err != nil {
				return err
			}
			gone, err := steward.Reset(cmd.Context(), root, data)
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.out, struct {
					Schema string `json:"schema"`
					*steward.Removed
				}{"nharbor.reset/1", gone})
			}
			t := a.text()
			if gone.Stopped {
				t.Line("Everything has been stopped.")
			}
			t.Line("Forgotten: which steps are done. The next launch does them again.")
			switch {
			case !data:
				t.Line("The data of the databases is kept. To throw it away too: nharbor reset " +
					"--data")
			case len(gone.Volumes)+len(gone.Files) == 0:
				t.Line("There was no data of this stack.")
			default:
				t.Line("Removed, with all that was in it: %s",
					strings.Join(append(gone.Volumes, gone.Files...), ", "))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&data, "data", false, "remove this stack's volumes and database files too")
	return c
}
