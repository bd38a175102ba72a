package cli

import (
	"bytes"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/board"
)

func boardCommand(a *app) *cobra.Command {
	c := &cobra.Command{
		Use: "board", Short: "Shows the running stack as it lives, with keys to start, stop and " +
			"restart",
		Args: takes(0, 0),
		Long: `Shows a launched stack, from any terminal: how the launch went, how each service
stands, what its ports answer and what it takes, and the last words of the one that
is chosen. The keys stand in the last line. Leaving it stops nothing.

With --plain it tells what changes in lines, one after the other.`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			s, r, err := a.launched(ctx, session.WithoutCode)
			if err != nil {
				return err
			}
			out, _ := a.out.(*view.Sink).To.(*os.File)
			in, _ := a.in.(*os.File)
			if a.plain || a.json || out == nil || in == nil || !term.IsTerminal(int(out.Fd())) ||
				!term.IsTerminal(int(in.Fd())) {
				return a.boards().plainBoard(ctx, s, r)
			}
			return a.boards().liveBoard(ctx, s, r, in, out)
		},
	}
	c.Flags().BoolVar(&a.plain, "plain", false,
		"tell what changes in lines, for screen readers and slow terminals")
	return c
}

// plainBoard tells how everything stands, and then what happens, until it ends or somebody ends it.
func (a boards) plainBoard(ctx context.Context, s *session.Surveyed, r *record.Record) error {
	l, err := steward.Follow(ctx, r)
	if err != nil {
		return err
	}
	defer l.Close()
	defer context.AfterFunc(ctx, func() { l.Close() })()
	if err := a.checking().checked(s.Judge(ctx, r)); err != nil {
		return err
	}
	names := 0
	for _, svc := range r.Services {
		names = max(names, len(svc.Name))
	}
	from := time.Since(r.Started).Seconds()
	for {
		said, err := l.Next()
		switch {
		case err != nil:
			return nil // it has ended, or been left
		case said.Event != nil && said.Event.T > from:
			if a.json {
				view.JSONLine(a.out, said.Event)
			} else {
				a.text().Event(*said.Event, names)
			}
		case said.Stopped && !a.json:
			a.text().Line("Everything has been stopped.")
		}
	}
}

// How often a board looks at what nobody tells it, at most; what takes long is asked less often, so
// that looking takes no more than a share of the time.
const (
	loadsEvery = 2 * time.Second
	asksEvery  = 5 * time.Second
	share      = 100
)

// liveBoard runs the board on a terminal until somebody leaves it. Its goroutines end with it.
func (a boards) liveBoard(ctx context.Context, s *session.Surveyed, r *record.Record, in,
	out *os.File) error {
	launched := r.Launch()
	if launched == nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
			Text: "the stack can't be asked how its launch went", Remedy: "Look with nharbor " +
				"check."}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	does := &boardDoes{ctx: ctx, root: s.Root}
	shown := board.New(filepath.Base(s.Root), timeline.New(&launched.Order, launched.Last),
		launched.Started, does, os.Getenv("NO_COLOR") == "")
	p := tea.NewProgram(shown, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(out),
		tea.WithoutSignalHandler(), tea.WithFPS(20))
	does.send = func(n board.News) { p.Send(n) }
	l, err := steward.Follow(ctx, r)
	if err != nil {
		return err
	}
	defer l.Close()
	go func() {
		for {
			said, err := l.Next()
			switch {
			case err != nil:
				if ctx.Err() == nil {
					does.send(board.News{Over: true})
				}
				return
			case said.Event != nil:
				does.send(board.News{Event: said.Event})
			case said.Settled != nil:
				does.send(board.News{Settled: said.Settled.Seconds})
			case said.Stopped:
				does.send(board.News{Over: true})
			}
		}
	}()
	go does.weigh(r)
	go does.ask(s)
	_, err = p.Run()
	if ctx.Err() != nil { // a signal
		return nil
	}
	return err
}

// boardDoes does what a board asks for.
type boardDoes struct {
	ctx  context.Context
	root string
	send func(board.News)
}

// weigh tells what everything takes, until the board is left.
func (d *boardDoes) weigh(r *record.Record) {
	loads := steward.NewLoads(d.ctx, r)
	defer loads.Close()
	for {
		begun := time.Now()
		if now, err := record.Read(d.root); err == nil && now != nil {
			d.send(board.News{Record: now})
			d.send(board.News{Loads: loads.Look(d.ctx, now)})
		}
		select {
		case <-time.After(max(loadsEvery, time.Since(begun)*share)):
		case <-d.ctx.Done():
			return
		}
	}
}

// ask judges the stack again and again, until the board is left.
func (d *boardDoes) ask(s *session.Surveyed) {
	for {
		begun := time.Now()
		if r, err := record.Read(d.root); err == nil && r.Alive() {
			c := s.Judge(d.ctx, r)
			c.Changed = s.Changes(r)
			d.send(board.News{Check: &c})
		}
		select {
		case <-time.After(max(asksEvery, time.Since(begun)*share)):
		case <-d.ctx.Done():
			return
		}
	}
}

// Run runs this program with a command, and hands on what it says.
func (d *boardDoes) Run(command, service string) {
	go func() {
		self, err := os.Executable()
		if err != nil {
			return
		}
		args := []string{"-C", d.root, command}
		if service != "" {
			args = append(args, "--", service)
		}
		cmd := exec.CommandContext(d.ctx, self, args...)
		cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		cmd.Run() // what is wrong, it says
		d.send(board.News{SaidOf: strings.TrimSpace(command + " " + service), Said: said.String()})
	}()
}

// Open has the system open an address.
func (d *boardDoes) Open(address string) {
	opener := map[string][]string{"linux": {"xdg-open"}, "darwin": {"open"},
		"windows": {"rundll32", "url.dll,FileProtocolHandler"}}[runtime.GOOS]
	if opener == nil || !strings.HasPrefix(address, "http") {
		d.send(board.News{SaidOf: "open", Said: "open it by hand: " + address})
		return
	}
	go func() {
		cmd := exec.CommandContext(d.ctx, opener[0], append(opener[1:], address)...)
		if err := cmd.Run(); err != nil {
			d.send(board.News{SaidOf: "open", Said: "nothing here opens it; the address is " +
				address})
		}
	}()
}

// Words reads the last lines of a log.
func (d *boardDoes) Words(id stack.NodeID, text string, most int) {
	go func() {
		lines := logs.LastLines(d.root, logs.Source(id), text, most)
		d.send(board.News{PaneOf: id, PaneText: text, NextPane: lines})
	}()
}
