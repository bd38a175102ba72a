package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func (a *app) restart() *cobra.Command {
	var vouched bool
	c := &cobra.Command{
		Use:   "restart [SERVICE...]",
		Short: "Restarts the stack, or the services named and what needs them, with the settings as they are now",
		Long: `Stops the services named, and those that need them, and starts them again with the
settings and commands as the files say them now. Steps that lead to them are done
again where what they depend on has changed.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open(cmd.Context())
			if w == nil || w.stack == nil || err != nil && !onlyVariables(err) {
				return err
			}
			r, err := launch.ReadRecord(w.root)
			if err != nil {
				return err
			}
			if !r.Alive() {
				return &stack.Fault{Kind: stack.NotSo, Code: "not-launched",
					Text: "nothing of this workspace is running", Remedy: "Launch it: nharbor launch"}
			}
			if err := launchedServices(r, args); err != nil {
				return err
			}
			opt := r.Options
			if err := a.settingsReady(cmd.Context(), w); err != nil {
				return err
			}
			mixed, o, err := a.mix(w, opt)
			if err != nil {
				return err
			}
			if err := a.consent(&work{root: w.root, fsys: w.fsys, stack: mixed}, o, vouched); err != nil {
				return err
			}
			plan, err := launch.Make(w.root, w.stack, mixed, o, opt)
			if err != nil {
				return err
			}
			return a.runRestart(cmd, w, mixed, r, plan, args)
		},
	}
	c.Flags().BoolVar(&vouched, "vouch", false, "consent to the commands that are shown, for unattended runs")
	return c
}

// settingsReady makes sure that no setting is missing.
func (a *app) settingsReady(ctx context.Context, w *work) error {
	p, err := a.makeFill(ctx, w, fillFlags{}, false)
	if err != nil {
		return err
	}
	if len(p.Missing) > 0 {
		m := p.Missing[0]
		return &stack.Fault{Kind: stack.Missing, Code: "setting-missing", At: stack.Place{File: m.File},
			Text:   fmt.Sprintf("the setting %s has no value, and only you can give it", m.Key),
			Remedy: "Give it: nharbor fill"}
	}
	return nil
}

// launchedServices complains of a name that no launched service has.
func launchedServices(r *launch.Record, names []string) error {
	for _, name := range names {
		if r.Service(name) != nil {
			continue
		}
		f := &stack.Fault{Kind: stack.WrongCall, Code: "service-unknown", Text: "no launched service is called " + name,
			Remedy: "Nothing is launched here."}
		if r != nil {
			var known []string
			for _, s := range r.Services {
				known = append(known, s.Name)
			}
			f.Remedy = "There are: " + strings.Join(known, ", ")
		}
		return f
	}
	return nil
}

func (a *app) runRestart(cmd *cobra.Command, w *work, mixed *stack.Stack, r *launch.Record, plan *launch.Plan,
	names []string) error {
	t, begin := a.text(), time.Now()
	widest := 0
	for _, n := range plan.Order.Nodes {
		widest = max(widest, len(order.Title(n.ID)))
	}
	done, err := launch.Restart(cmd.Context(), r, plan, names, func(e stack.Event) {
		e.T = time.Since(begin).Seconds()
		switch {
		case a.json:
			view.JSONLine(a.out, e)
		case e.State != stack.Waiting:
			t.Event(e, widest)
		}
	})
	if err != nil {
		return err
	}
	if r, err = launch.ReadRecord(w.root); err != nil {
		return err
	}
	result := stack.LaunchResult{Schema: "nharbor.launch/1", Outcome: done.Outcome,
		Seconds: time.Since(begin).Round(time.Millisecond).Seconds(), Services: done.Services}
	part := slices.DeleteFunc(slices.Clone(mixed.Services), func(s stack.Service) bool {
		rec := r.Service(s.Name)
		return rec == nil || rec.State == stack.Stopped
	})
	result.Check = launch.CheckPorts(cmd.Context(), r.Merge(part), r)
	if done.Outcome != "answering" {
		a.status = 1
	}
	if a.json {
		return view.JSONLine(a.out, result)
	}
	t.Blank()
	for _, f := range done.Failures {
		t.Line("  %s", f)
	}
	t.Check(result.Check)
	return nil
}

func (a *app) reset() *cobra.Command {
	var data bool
	c := &cobra.Command{
		Use: "reset", Short: "Throws away what was set up, so that the next launch does it again", Args: cobra.NoArgs,
		Long: `Stops what runs and forgets which steps are done. With --data the volumes of this
stack's databases are removed too, and the database files that its steps have made:
all that is in them is lost. Volumes of other stacks are never touched.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			root, _, err := a.record()
			if err != nil {
				return err
			}
			gone, err := launch.Reset(cmd.Context(), root, data)
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.out, struct {
					Schema string `json:"schema"`
					*launch.Removed
				}{"nharbor.reset/1", gone})
			}
			t := a.text()
			if gone.Stopped {
				t.Line("Everything has been stopped.")
			}
			t.Line("Forgotten: which steps are done. The next launch does them again.")
			switch {
			case !data:
				t.Line("The data of the databases is kept. To throw it away too: nharbor reset --data")
			case len(gone.Volumes)+len(gone.Files) == 0:
				t.Line("There was no data of this stack.")
			default:
				t.Line("Removed, with all that was in it: %s", strings.Join(append(gone.Volumes, gone.Files...), ", "))
			}
			return nil
		},
	}
	c.Flags().BoolVar(&data, "data", false, "remove this stack's volumes and database files too")
	return c
}
