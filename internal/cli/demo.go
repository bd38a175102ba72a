package cli

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/demo"
)

func demoCommand(a *app) *cobra.Command {
	var opt demo.Options
	c := &cobra.Command{
		Use:   "demo",
		Short: "Shows the whole job on a made-up application",
		Long: `Takes the booking counter of a made-up ferry company from clone to check, with the
very commands that you would use. Container engine, package managers and servers are
stand-ins inside of this program, so that nothing else but git need be installed;
with --real they are the engine and the tools of this machine.`,
		Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, _ []string) error {
			opt.Out = a.out
			opt.Call = func(ctx context.Context, out, errOut io.Writer, args ...string) int {
				return Run(ctx, args, strings.NewReader(""), out,
					errOut) // the demo answers by itself
			}
			a.ending.still("The demo stops what it has started.", 30*time.Second)
			status, err := demo.Run(cmd.Context(), opt)
			a.status = status
			return err
		},
	}
	c.Flags().BoolVar(&opt.Real, "real", false,
		"use the container engine and the tools of this machine")
	c.Flags().StringVar(&opt.Keep, "keep", "",
		"make the workspace in this new folder and leave it, to try the commands by hand")
	c.Flags().StringVar(&opt.StandIns, "stand-ins", "",
		"only run the stand-ins, for the workspace that --keep has left in this folder")
	notTogether(c, "keep", "stand-ins")
	notTogether(c, "real", "stand-ins")
	return c
}
