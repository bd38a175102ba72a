package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func vouchCommand(a *app) *cobra.Command {
	var agree, sum bool
	c := &cobra.Command{
		Use: "vouch", Short: "Shows every command that the checkout would run, and records your " +
			"consent",
		Args: takes(0, 0),
		Long: `Shows every command that the checkout would run, with the scripts that it leads to,
and what its containers may reach of this machine. Nothing of a checkout runs before
you consent; what has changed is shown again before it runs.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.showAndVouch(cmd.Context(), agree, sum)
		},
	}
	c.Flags().BoolVar(&sum, "print", false,
		"print one sum of all of it, for nharbor launch --vouch=SUM")
	c.Flags().BoolVar(&agree, "agree", false, "consent to the commands as they are now")
	return c
}

// showAndVouch shows what would run, asks for consent where that is new, and keeps it. With sum
// only one sum of it all is printed.
func (a *app) showAndVouch(ctx context.Context, agree, sum bool) error {
	m, err := a.ordered(ctx, plan.Options{})
	if err != nil {
		return err
	}
	list, fresh, err := m.Commands(ctx)
	if err != nil {
		return err
	}
	switch {
	case sum:
		fmt.Fprintln(a.out, consent.Sum(m.Lying()))
		return nil
	case len(list) == 0 && !a.json:
		a.text().Line("Nothing that could be launched was found, so that there is nothing to " +
			"vouch for. If you know how it is started, name it in nharbor.toml; to begin with a " +
			"draft: nharbor survey --write")
		return nil
	case !a.json:
		a.text().Vouch(list)
		a.text().Blank()
	}
	if fresh, err = a.vouchFor(ctx, m, list, fresh, agree); err != nil {
		return err
	}
	if fresh {
		a.status = 1
	}
	switch {
	case a.json:
		return view.JSON(a.out, struct {
			Schema   string            `json:"schema"`
			Vouched  bool              `json:"vouched"`
			Commands []consent.Command `json:"commands"`
		}{"nharbor.vouch/1", !fresh, list})
	case fresh:
		a.text().Line("%s", awaiting(list)+" To consent: nharbor vouch --agree")
	default:
		a.text().Line("You have vouched for these; a command that changes is shown again before " +
			"it runs.")
	}
	return nil
}

// vouchFor keeps the consent to what is fresh, if it was given or a person gives it now, and tells
// whether that is still open.
func (a *app) vouchFor(ctx context.Context, m *session.Mixed, list []consent.Command, fresh,
	agree bool) (open bool, err error) {
	if fresh && !agree && a.asks() {
		if agree = a.yes("Do you want to let these run on this machine?"); agree {
			if err := a.unchangedSince(ctx, m, all(""), list); err != nil {
				return true, err
			}
		}
	}
	if !fresh || !agree {
		return fresh, nil
	}
	return false, consent.Vouch(m.Root, list)
}

// awaiting tells how much of a list nobody has vouched for as it is.
func awaiting(list []consent.Command) string {
	fresh, changed := 0, 0
	for _, c := range list {
		switch {
		case c.Changed:
			changed++
		case c.New:
			fresh++
		}
	}
	switch {
	case fresh == len(list):
		return "Nothing is vouched for yet."
	case changed == 0:
		return fmt.Sprintf("%s not vouched for yet.",
			view.Count(fresh, "of these is", "of these are"))
	case fresh == 0:
		return fmt.Sprintf("%s changed since you vouched for %s.",
			view.Count(changed, "of these has", "of these have"),
			map[bool]string{true: "it", false: "them"}[changed == 1])
	}
	return fmt.Sprintf("%d of these are new, and %d changed since you vouched for them.", fresh,
		changed)
}

// yes asks a question that is answered with yes or no.
func (a *app) yes(question string) bool {
	fmt.Fprintf(a.err, "%s yes or no: ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return err == nil && strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y")
}

// starting is what a command is about to start of a checkout's. Whatever starts something asks by
// it, in agree.
type starting struct {
	// commands lists it for a launch, and reports whether some of it is new. Lying counts all files
	// as they lie there.
	commands func(ctx context.Context, m *session.Mixed) (list []consent.Command, fresh bool,
		err error)
	lying   func(m *session.Mixed) []consent.Command
	command string // that consents for unattended runs
}

// all is everything that a launch runs.
func all(command string) starting {
	return starting{
		commands: func(ctx context.Context, m *session.Mixed) ([]consent.Command, bool, error) {
			return m.Commands(ctx)
		},
		lying: (*session.Mixed).Lying, command: command}
}

// consent makes sure that a person has vouched for all that is about to run.
func (a *app) consent(ctx context.Context, m *session.Mixed, given pinned) error {
	return a.agree(ctx, m, all("nharbor launch --vouch"), given)
}

// pinned is the value of --vouch: empty without the flag, anything for consent to whatever is
// shown, else the sum of what was read.
type pinned string

// anything is the value of --vouch without one.
const anything = "true"

// Set takes the flag's value; String gives it. As a flag that needs none it is shown without a
// default.
func (p *pinned) Set(sum string) error { *p = pinned(sum); return nil }

func (p *pinned) String() string { return string(*p) }

// Type is that of flags which need no value.
func (p *pinned) Type() string { return "bool" }

// vouchFlag adds the flag for unattended consent, which can be pinned to what one has read.
func vouchFlag(c *cobra.Command, given *pinned) {
	c.Flags().Var(given, "vouch", "consent to the commands that are shown, for unattended runs; "+
		"--vouch=SUM to those alone that nharbor vouch --print gave this sum")
	c.Flags().Lookup("vouch").NoOptDefVal = anything
}

// agree makes sure that a person has vouched for what is about to start: by now, at the terminal,
// or by the flag. What nobody has vouched for is shown. What has changed by the time of the answer
// is not started.
func (a *app) agree(ctx context.Context, m *session.Mixed, what starting, given pinned) error {
	list, fresh, err := what.commands(ctx, m)
	if err != nil {
		return err
	}
	if given != "" && given != anything {
		if sum := consent.Sum(what.lying(m)); string(given) != sum {
			return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotVouched,
				Text:   "what this checkout would run is not what --vouch names: its sum is " + sum,
				Remedy: "Read it with nharbor vouch, and take the sum from nharbor vouch --print."}
		}
	}
	if !fresh {
		return nil
	}
	if !a.json {
		var unseen []consent.Command
		for _, c := range list {
			if c.New {
				c.New = c.Changed // what is seen for the first time needs no mark
				unseen = append(unseen, c)
			}
		}
		t := a.text()
		t.Title("This is what would run here for the first time, or has changed")
		t.Vouch(unseen)
		t.Blank()
	}
	if given == "" {
		if !a.asks() || !a.yes("Do you want to let it run on this machine?") {
			return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotVouched,
				Text:   "nobody has vouched for what this checkout would run",
				Remedy: "Read it with nharbor vouch; consent there, or with " + what.command + "."}
		}
		if err := a.unchangedSince(ctx, m, what, list); err != nil {
			return err
		}
	}
	return consent.Vouch(m.Root, list)
}

// unchangedSince makes sure that what was shown is what there is now: a person takes time to read.
func (a *app) unchangedSince(ctx context.Context, m *session.Mixed, what starting,
	shown []consent.Command) error {
	now, err := m.Afresh(ctx)
	if err != nil {
		return err
	}
	list, _, err := what.commands(ctx, now)
	if err != nil {
		return err
	}
	if consent.Sum(list) == consent.Sum(shown) {
		return nil
	}
	return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotVouched,
		Text:   "what this checkout would run has changed while you were asked",
		Remedy: "Nothing was started. Read it again: nharbor vouch"}
}
