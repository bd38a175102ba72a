package cli

import (
	"bufio"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func (a *app) vouch() *cobra.Command {
	var agree, sum bool
	c := &cobra.Command{
		Use: "vouch", Short: "Shows every command that the checkout would run, and records your consent",
		Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.ordered(cmd.Context(), launch.Options{})
			if err != nil {
				return err
			}
			list, fresh, err := m.Commands()
			if err != nil {
				return err
			}
			if !a.json && !sum {
				a.text().Vouch(list)
				a.text().Blank()
			}
			if sum {
				fmt.Fprintln(a.out, consent.Sum(list))
				return nil
			}
			if fresh && !agree && a.asks() {
				agree = a.yes("Do you want to let these run on this machine?")
			}
			if fresh && agree {
				if err := consent.Vouch(m.Root, list); err != nil {
					return err
				}
				fresh = false
			}
			if fresh {
				a.status = 1
			}
			if a.json {
				return view.JSON(a.out, struct {
					Schema   string            `json:"schema"`
					Vouched  bool              `json:"vouched"`
					Commands []consent.Command `json:"commands"`
				}{"nharbor.vouch/1", !fresh, list})
			}
			if fresh {
				a.text().Line("Nothing is vouched for yet. To consent: nharbor vouch --agree")
			} else {
				a.text().Line("You have vouched for these; a command that changes is shown again before it runs.")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&sum, "print", false, "print one sum of all of it, for nharbor launch --vouch=SUM")
	c.Flags().BoolVar(&agree, "agree", false, "consent to the commands as they are now")
	return c
}

// yes asks a question that is answered with yes or no.
func (a *app) yes(question string) bool {
	fmt.Fprintf(a.err, "%s yes or no: ", question)
	line, err := bufio.NewReader(a.in).ReadString('\n')
	return err == nil && strings.HasPrefix(strings.ToLower(strings.TrimSpace(line)), "y")
}

// consent makes sure that a person has vouched for all that is about to run.
func (a *app) consent(m *session.Mixed, given string) error {
	list, fresh, err := m.Commands()
	if err != nil {
		return err
	}
	if given != "" && given != anything && given != consent.Sum(list) {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotVouched,
			Text:   "what this checkout would run is not what --vouch names: its sum is " + consent.Sum(list),
			Remedy: "Read it with nharbor vouch, and take the sum from nharbor vouch --print."}
	}
	if !fresh {
		return nil
	}
	return a.agree(m.Root, list, given != "", "nharbor launch --vouch")
}

// anything is the value of --vouch without one: consent to whatever is shown.
const anything = "*"

// vouchFlag adds the flag for unattended consent, which can be pinned to what one has read.
func vouchFlag(c *cobra.Command, given *string) {
	c.Flags().StringVar(given, "vouch", "", "consent to the commands that are shown, for unattended runs; with =SUM "+
		"only "+
		"to what nharbor vouch --print has given that sum")
	c.Flags().Lookup("vouch").NoOptDefVal = anything
}

// agree shows the commands of a list that nobody has vouched for, and keeps a person's consent to all of it. The
// command is one that consents for unattended runs.
func (a *app) agree(root string, list []consent.Command, given bool, command string) error {
	if !a.json {
		var unseen []consent.Command
		for _, c := range list {
			if c.New {
				c.New = false
				unseen = append(unseen, c)
			}
		}
		t := a.text()
		t.Title("This is what would run here for the first time, or has changed")
		t.Vouch(unseen)
		t.Blank()
	}
	if !given && a.asks() {
		given = a.yes("Do you want to let it run on this machine?")
	}
	if !given {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotVouched,
			Text:   "nobody has vouched for what this checkout would run",
			Remedy: "Read it with nharbor vouch; consent there, or with " + command + "."}
	}
	return consent.Vouch(root, list)
}
