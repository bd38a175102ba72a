package cli

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"nimbleharbor/internal/corrections"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

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
					Schema string         `json:"schema"`
					Logs   []view.LogRead `json:"logs"`
				}{"nharbor.diagnose/1", list})
			}
			a.text().Diagnosed(list)
			return nil
		},
	}
}

// readings reads the logs that are meant.
func (a diagnosing) readings(ctx context.Context, args []string) ([]view.LogRead, error) {
	own, err := a.ownRules(ctx)
	if err != nil {
		return nil, err
	}
	read := func(name string, in io.Reader) (view.LogRead, error) {
		r, err := diagnose.ReadLog(&until{ctx, in}, own...)
		if err == nil {
			err = ctx.Err()
		}
		return view.LogRead{Source: name, Reading: r}, err
	}
	if len(args) == 1 && args[0] == "-" {
		one, err := read("standard input", a.in)
		return []view.LogRead{one}, err
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
			return []view.LogRead{one}, err
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
	read func(string, io.Reader) (view.LogRead, error)) ([]view.LogRead, error) {
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
	failed := map[string]stack.Failure{}
	sources := slices.Clone(names)
	for _, f := range r.Failures() {
		if source := logs.Source(f.ID); f.State != stack.Skipped && f.ID != "" {
			failed[source] = f
			if names == nil {
				sources = append(sources, source)
			}
		}
	}
	out := []view.LogRead{}
	for _, source := range sources {
		in, err := logs.All(root, source)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		one := view.LogRead{Source: source, Reading: &diagnose.Reading{}}
		if in != nil {
			one, err = read(source, in)
			in.Close()
			if err != nil {
				return nil, err
			}
		}
		if f, ok := failed[source]; ok {
			one.Failed, one.How = true, f.Text
			if len(one.Causes) == 0 && f.Cause != "" { // of what has no log: an image that could not be had
				one.Causes = []diagnose.Cause{{Code: f.Code, Cause: f.Cause, Remedy: f.Remedy}}
			}
		}
		out = append(out, one)
	}
	return out, nil
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
