// Package cli is the command line: one file for each command, which turns flags into a call and the
// answer into a view.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/demo"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	native "nimbleharbor/internal/run"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

// Version is what the program calls itself.
var Version = "0.1.0"

// app is one call of the program.
type app struct {
	in       io.Reader
	out, err io.Writer
	json     bool
	plain    bool // lines that stay, for screen readers and for terminals that are slow
	dir      string
	named    bool // whether a person named dir, which is the workspace then
	status   int  // of a command that has answered, but with a no

	workspace *session.Workspace // the one that was opened last; nil for none
	tells     bool               // the command itself tells what of it was not read

	ending ending
}

// help lists the commands in the order in which one uses them
func init() { cobra.EnableCommandSorting = false }

// Main runs the program and gives its exit code.
func Main(args []string) int {
	if act, ok := demo.Actor(args); ok {
		return act()
	}
	native.KeepToOurselves()
	// What ends the program in a goroutine that nobody waits for has no way to a person but a
	// trace: one line of it.
	debug.SetTraceback("none")
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM,
		syscall.SIGHUP)
	defer stop()
	return run(ctx, args[1:], os.Stdin, os.Stdout, os.Stderr, os.Exit)
}

// Run runs one command line and gives the exit code.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	return run(ctx, args, in, out, errOut, nil)
}

// run runs one command line and gives the exit code. When ctx ends, and the command doesn't, leave
// ends the program.
func run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer,
	leave func(int)) int {
	sink := &view.Sink{To: out}
	a := &app{in: in, out: sink, err: errOut}
	a.ending.leave = leave
	defer a.watched(ctx)()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(sink)
	root.SetErr(errOut)
	err := foreseen(func() error { return root.ExecuteContext(ctx) })
	a.unread()
	if err == nil && sink.Err != nil {
		err = &stack.Fault{Kind: stack.NotSo, Code: stack.CodeOutputUnwritten,
			Text:   "what was to be said could not be written: " + stack.Reason(sink.Err),
			Remedy: "Free some space where it goes, and ask again.", Cause: sink.Err}
	}
	if err == nil {
		return a.status
	}
	a.json = a.json || slices.Contains(args,
		"--json") // a wrong flag may have stopped the reading before it
	return a.fail(stack.AllFaults(explained(ctx, err)))
}

// foreseen runs a command. What nobody has foreseen becomes an error with what to do; where it
// happened is kept among the person's own files, for whoever mends it.
func foreseen(run func() error) (err error) {
	defer func() {
		why := recover()
		if why == nil {
			return
		}
		f := &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeUnforeseen,
			Text: fmt.Sprintf("something happened that nobody has foreseen: %v", why),
			Remedy: "Nothing of yours is lost. What it stumbled over is most likely the file " +
				"that was changed last: take that change back, or start with -C in another folder."}
		if dir, ownErr := workspace.Own(true); ownErr == nil {
			file := filepath.Join(dir, "unforeseen.txt")
			text := fmt.Sprintf("nharbor %s\n%v\n\n%s", Version, why, debug.Stack())
			if workspace.WriteFile(file, []byte(text), 0o600) == nil {
				f.At.File = file
				f.Remedy += " Whoever mends nharbor needs the file that is named here."
			}
		}
		err = f
	}()
	return run()
}

// unread tells which files of the workspace were not read for what they are.
func (a *app) unread() {
	if a.workspace == nil || a.tells {
		return
	}
	for _, u := range a.workspace.Files.Unread() {
		a.complain(&stack.Fault{Code: stack.CodeFileUnread, At: stack.Place{File: u.Path},
			Text: "this is not read: " +
				u.Why.Error(), Remedy: "Put the file there that belongs there, or remove it."})
	}
}

// explained makes faults of the errors that can come from anywhere: an interruption, and a full
// disk.
func explained(ctx context.Context, err error) error {
	var fault *stack.Fault
	var faults stack.Faults
	switch known := errors.As(err, &fault); {
	case ctx.Err() != nil && !known:
		return &stack.Fault{Kind: stack.Interrupted, Code: stack.CodeInterrupted,
			Text: "interrupted", Cause: err}
	case !known && !errors.As(err, &faults) && errors.Is(err, syscall.ENOSPC):
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeDiskFull,
			Text: "the disk is full: " + stack.Reason(err),
			Remedy: "Free some space, and do it again; what was there before is " +
				"unchanged.", Cause: err}
	}
	return err
}

// fail shows what went wrong and gives the exit code.
func (a *app) fail(faults stack.Faults) int {
	if a.json {
		type place struct {
			File   string `json:"file"`
			Line   int    `json:"line"`
			Column int    `json:"column"`
		}
		type contract struct {
			Schema string     `json:"schema"`
			Code   string     `json:"code"`
			Text   string     `json:"text"`
			At     place      `json:"at"`
			Remedy string     `json:"remedy"`
			More   []contract `json:"more,omitempty"`
		}
		var all []contract
		for _, f := range faults {
			all = append(all, contract{Schema: "nharbor.error/1", Code: string(f.Code),
				Text: f.Text, At: place{f.At.File, f.At.Line, f.Column}, Remedy: f.Remedy})
		}
		all[0].More = all[1:]
		view.JSONLine(a.err, all[0])
	} else {
		view.For(a.err).Faults(faults)
	}
	return int(faults[0].Kind)
}

func (a *app) root() *cobra.Command {
	c := &cobra.Command{
		Use:   "nharbor",
		Short: "Gets a cloned multi-service application running, and proves that it answers",
		Long: `nharbor takes an application that somebody else has written, in one repository or
several, and gets it running on this machine: it finds out what the application
consists of, says what this machine lacks, fills the settings, starts everything
as soon as what it needs answers, and asks every port whether it does.

To see all of it on a made-up application:   nharbor demo
To begin with one of yours:                  nharbor clone ADDRESS`,
		Version: Version, SilenceErrors: true, SilenceUsage: true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	c.SetVersionTemplate("nharbor {{.Version}}\n")
	c.PersistentFlags().StringVarP(&a.dir, "directory", "C", ".", "start in this folder")
	c.PersistentPreRun = func(c *cobra.Command, _ []string) {
		a.named = c.Flags().Changed("directory")
	}
	c.PersistentFlags().BoolVar(&a.json, "json", false, "answer in JSON")
	c.AddCommand(cloneCommand(a), surveyCommand(a), needsCommand(a), fillCommand(a),
		orderCommand(a), vouchCommand(a), launchCommand(a), checkCommand(a), boardCommand(a),
		diagnoseCommand(a), testCommand(a), logsCommand(a), stopCommand(a), restartCommand(a),
		catchupCommand(a), resetCommand(a), insideCommand(a), reportCommand(a), stacksCommand(a),
		lockerCommand(a), demoCommand(a), stewardCommand(a), keeperCommand(a))
	careful(c)
	plainUsage(c)
	return c
}

// text writes for a person on the standard output.
func (a *app) text() *view.Text { return view.For(a.out) }

// start is the absolute path of the folder to start in.
func (a *app) start() (string, error) {
	dir, err := filepath.Abs(a.dir)
	if err != nil {
		return "", err
	}
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		text := "there is no such folder"
		if err == nil {
			text = "this is not a folder"
		}
		return "", &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotFound,
			At: stack.Place{File: dir}, Text: text,
			Remedy: "Name an existing folder behind -C.", Cause: err}
	}
	if dir, err = filepath.EvalSymlinks(dir); err != nil {
		return "", &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeFolderNotFound,
			At: stack.Place{File: a.dir}, Text: "the folder can't be followed: " +
				stack.Reason(err), Remedy: "Name the folder itself.", Cause: err}
	}
	return dir, nil // the same for each way to it, so that its stack is found again
}

// asks reports whether a person can be asked: both ends are a terminal, and the answer isn't for a
// program.
func (a *app) asks() bool {
	in, ok := a.in.(*os.File)
	out, ok2 := a.err.(*os.File)
	return ok && ok2 && !a.json && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}

// opened finds the workspace.
func (a *app) opened(ctx context.Context) (*session.Workspace, error) {
	dir, err := a.start()
	if err != nil {
		return nil, err
	}
	if why := workspace.Displaced(); why != "" && a.workspace == nil {
		a.complain(&stack.Fault{Code: stack.CodeStateElsewhere, Text: why,
			Remedy: "Consent and secrets are asked for again then; give yourself a home folder, " +
				"or set XDG_STATE_HOME."})
	}
	w, err := session.Open(ctx, dir, a.named)
	a.workspace = w
	return w, err
}

// surveyed finds the workspace and surveys it. With an error there may still be all that was found;
// then it is not nil.
func (a *app) surveyed(ctx context.Context, code session.Code) (*session.Surveyed, error) {
	w, err := a.opened(ctx)
	if err != nil {
		return nil, err
	}
	return w.Survey(code)
}

// ordered finds the workspace and puts all of its services in order.
func (a *app) ordered(ctx context.Context, opt plan.Options) (*session.Mixed, error) {
	s, err := a.surveyed(ctx, session.WithoutCode)
	if s == nil || err != nil && !session.OnlyVariables(err) {
		return nil, err
	}
	return s.Mix(opt)
}

// launched is a workspace with what it knows of its stack, which runs; else the error's code is
// not-launched.
func (a *app) launched(ctx context.Context,
	code session.Code) (*session.Surveyed, *record.Record, error) {
	s, err := a.surveyed(ctx, code)
	if s == nil || err != nil && !session.OnlyVariables(err) {
		return nil, nil, err
	}
	r, err := record.Read(s.Root)
	if err != nil {
		return nil, nil, err
	}
	if !r.Alive() {
		return nil, nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
			Text: "nothing of this workspace is running", Remedy: "Launch it: nharbor launch"}
	}
	return s, r, nil
}

// put writes a file that a person has asked for; what names it in an error that has the code.
func put(file, text, what string, code stack.Code) error {
	if err := workspace.WriteFile(file, []byte(text), 0o644); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: code, At: stack.Place{File: file},
			Text:   what + " can't be written: " + stack.Reason(err),
			Remedy: "Check the folder's rights and the disk.", Cause: err}
	}
	return nil
}

// record finds the workspace and what it knows of its launched stack, without a survey.
func (a *app) record() (string, *record.Record, error) {
	dir, err := a.start()
	if err != nil {
		return "", nil, err
	}
	root := dir
	if !a.named {
		root = workspace.Root(dir)
	}
	r, err := record.Read(root)
	return root, r, err
}

// pairs reads --set KEY=VALUE flags.
func pairs(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range list {
		k, v, ok := strings.Cut(s, "=")
		if !ok || k == "" {
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSetInvalid,
				Text:   fmt.Sprintf("--set wants KEY=VALUE, and %q has no key or no =", k),
				Remedy: "Write it like --set PORT=8080, or --set api/.env:PORT=8080 for one file."}
		}
		out[k] = v
	}
	return out, nil
}
