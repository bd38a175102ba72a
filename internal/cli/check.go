package cli

import (
	"github.com/spf13/cobra"

	"nimbleharbor/internal/session"
	"nimbleharbor/internal/supervise"
	"nimbleharbor/internal/view"
)

func (a *app) check() *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Speaks to every port and gives a verdict, the cause and the remedy", Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.surveyed(cmd.Context(), session.WithoutCode)
			if err != nil {
				return err
			}
			r, err := supervise.ReadRecord(w.Root)
			if err != nil {
				return err
			}
			now := r.Merge(w.Stack.Services)
			c := supervise.CheckPorts(cmd.Context(), now, r)
			c.SignIns, c.Pages = supervise.SignIns(w.Root, w.Stack), supervise.Pages(w.Stack.Services, now)
			c.Changed = w.Changes(r)
			if !c.Answers {
				a.status = 1
			}
			if a.json {
				c.Hide()
				return view.JSON(a.out, c)
			}
			t := a.text()
			t.Check(c)
			if c.Answers && len(c.Ports) > 0 {
				t.Blank()
				t.Line("Every port answers.")
			}
			if c.Changed != nil {
				t.Blank()
				t.Changed(c.Changed)
			}
			return nil
		},
	}
}
