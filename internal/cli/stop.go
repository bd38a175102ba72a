package cli

import (
	"os"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/supervise"
	"nimbleharbor/internal/view"
)

func (a *app) stop() *cobra.Command {
	return &cobra.Command{
		Use: "stop [SERVICE...]", Short: "Stops the stack, or the services named and what needs " +
			"them, in reverse order",
		RunE: func(cmd *cobra.Command, args []string) error {
			root, r, err := a.record()
			if len(args) > 0 && err == nil { // all of it is stopped whatever the record has come to
				err = launchedServices(r, args)
			}
			if len(args) > 0 && err != nil {
				return err
			}
			was, err := supervise.StopStack(cmd.Context(), root, args)
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

func (a *app) steward() *cobra.Command {
	return &cobra.Command{Use: "steward", Hidden: true, Args: takes(0, 0),
		RunE: func(*cobra.Command, []string) error {
			return supervise.RunSteward(os.Stdin, os.Stdout, []string{"keeper"})
		}}
}

func (a *app) keeper() *cobra.Command {
	return &cobra.Command{Use: "keeper", Hidden: true, Args: takes(0, 0),
		Run: func(*cobra.Command, []string) { supervise.Keep(os.Stdin) }}
}
