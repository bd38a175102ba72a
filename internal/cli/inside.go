package cli

import (
	"context"
	"os"
	"slices"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/enter"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func insideCommand(a *app) *cobra.Command {
	var vouched pinned
	c := &cobra.Command{
		Use: "inside SERVICE [COMMAND...]",
		Short: "A shell or a command where the service runs: in its container, or in its folder " +
			"with its settings",
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
			var opt plan.Options
			if r, err := record.Read(s.Root); err == nil && r.Alive() {
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
			if plan.Services[stack.ServiceNode(args[0])].Name != "" {
				if err := a.agree(ctx, m, entering(args[0]), vouched); err != nil {
					return err
				}
			}
			e := enter.Entering{Plan: plan, Service: args[0], In: a.in, Out: a.out, Err: a.err}
			if len(args) > 1 {
				e.Command = args[1:]
			}
			e.On = a.seat()
			code, err := enter.Enter(ctx, e)
			if err != nil {
				return err
			}
			a.status = code
			return nil
		},
	}
	vouchFlag(c, &vouched)
	c.Flags().SetInterspersed(false) // what stands behind the service is the command's
	return c
}

// entering is what is started beside a service: the person's own command, with all that the
// checkout says of where and with which variables the service runs.
func entering(service string) starting {
	its := func(list []consent.Command) []consent.Command {
		return slices.DeleteFunc(list,
			func(c consent.Command) bool { return c.ID != stack.ServiceNode(service) })
	}
	return starting{
		commands: func(ctx context.Context, m *session.Mixed) ([]consent.Command, bool, error) {
			list, _, err := m.Commands(ctx)
			list = its(list)
			return list, slices.ContainsFunc(list,
				func(c consent.Command) bool { return c.New }), err
		},
		lying:   func(m *session.Mixed) []consent.Command { return its(m.Lying()) },
		command: "nharbor inside --vouch " + service}
}

// seat is the terminal at which a person sits, with its keyboard and its screen; nil where one of
// the two is a pipe.
func (a *app) seat() *enter.Terminal {
	in, isFile := a.in.(*os.File)
	sink, _ := a.out.(*view.Sink)
	if !isFile || sink == nil || a.json {
		return nil
	}
	out, isFile := sink.To.(*os.File)
	if !isFile || !term.IsTerminal(int(in.Fd())) || !term.IsTerminal(int(out.Fd())) {
		return nil
	}
	return &enter.Terminal{In: in, Out: out, Raw: raw(in, out)}
}
