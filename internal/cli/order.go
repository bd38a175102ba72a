package cli

import (
	"github.com/spf13/cobra"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/view"
)

func (a *app) order() *cobra.Command {
	var literal bool
	c := &cobra.Command{
		Use: "order [SERVICE...]", Short: "Shows what starts after what, and why",
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := a.open(cmd.Context())
			if err != nil {
				return err
			}
			o, err := order.Build(w.stack, order.Options{Services: args, Literal: literal, Seconds: launch.Recall(w.root).Seconds()})
			if a.json && o != nil {
				if jsonErr := view.JSON(a.out, o); jsonErr != nil {
					return jsonErr
				}
				return err
			}
			if err != nil {
				return err
			}
			a.text().Order(o)
			return nil
		},
	}
	c.Flags().BoolVar(&literal, "literal", false, "keep a plain depends_on to the letter: begun, not answering")
	return c
}
