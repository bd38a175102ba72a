package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/view"
)

func stopCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "stop [SERVICE...]", Short: "Stops the stack, or the services named and what needs " +
			"them, in reverse order",
		RunE: func(cmd *cobra.Command, args []string) error {
			root, r, err := a.record()
			if len(args) > 0 && err == nil { // all of it is stopped whatever the record has come to
				err = r.Has(args)
			}
			if len(args) > 0 && err != nil {
				return err
			}
			was, err := steward.StopStack(cmd.Context(), root, args)
			if err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.out, struct {
					Schema  string `json:"schema"`
					Stopped bool   `json:"stopped"`
				}{"nharbor.stop/1", was})
			}
			switch {
			case !was:
				a.text().Line("Nothing of this workspace is running.")
			case len(args) > 0:
				a.text().Line("Stopped %s, and what needs it.", strings.Join(args, ", "))
			default:
				a.text().Line("Everything has been stopped. The data is kept; the next launch " +
					"goes on with it.")
			}
			return nil
		},
	}
}

func stewardCommand(a *app) *cobra.Command {
	return &cobra.Command{Use: "steward", Hidden: true, Args: takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			return steward.RunSteward(os.Stdin, os.Stdout, []string{"keeper"})
		}}
}

func keeperCommand(a *app) *cobra.Command {
	return &cobra.Command{Use: "keeper", Hidden: true, Args: takes(0, 0),
		Run: func(*cobra.Command, []string) { keeper.Keep(os.Stdin) }}
}
