package cli

import (
	"errors"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func (a *app) survey() *cobra.Command {
	return &cobra.Command{
		Use: "survey", Short: "Says what is here: projects, services, ports, settings, and how that is known", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := a.open(cmd.Context())
			if w == nil || w.stack == nil {
				return err
			}
			var f *stack.Fault
			if errors.As(err, &f) && f.Code == "nothing-found" {
				return err
			}
			// What could be read is shown; what could not is the error.
			if a.json {
				if err := view.JSON(a.out, w.stack); err != nil {
					return err
				}
			} else {
				a.text().Survey(w.stack)
			}
			if err == nil && !a.json {
				a.text().Line("Next: nharbor needs (what this machine lacks), or nharbor launch for the whole job.")
			}
			return err
		},
	}
}
