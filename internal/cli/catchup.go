package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/view"
)

func catchupCommand(a *app) *cobra.Command {
	var flags fillFlags
	var agree, back bool
	c := &cobra.Command{
		Use: "catchup",
		Short: "Fetches what is new, shows what must be done again for it, and does it once you " +
			"consent",
		Args: takes(0, 0),
		Long: `Asks the repositories of all checkouts for what is new, and shows it before anything
changes: commits, steps that are due again, new settings, services to restart, new
commands to vouch for, and what this machine lacks for it. With your consent the
checkouts are brought there, settings are filled, and what runs follows.

Work that is not committed is never touched. If what comes doesn't come up,
nharbor catchup --back brings the checkouts, and what runs, to where they were.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if back && agree {
				return wrongCall("--back needs no --agree", "nharbor catchup --back")
			}
			dir, err := a.start()
			if err != nil {
				return err
			}
			w, err := session.Open(cmd.Context(), dir, a.named)
			if err != nil {
				return err
			}
			a.workspace = w
			if back {
				return a.catching().wayBack(cmd.Context(), w)
			}
			return a.catching().catchUp(cmd.Context(), w, flags, agree)
		},
	}
	flags.add(c)
	c.Flags().BoolVar(&agree, "agree", false,
		"consent to what comes, and to the commands that are new with it")
	c.Flags().BoolVar(&back, "back", false,
		"bring the checkouts to where they were before the last time")
	return c
}

func (a catching) catchUp(ctx context.Context, w *session.Workspace, flags fillFlags,
	agree bool) error {
	if err := a.elsewhere(w, agree); err != nil {
		return err
	}
	progress := a.fetching()
	options := func(name string) gitrepo.Options {
		return gitrepo.Options{MayAsk: a.asks(), Progress: progress.of(name, true)}
	}
	in, err := w.Fetch(ctx, options)
	progress.done()
	if err != nil {
		return err
	}
	r, err := record.Read(w.Root)
	if err != nil {
		return err
	}
	filling, err := a.filling(ctx, flags, true)
	if err != nil {
		return err
	}
	if in.Any() {
		if err := w.Weigh(ctx, in, r, filling); err != nil {
			return unchanged(err, "of what comes: ")
		}
	}
	a.showIncoming(w.Root, in)
	if !in.Any() {
		return a.onlyJSON(in)
	}
	if agree, err = a.wantsIt(in, agree); err != nil {
		return err
	}
	if !agree {
		a.status = 1
		if !a.json {
			a.text().Line("Nothing was changed. To consent: nharbor catchup --agree")
		}
		return a.onlyJSON(in)
	}
	return a.take(ctx, w, in, options, filling)
}

// onlyJSON writes what comes for a program, and nothing for a person, who has seen it.
func (a catching) onlyJSON(in *session.Incoming) error {
	if !a.json {
		return nil
	}
	return view.JSON(a.out, in)
}

// showIncoming shows a person what comes, and what of it would run.
func (a catching) showIncoming(root string, in *session.Incoming) {
	if a.json {
		return
	}
	t := a.text()
	t.Incoming(in, root)
	if !in.Any() {
		return
	}
	if len(in.Commands) > 0 {
		t.Blank()
		t.Title("These would run for the first time, or have changed")
		t.Vouch(seenFirst(in.Commands))
	}
	t.Blank()
}

// wantsIt asks whether to take what comes, unless that was said; it refuses what can't be taken.
func (a catching) wantsIt(in *session.Incoming, agree bool) (bool, error) {
	if !agree && !a.asks() {
		return false, nil
	}
	if faults := in.InTheWay(a.asks()); len(faults) > 0 {
		return false, unchanged(faults, "")
	}
	return agree || a.yes("Do you want to catch up?"), nil
}

// take takes what comes, as somebody has consented to, and makes the stack follow.
func (a catching) take(ctx context.Context, w *session.Workspace, in *session.Incoming,
	options func(string) gitrepo.Options, filling session.Filling) error {
	if err := w.Take(ctx, in, options); err != nil {
		return err
	}
	if err := consent.Vouch(w.Root, in.Commands); err != nil {
		return err
	}
	if a.json {
		if err := view.JSONLine(a.out, in); err != nil {
			return err
		}
	}
	t := a.text()
	for _, c := range in.Checkouts {
		if c.Upstream != nil && c.From != c.To && !a.json {
			t.Line("%s is at %s now.", view.CheckoutName(w.Root, c.Path), c.To[:8])
		}
	}
	restart, come, gone := in.Again.Names()
	err := a.makeFollow(ctx, w.Root, filling,
		&session.Way{Services: restart, New: len(come)+len(gone) > 0})
	if (err != nil || a.status != 0) && !a.json {
		t.Blank()
		t.Line("To go back to where everything was: nharbor catchup --back")
	}
	return err
}

// elsewhere asks before anything is fetched into a repository that lies outside of the workspace:
// that of a second working copy of one's own.
func (a catching) elsewhere(w *session.Workspace, agree bool) error {
	if agree {
		return nil
	}
	for _, o := range w.Outside() {
		if a.asks() {
			a.text().Line("The repository of %s lies outside of this workspace, in %s.",
				view.CheckoutName(w.Root, o.Checkout), o.Repository)
			if a.yes("Is it yours, and may be fetched into?") {
				continue
			}
		}
		return o.Fault
	}
	return nil
}

// seenFirst are commands without a mark on those that are seen for the first time.
func seenFirst(list []consent.Command) []consent.Command {
	list = slices.Clone(list)
	for i := range list {
		list[i].New = list[i].Changed
	}
	return list
}

// unchanged adds to what is wrong with what comes that nothing was done.
func unchanged(err error, of string) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	faults := stack.AllFaults(err)
	for _, f := range faults {
		f.Text = of + f.Text
	}
	last := faults[len(faults)-1]
	last.Remedy = strings.TrimSuffix(last.Remedy, ".") + ". Nothing was changed here."
	return faults
}

// makeFollow fills the settings of a workspace whose files have become others, and has its stack
// follow, if it is launched.
func (a catching) makeFollow(ctx context.Context, root string, filling session.Filling,
	way *session.Way) error {
	s, filled, err := session.Anew(ctx, root, filling, a.waiting)
	if s == nil {
		return left(err)
	}
	a.launching().filled(filled)
	r, err := record.Read(root)
	if err != nil {
		return err
	}
	switch what, names := way.Follow(r); what {
	case session.NothingRuns:
		a.remark("Nothing of it is running. Next: nharbor launch")
	case session.LaunchAnew:
		if r.Alive() && !a.json {
			a.text().Line("Services have come or gone, so all are stopped, and launched anew in " +
				"the background.")
		}
		if _, err := steward.StopStack(ctx, root, nil); err != nil {
			return err
		}
		opt := r.Options
		opt.Background = true
		return a.launching().untilMended(ctx, opt, fillFlags{noLocker: !filling.Locker}, "", false)
	case session.NoneConcerned:
		a.remark("Nothing that runs is concerned. See whether all answers: nharbor check")
	case session.RestartThem:
		return a.restartAs(ctx, s, r, names)
	}
	return nil
}

// restartAs restarts services of a stack as it was launched, with the files as they are now.
func (a *app) restartAs(ctx context.Context, s *session.Surveyed, r *record.Record,
	names []string) error {
	m, err := s.Mix(r.Options)
	if err != nil {
		return err
	}
	if err := a.consent(ctx, m, ""); err != nil {
		return err
	}
	plan, err := m.Plan()
	if err != nil {
		return err
	}
	return a.runRestart(ctx, m, r, plan, names, nil)
}

// remark says something to a person, set apart from what was said before.
func (a catching) remark(text string) {
	if !a.json {
		a.text().Blank()
		a.text().Line("%s", text)
	}
}

// wayBack brings all to where it was before the last catching up.
func (a catching) wayBack(ctx context.Context, w *session.Workspace) error {
	way, err := w.WayBack()
	if err != nil {
		return err
	}
	if err := w.Back(ctx, way); err != nil {
		return err
	}
	if a.json {
		if err := view.JSONLine(a.out, struct {
			Schema string `json:"schema"`
			*session.Way
		}{"nharbor.catchup-back/1", way}); err != nil {
			return err
		}
	}
	for _, m := range way.Checkouts {
		if !a.json {
			a.text().Line("%s is at %s again.", view.CheckoutName(w.Root, m.Path), m.From[:8])
		}
	}
	if way.Data && !a.json {
		a.text().Line("What the newer commits' steps did to databases stays: what ran before " +
			"may not know it. To begin with empty ones: nharbor reset --data")
	}
	filling, err := a.filling(ctx, fillFlags{}, true)
	if err != nil {
		return err
	}
	return a.makeFollow(ctx, w.Root, filling, way)
}
