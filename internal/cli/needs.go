package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/view"
)

func (a *app) needs() *cobra.Command {
	return &cobra.Command{
		Use: "needs", Short: "Says everything that this machine lacks, at once, with remedies", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, o, err := a.ordered(cmd.Context())
			if err != nil {
				return err
			}
			r, err := launch.ReadRecord(w.root)
			if err != nil {
				return err
			}
			answer := needs.Ask(cmd.Context(), w.stack, serviceNames(o), r.HeldPorts(), &needs.Local{Dir: w.root})
			if !answer.Met {
				a.status = 1
			}
			if a.json {
				return view.JSON(a.out, answer)
			}
			a.text().Needs(answer)
			return nil
		},
	}
}

// serviceNames lists the services of an order.
func serviceNames(o *order.Order) []string {
	out := []string{}
	for _, n := range o.Nodes {
		if name, ok := strings.CutPrefix(n.ID, "service:"); ok {
			out = append(out, name)
		}
	}
	return out
}
