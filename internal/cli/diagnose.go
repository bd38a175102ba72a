package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func diagnoseCommand(a *app) *cobra.Command {
	return &cobra.Command{
		Use: "diagnose [FILE|-|SERVICE]", Args: takes(0, 1),
		Short: "Reads a log, or those of the last failure, for the cause and the remedy",
		Long: `Reads any log for the lines that name a cause, and says what they mean and what to
do. - reads what is piped in; the name of a service reads its log; without a name
the logs of all that failed at the last launch. It ends with 1 where something
went wrong and no cause is known. Causes of your own belong into nharbor.toml,
[cause.NAME].`,
		RunE: func(cmd *cobra.Command, args []string) error {
			list, err := a.diagnosing().readings(cmd.Context(), args)
			if err != nil {
				return err
			}
			for _, r := range list {
				if len(r.Causes) == 0 && r.First != nil && (r.Failed || r.CameUp == 0) {
					a.status = 1
				}
			}
			if a.json {
				return view.JSON(a.out, struct {
					Schema string            `json:"schema"`
					Logs   []logs.Understood `json:"logs"`
				}{"nharbor.diagnose/1", list})
			}
			a.text().Diagnosed(list)
			return nil
		},
	}
}

// readings reads the logs that are meant.
func (a diagnosing) readings(ctx context.Context, args []string) ([]logs.Understood, error) {
	own, err := a.ownRules(ctx)
	if err != nil {
		return nil, err
	}
	read := func(name string, in io.Reader) (logs.Understood, error) {
		r, err := diagnose.ReadLog(&until{ctx, in}, own...)
		if err == nil {
			err = ctx.Err()
		}
		return logs.Understood{Source: name, Reading: r}, err
	}
	if len(args) == 1 && args[0] == "-" {
		one, err := read("standard input", a.in)
		return []logs.Understood{one}, err
	}
	if len(args) == 1 {
		f, err := os.Open(args[0])
		if err == nil {
			defer f.Close()
			var info fs.FileInfo
			if info, err = f.Stat(); err == nil && info.IsDir() {
				err = errors.New("it is a folder")
			}
		}
		if err == nil {
			one, err := read(args[0], f)
			return []logs.Understood{one}, err
		}
		if _, r, rerr := a.record(); rerr == nil && r.Service(args[0]) != nil {
			return a.ofLaunch(args, read)
		}
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeLogUnreadable,
			At: stack.Place{File: args[0]}, Text: "the log can't be read: " + stack.Reason(err),
			Remedy: "Name a file, a service that was launched, or - for what is piped " +
				"in.", Cause: err}
	}
	return a.ofLaunch(nil, read)
}

// ofLaunch reads the logs of services, or of all that failed at the last launch.
func (a diagnosing) ofLaunch(names []string,
	read func(string, io.Reader) (logs.Understood, error)) ([]logs.Understood, error) {
	root, r, err := a.record()
	if err != nil {
		return nil, err
	}
	if r == nil {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
			Text: "nothing was launched in this workspace, so there is no failure to look into",
			Remedy: "Name the log: nharbor diagnose FILE. What stands in the way of a launch: " +
				"nharbor needs"}
	}
	return logs.OfFailures(root, names, r.Failures(), read)
}

// ownRules are the causes that the workspace knows of its own; none where there is no workspace.
func (a diagnosing) ownRules(ctx context.Context) ([]diagnose.LogRule, error) {
	root, _, err := a.record()
	if err != nil {
		return nil, nil
	}
	there := func(name string) bool {
		_, err := os.Stat(filepath.Join(root, name))
		return err == nil
	}
	if !there(corrections.File) && !there(corrections.LocalFile) {
		return nil, nil
	}
	s, err := a.surveyed(ctx, session.WithoutCode)
	if s == nil {
		return nil, err
	}
	return execute.OwnRules(s.Stack.Causes)
}

// until is a reader that ends with a context.
type until struct {
	ctx context.Context
	in  io.Reader
}

func (u *until) Read(p []byte) (int, error) {
	if u.ctx.Err() != nil {
		return 0, io.EOF
	}
	return u.in.Read(p)
}
