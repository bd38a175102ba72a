package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

func stacksCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "stacks", Short: "Every stack on this machine: where, since when, which " +
			"ports", Args: takes(0, 0),
		RunE: func(cmd *cobra.Command, args []string) error {
			list := steward.Stacks(cmd.Context())
			if a.json {
				return view.JSON(a.out, struct {
					Schema string          `json:"schema"`
					Stacks []steward.Stack `json:"stacks"`
				}{"nharbor.stacks/1", list})
			}
			here := ""
			if dir, err := a.start(); err == nil {
				here = workspace.Root(dir)
			}
			var lines []view.StackLine
			for _, s := range list {
				line := view.StackLine{Root: s.Root, Here: s.Root == here, Started: s.Started,
					Shift: s.Shift, Left: s.Left}
				for _, svc := range s.Services {
					if svc.Kind == stack.Once { // a job has its end before it
						continue
					}
					line.Services++
					if svc.Running() {
						line.Running++
					}
					for _, p := range svc.Ports {
						if p.Host > 0 && svc.Running() {
							line.Ports = append(line.Ports, fmt.Sprintf("%d %s", p.Host, svc.Name))
						}
					}
				}
				lines = append(lines, line)
			}
			a.text().Stacks(lines, time.Now())
			return nil
		},
	}
}
