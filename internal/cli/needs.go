package cli

import (
	"github.com/spf13/cobra"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/supervise"
	"nimbleharbor/internal/view"
)

func (a *app) needs() *cobra.Command {
	return &cobra.Command{
		Use: "needs", Short: "Says everything that this machine lacks, at once, with remedies", Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			m, err := a.ordered(cmd.Context(), launch.Options{})
			if err != nil {
				return err
			}
			r, err := supervise.ReadRecord(m.Root)
			if err != nil {
				return err
			}
			answer := m.Needs(cmd.Context(), r)
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
}
