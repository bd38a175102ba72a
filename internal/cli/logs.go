package cli

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func logsCommand(a *app) *cobra.Command {
	var follow bool
	var since time.Duration
	c := &cobra.Command{
		Use: "logs [SERVICE...]", Short: "Shows what services and steps have said, merged by time",
		RunE: func(cmd *cobra.Command, args []string) error {
			root, r, err := a.record()
			if err != nil {
				return err
			}
			if r == nil {
				return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
					Text:   "nothing was launched in this workspace, so there are no logs",
					Remedy: "Launch it: nharbor launch"}
			}
			reader := logs.Read(root, args)
			known := reader.Sources()
			for _, name := range args {
				if !slices.Contains(known, name) && r.Service(name) == nil {
					return noLog(root, name)
				}
			}
			width := 0
			for _, k := range known {
				width = max(width, len(k))
			}
			var after time.Time
			if since > 0 {
				after = time.Now().Add(-since)
			}
			t := a.text()
			tick := time.NewTicker(100 * time.Millisecond)
			defer tick.Stop()
			for {
				lines, err := reader.Next()
				if err != nil {
					return err
				}
				slices.SortStableFunc(lines,
					func(x, y logs.Line) int { return x.Time.Compare(y.Time) })
				for _, l := range lines {
					if l.Time.Before(after) {
						continue
					}
					seconds := l.Time.Sub(r.Started).Seconds()
					if a.json {
						err = view.JSONLine(a.out, struct {
							T      float64 `json:"t"`
							Source string  `json:"source"`
							Text   string  `json:"text"`
						}{float64(int(seconds*1000)) / 1000, l.Source, l.Text})
						if err != nil {
							return err
						}
					} else {
						t.LogLine(seconds, l.Source, l.Text, width)
					}
				}
				if !follow {
					return nil
				}
				select {
				case <-cmd.Context().Done():
					return nil
				case <-tick.C:
				}
			}
		},
	}
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on showing what comes")
	c.Flags().DurationVar(&since, "since", 0, "only what was said in this time, such as 30s or 5m")
	return c
}

// noLog tells that nothing of that name has a log, and what has.
func noLog(root, name string) error {
	f := &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeServiceUnknown,
		Text: "there is no log of " + name, Remedy: "Nothing has said anything yet."}
	if all := logs.Read(root, nil).Sources(); len(all) > 0 {
		f.Remedy = "There are logs of: " + strings.Join(all, ", ")
	}
	return f
}
