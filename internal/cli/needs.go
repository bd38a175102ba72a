package cli

import (
	"bufio"
	"context"
	"io"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/view"
)

func needsCommand(a *app) *cobra.Command {
	var install, agree bool
	c := &cobra.Command{
		Use: "needs", Short: "Says everything that this machine lacks, at once, with " +
			"remedies", Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if agree && !install {
				return wrongCall("--agree goes with --install", "nharbor needs --install --agree")
			}
			m, err := a.ordered(cmd.Context(), plan.Options{})
			if err != nil {
				return err
			}
			r, err := record.Read(m.Root)
			if err != nil {
				return err
			}
			answer := m.Needs(cmd.Context(), r)
			if install {
				ran, err := a.install(cmd.Context(), answer, agree)
				if err != nil {
					return err
				}
				if ran {
					answer = m.Needs(cmd.Context(), r)
				}
			}
			if !answer.Met {
				a.status = 1
			}
			if a.json {
				return view.JSON(a.out, answer)
			}
			a.text().Needs(answer, len(m.Services()))
			return nil
		},
	}
	c.Flags().BoolVar(&install, "install", false,
		"run the commands that install what is missing and need no other user")
	c.Flags().BoolVar(&agree, "agree", false, "consent to them, with --install")
	return c
}

// install runs what installs without anybody else's rights, once the person consents; ran is false
// if nothing was run. What it says goes where it doesn't mix with an answer in JSON.
func (a *app) install(ctx context.Context, answer *needs.Answer, agree bool) (ran bool, err error) {
	out := a.text()
	if a.json {
		out = view.For(a.err)
	}
	var lines []string
	for _, line := range answer.Block() {
		if needs.Own(line) {
			lines = append(lines, line)
		}
	}
	if len(lines) == 0 {
		out.Line("Nothing of what is missing can be installed without another user's rights.")
		out.Blank()
		return false, nil
	}
	out.Line("These commands install what is missing:")
	for _, line := range lines {
		out.Line("  %s", line)
	}
	out.Blank()
	if !agree && a.asks() {
		agree = a.yes("Do you want to run them on this machine?")
	}
	if !agree {
		out.Line("Nothing was run. To consent: nharbor needs --install --agree")
		out.Blank()
		return false, nil
	}
	for _, line := range lines {
		out.Line("%s", line)
		reads, writes := io.Pipe()
		shown := make(chan struct{})
		go func() { // ends when the command has, and its last words are shown
			defer close(shown)
			said := bufio.NewScanner(reads)
			for said.Buffer(nil, 1<<20); said.Scan(); {
				out.Line("  %s", said.Text())
			}
			io.Copy(io.Discard, reads)
		}()
		err := needs.Run(ctx, line, writes)
		writes.Close()
		<-shown
		if ctx.Err() != nil {
			return true, ctx.Err()
		}
		if err != nil {
			out.Line("  It ended with %v; the rest goes on.", err)
		}
	}
	out.Blank()
	return true, nil
}
