package cli

import (
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/report"
)

func reportCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "report FILE",
		Short: "Writes one file that tells a colleague what was found and done, and how to do " +
			"it again",
		Args: takes(1, 1),
		Long: `Writes an HTML page or a Markdown file, by the ending of its name: what was found and
where it was read, how the launch went, what starts after what, what each port
answers, what this machine lacks, and the commands that do it by hand. It needs
nothing else to be read, and holds no secrets. With .svg it is the timeline alone.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, file := cmd.Context(), args[0]
			s, err := a.surveyed(ctx, session.WithCode)
			if s == nil || err != nil && !session.OnlyVariables(err) {
				return err
			}
			r, err := record.Read(s.Root)
			if err != nil {
				return err
			}
			opt := plan.Options{}
			if r != nil {
				opt = r.Options
			}
			m, err := s.Mix(opt)
			if err != nil {
				return err
			}
			made, err := m.Report(ctx, r, Version)
			if err != nil {
				return err
			}
			text, ok, err := report.Make(made, file)
			if err != nil {
				return err
			}
			if !ok {
				return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeReportUnknown,
					Text:   "the ending of " + file + " names no form of report",
					Remedy: "Use one of: " + strings.Join(report.Endings, ", ")}
			}
			if text == "" {
				return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
					Text: "nothing was launched in this workspace, so there is no " +
						"timeline", Remedy: "Launch it: nharbor launch"}
			}
			if err := put(file, text, "the report", stack.CodeReportNotWritten); err != nil {
				return err
			}
			if a.json {
				return view.JSON(a.out, map[string]string{"schema": "nharbor.report/1",
					"written": file})
			}
			a.text().Line("Written: %s. It needs nothing else to be read, and holds no secrets.",
				file)
			return nil
		},
	}
}
