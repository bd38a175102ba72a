package cli

import (
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/supervise"
	"nimbleharbor/internal/view"
)

func (a *app) inside() *cobra.Command {
	c := &cobra.Command{
		Use:   "inside SERVICE [COMMAND...]",
		Short: "A shell or a command where the service runs: in its container, or in its folder with its settings",
		Long: `Runs a command where a service runs: in its container or, for a native service, in
its folder with its environment. Without a command it is a shell. On a terminal it
has that terminal; through a pipe it reads and writes what it is given. The exit
code is that of the command.`,
		Args: takes(1, unbounded),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			s, err := a.surveyed(ctx, session.WithCode)
			if s == nil || err != nil && !session.OnlyVariables(err) {
				return err
			}
			var opt launch.Options
			if r, err := supervise.ReadRecord(s.Root); err == nil && r.Alive() {
				opt = r.Options
			}
			m, err := s.Mix(opt)
			if err != nil {
				return err
			}
			plan, err := m.Plan()
			if err != nil {
				return err
			}
			e := supervise.Entering{Plan: plan, Service: args[0], In: a.in, Out: a.out, Err: a.err}
			if len(args) > 1 {
				e.Command = args[1:]
			}
			e.On = a.seat()
			code, err := supervise.Enter(ctx, e)
			if err != nil {
				return err
			}
			a.status = code
			return nil
		},
	}
	c.Flags().SetInterspersed(false) // what stands behind the service is the command's
	return c
}

// seat is the terminal at which a person sits, with its keyboard and its screen; nil where one of the two is a pipe.
func (a *app) seat() *supervise.Terminal {
	in, isFile := a.in.(*os.File)
	sink, _ := a.out.(*view.Sink)
	if !isFile || sink == nil || a.json {
		return nil
	}
	out, isFile := sink.To.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) || !term.IsTerminal(int(out.Fd())) {
		return nil
	}
	return &supervise.Terminal{In: in, Out: out, Raw: raw(in, out)}
}
