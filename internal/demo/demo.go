// Package demo is a whole example: a made-up ferry company's application, and the actors that stand
// in for a container engine, package managers and servers, all inside of this program.
package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/steward"
	"nimbleharbor/internal/workspace"
)

//go:embed all:app
var app embed.FS

// repositories are the two that the application consists of.
var repositories = []string{"ferry-counter", "ferry-office"}

// ports are those that the application's files name, beside the tide-table service's 18090; where
// one is taken, all move by the same number.
var ports = []int{18080, 18081, 15432}

// Options say how the demo is played.
type Options struct {
	Out      io.Writer
	Real     bool   // the engine and the tools of this machine, no stand-ins
	Keep     string // the workspace is made here and left
	StandIns string // only the stand-ins are run, for the workspace kept in this folder
	// Call runs one command line of the program and gives its exit code.
	Call func(ctx context.Context, out, errOut io.Writer, args ...string) int
}

// Run plays the demo and gives the exit code. It leaves nothing behind but what Keep asks for.
func Run(ctx context.Context, opt Options) (int, error) {
	s := &show{opt: opt, out: opt.Out}
	defer s.close()
	if opt.StandIns != "" {
		return 0, s.standInsOnly(ctx)
	}
	if err := s.prepare(); err != nil {
		return 1, err
	}
	return s.play(ctx)
}

// show is one performance.
type show struct {
	opt    Options
	out    io.Writer
	dir    string // temporary: repositories, engine, tools
	ws     string // the workspace
	shift  int
	tides  *tideService
	engine *standin.Server
	undo   []func()
	stage  int
}

func (s *show) close() {
	for i := len(s.undo) - 1; i >= 0; i-- {
		s.undo[i]()
	}
	s.undo = nil
}

func (s *show) say(format string, args ...any) { fmt.Fprintf(s.out, format+"\n", args...) }

// heading begins a stage.
func (s *show) heading(text string) {
	s.stage++
	s.say("\n%d. %s", s.stage, text)
}

// setenv sets a variable until the show closes.
func (s *show) setenv(key, value string) {
	old, was := os.LookupEnv(key)
	os.Setenv(key, value)
	s.undo = append(s.undo, func() {
		if was {
			os.Setenv(key, old)
		} else {
			os.Unsetenv(key)
		}
	})
}

// prepare makes the temporary folder, the repositories and the stand-ins.
func (s *show) prepare() error {
	if _, err := exec.LookPath("git"); err != nil {
		return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeGitMissing,
			Text:   "the demo makes real git repositories, and git is not installed",
			Remedy: "Install git, then run this again.", Cause: err}
	}
	dir, err := os.MkdirTemp("", "nharbor-demo-")
	if err != nil {
		return err
	}
	s.dir = dir
	s.undo = append(s.undo, func() { os.RemoveAll(dir) })
	s.ws = filepath.Join(dir, "saltmarsh-ferry")
	if s.opt.Keep != "" {
		if s.ws, err = filepath.Abs(s.opt.Keep); err != nil {
			return err
		}
		if entries, err := os.ReadDir(s.ws); err == nil && len(entries) > 0 {
			return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeFolderNotEmpty,
				At:   stack.Place{File: s.ws},
				Text: "the folder exists and is not empty", Remedy: "Name a new one behind --keep."}
		}
	}
	// The tide-table service's port, once held, keeps other demos from choosing the same ones.
	for s.shift = 0; ; s.shift += 100 {
		if s.shift > 5000 {
			return &stack.Fault{Kind: stack.NotSo, Code: stack.CodePortsTaken,
				Text:   "no free ports were found for the demo",
				Remedy: "Stop some of the servers on this machine."}
		}
		if s.tides, err = startTides(fmt.Sprintf("127.0.0.1:%d", 18090+s.shift)); err != nil {
			continue
		}
		if allFree(s.shift) {
			break
		}
		s.tides.server.Close()
	}
	s.undo = append(s.undo, func() { s.tides.server.Close() })
	for _, name := range repositories {
		if err := s.repository(name); err != nil {
			return err
		}
	}
	if s.opt.Keep == "" {
		s.setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
		// The locker of the demo is not the person's own.
		s.setenv("XDG_DATA_HOME", filepath.Join(dir, "data"))
		s.setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	}
	if s.opt.Real {
		return s.realImages()
	}
	return s.standIns(dir)
}

func allFree(shift int) bool {
	for _, p := range ports {
		if !sockets.Free("", p+shift) {
			return false
		}
	}
	return true
}

var portNumber = expr.New(`\b1(808[01]|8090|5432)\b`)

// repository makes a git repository with a tag of one of the embedded folders.
func (s *show) repository(name string) error {
	dir := filepath.Join(s.dir, "repositories", name)
	src, err := fs.Sub(app, "app/"+name)
	if err != nil {
		return err
	}
	err = fs.WalkDir(src, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, filepath.FromSlash(p))
		if d.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := fs.ReadFile(src, p)
		if err != nil {
			return err
		}
		data = portNumber.ReplaceAllFunc(data, func(b []byte) []byte {
			n, _ := strconv.Atoi(string(b))
			return strconv.AppendInt(nil, int64(n+s.shift), 10)
		})
		return os.WriteFile(to, data, 0o644)
	})
	if err != nil {
		return err
	}
	for _, args := range [][]string{
		{"init", "--quiet", "--initial-branch=main"}, {"add", "--all"},
		{"commit", "--quiet", "--message", "The summer timetable"}, {"tag", "summer-2026"},
	} {
		cmd := exec.Command("git", append([]string{"-c", "user.name=Saltmarsh Ferry", "-c",
			"user.email=office@saltmarsh-ferry.example", "-c",
			"commit.gpgsign=false", "-c", "core.hooksPath=/dev/null"}, args...)...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			return fmt.Errorf("git %s: %w: %s", args[0], err, bytes.TrimSpace(out))
		}
	}
	return nil
}

// standIns starts the stand-in engine and puts the stand-in tools first in the PATH.
func (s *show) standIns(dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	base := standin.Image{Files: map[string]string{"/nharbor": self}}
	actor := func(name, port string) standin.Image {
		i := base
		i.Entrypoint, i.Exposed = []string{"/nharbor", "act", name}, []string{port}
		return i
	}
	socket := filepath.Join(dir, "engine.sock")
	if len(socket) > 100 { // a socket's path is short, whatever TMPDIR says
		short, err := os.MkdirTemp("/tmp", "nharbor-demo-")
		if err != nil {
			return err
		}
		s.undo = append(s.undo, func() { os.RemoveAll(short) })
		socket = filepath.Join(short, "engine.sock")
	}
	if s.engine, err = standin.Start(socket, filepath.Join(dir, "engine"), map[string]standin.Image{
		"saltmarsh/base:1": base, "saltmarsh/database:1": actor("database", "5432/tcp"),
		"saltmarsh/queue:1": actor("queue", "6379/tcp"),
	}); err != nil {
		return err
	}
	s.undo = append(s.undo, func() { s.engine.Close() })
	tools := filepath.Join(dir, "tools")
	if err := os.MkdirAll(tools, 0o755); err != nil {
		return err
	}
	for _, name := range []string{"npm", "node"} {
		if err := os.Symlink(self, filepath.Join(tools, name)); err != nil {
			return err
		}
	}
	s.setenv("DOCKER_HOST", "unix://"+socket)
	s.setenv("PATH", tools+string(filepath.ListSeparator)+os.Getenv("PATH"))
	s.setenv(envTools, "1")
	return nil
}

// standInsOnly runs the stand-ins for a kept workspace until it is interrupted.
func (s *show) standInsOnly(ctx context.Context) error {
	data, err := os.ReadFile(filepath.Join(s.opt.StandIns, "ferry-counter", ".env.example"))
	m := tokensAt.FindSubmatch(data)
	if err != nil || m == nil {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeNotADemo,
			At:   stack.Place{File: s.opt.StandIns},
			Text: "this is no workspace that the demo has kept", Remedy: "Make one: nharbor " +
				"demo --keep DIR", Cause: err}
	}
	if s.dir, err = os.MkdirTemp("", "nharbor-demo-"); err != nil {
		return err
	}
	dir := s.dir
	s.undo = append(s.undo, func() { os.RemoveAll(dir) })
	if s.tides, err = startTides("127.0.0.1:" + string(m[1])); err != nil {
		return err
	}
	s.undo = append(s.undo, func() { s.tides.server.Close() })
	if err := s.standIns(dir); err != nil {
		return err
	}
	s.say("The stand-ins run until Ctrl-C. In another terminal:\n")
	s.say("  export DOCKER_HOST=%s", os.Getenv("DOCKER_HOST"))
	s.say("  export PATH=%s:\"$PATH\" %s=1", filepath.Join(dir, "tools"), envTools)
	s.say("  nharbor -C %s launch --set TIDE_TOKEN=$(curl -s -X POST http://localhost:%s/tokens)",
		s.opt.StandIns, m[1])
	<-ctx.Done()
	return nil
}

// realImages builds the demo's images on the machine's engine: nothing in them but this program.
func (s *show) realImages() error {
	ctx := context.Background()
	e, err := engine.Connect(ctx)
	if err != nil {
		f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeEngineUnavailable, Text: err.Error(),
			Cause: err}
		var u *engine.Unavailable
		if errors.As(err, &u) {
			f.Remedy = u.Remedy() + " Without an engine: nharbor demo"
		}
		return f
	}
	s.say("Building the made-up company's images on the engine at %s", e.Address)
	names := []string{"saltmarsh/database:1", "saltmarsh/queue:1", "saltmarsh/base:1"}
	s.undo = append(s.undo, func() {
		defer e.Close()
		id := workspace.ID(s.ws)
		if s.opt.Keep != "" {
			return
		}
		labels := map[string]string{engine.LabelStack: id}
		keeper.RemoveContainers(ctx, e, id)
		e.RemoveVolumes(ctx, labels)
		e.Images().RemoveAll(ctx, labels)
		for _, n := range names {
			e.Images().Remove(ctx, n)
		}
	})
	self, err := os.Executable()
	if err != nil {
		return err
	}
	files, err := withLibraries(self)
	if err != nil {
		return err
	}
	build := func(tag, dockerfile string, files map[string]string) error {
		archive, err := imageArchive(dockerfile, files)
		if err != nil {
			return err
		}
		return e.Build(ctx, engine.BuildSpec{Archive: archive, Tag: tag}, nil)
	}
	if err := build("saltmarsh/base:1", "FROM scratch\nCOPY . /\n", files); err != nil {
		return err
	}
	for name, port := range map[string]string{"database": "5432", "queue": "6379"} {
		if err := build("saltmarsh/"+name+":1",
			fmt.Sprintf("FROM saltmarsh/base:1\nEXPOSE %s\nENTRYPOINT [\"/nharbor\", \"act\", "+
				"%q]\n", port, name), nil); err != nil {
			return err
		}
	}
	return nil
}

// call runs a command of the program as a person would, its line shown first.
func (s *show) call(ctx context.Context, args ...string) int {
	shown := strings.Join(args, " ")
	shown = strings.ReplaceAll(strings.ReplaceAll(shown, s.ws, "saltmarsh-ferry"),
		filepath.Join(s.dir, "repositories")+string(filepath.Separator), "")
	shown = strings.ReplaceAll(shown, s.dir+string(filepath.Separator), "")
	s.say("$ nharbor %s\n", shown)
	return s.opt.Call(ctx, s.out, s.out, args...)
}

var errStage = errors.New("the demo came to an end before its last stage")

// play goes through all stages.
func (s *show) play(ctx context.Context) (int, error) {
	s.say("Saltmarsh Ferry, a made-up company, has a booking counter in two repositories.")
	if s.opt.Real {
		s.say("They are launched here with the container engine and the tools of this machine.")
	} else {
		s.say("Container engine, npm and node are stand-ins inside of this program; git is real.")
	}
	failed := func(code int) (int, error) { return max(code, 1), errStage }

	s.heading("Get the code: both repositories, side by side, at the release that fits")
	if code := s.call(ctx, "clone", filepath.Join(s.dir, "repositories", "ferry-counter"),
		filepath.Join(s.dir, "repositories",
			"ferry-office"), "--into", s.ws, "--at", "summer-2026"); code != 0 {
		return failed(code)
	}
	s.heading("Look round: what is it made of, and how is that known?")
	if code := s.call(ctx, "-C", s.ws, "survey"); code != 0 && code != 3 {
		return failed(code)
	}
	s.heading("What does this machine lack?")
	if code := s.call(ctx, "-C", s.ws, "needs"); code != 0 {
		return failed(code)
	}
	s.heading("Fill in the settings: one of them only a third party can give")
	if code := s.call(ctx, "-C", s.ws, "fill"); code != 4 {
		return failed(code)
	}
	answers, err := s.fetchToken(ctx)
	if err != nil {
		return 1, err
	}
	if code := s.call(ctx, "-C", s.ws, "fill", "--answers", answers); code != 0 {
		return failed(code)
	}
	s.heading("In which order, and why?")
	if code := s.call(ctx, "-C", s.ws, "order"); code != 0 {
		return failed(code)
	}
	s.heading("Read what would be executed, before it is")
	if code := s.call(ctx, "-C", s.ws, "vouch", "--agree"); code != 0 {
		return failed(code)
	}
	s.heading("Launch: each piece starts the moment what it needs answers")
	// Whatever happens from here on, nothing may stay behind.
	s.undo = append(s.undo, func() { steward.StopStack(context.Background(), s.ws, nil) })
	if code := s.call(ctx, "-C", s.ws, "launch", "--background"); code != 0 {
		return failed(code)
	}
	s.heading("Use it: book a crossing at the counter, and find it in the office's ledger")
	if err := s.book(ctx); err != nil {
		return 1, err
	}
	s.heading("What did the worker say?")
	if code := s.call(ctx, "-C", s.ws, "logs", "worker", "api"); code != 0 {
		return failed(code)
	}
	s.heading("Stop, in reverse order, and leave nothing running")
	if code := s.call(ctx, "-C", s.ws, "stop"); code != 0 {
		return failed(code)
	}
	return 0, s.epilogue()
}

// fetchToken does what the person would: it gets the token from the third party and puts it into a
// file of answers.
func (s *show) fetchToken(ctx context.Context) (string, error) {
	address := fmt.Sprintf("http://localhost:%d/tokens", 18090+s.shift)
	token, err := post(ctx, address, "")
	if err != nil {
		return "", err
	}
	file := filepath.Join(s.dir, "answers.env")
	s.say("\nThe demo plays your part here: it gets the token at %s and puts it into "+
		"answers.env.\n", address)
	return file, os.WriteFile(file, []byte("TIDE_TOKEN="+token+"\n"), 0o600)
}

func post(ctx context.Context, address, body string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(body))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return fetch(req)
}

func get(ctx context.Context, address string) (string, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	return fetch(req)
}

func fetch(req *http.Request) (string, error) {
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	data, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if err == nil && resp.StatusCode >= 400 {
		err = fmt.Errorf("%s answers with status %d: %s", req.URL, resp.StatusCode,
			bytes.TrimSpace(data))
	}
	return string(data), err
}

// book uses the launched application.
func (s *show) book(ctx context.Context) error {
	counter, office := fmt.Sprintf("http://localhost:%d", 18080+s.shift),
		fmt.Sprintf("http://localhost:%d", 18081+s.shift)
	page, err := get(ctx, counter+"/")
	if err != nil {
		return err
	}
	page, _, _ = strings.Cut(page, "<form")
	for _, line := range strings.Split(page, "\n") {
		if text := strings.TrimSpace(markUp.ReplaceAllString(line, " ")); text != "" {
			s.say("  %s", strings.Join(strings.Fields(text), " "))
		}
	}
	said, err := post(ctx, counter+"/book", url.Values{"name": {"Ida Brandt"}}.Encode())
	if err != nil {
		return err
	}
	s.say("  The counter says: %s", strings.TrimSpace(said))
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	var names []string
	err = until(ctx, "the booking never reached the ledger", func() (bool, error) {
		ledger, err := get(ctx, office+"/bookings")
		if err != nil {
			return false, err
		}
		err = json.Unmarshal([]byte(ledger), &names)
		return len(names) > 0, err
	})
	if err != nil {
		return err
	}
	s.say("  In the ledger: %s", strings.Join(names, ", "))
	// The next stage shows the log, to which the worker's line is still on its way.
	log := logs.Read(s.ws, []string{"worker"})
	return until(ctx, "the worker said nothing of the booking", func() (bool, error) {
		lines, err := log.Next()
		return slices.ContainsFunc(lines,
				func(l logs.Line) bool { return strings.HasPrefix(l.Text, "entered") }),
			err
	})
}

// until asks every few milliseconds, until it is so or ctx ends.
func until(ctx context.Context, otherwise string, ok func() (bool, error)) error {
	for {
		if done, err := ok(); done || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return errors.New(otherwise)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (s *show) epilogue() error {
	if s.opt.Keep != "" {
		s.say("\nThe workspace is kept in %s.", s.ws)
		if s.opt.Real {
			s.say("The token goes with the demo; the rest can be launched by hand: nharbor -C "+
				"%s launch", s.opt.Keep)
		} else {
			s.say("Every command that launches nothing works there as it is. To launch it by " +
				"hand, let the")
			s.say("stand-ins run in another terminal: nharbor demo --stand-ins %s", s.opt.Keep)
		}
		return nil
	}
	s.say("\nThat was the demo; nothing of it is left on this machine. With an application of " +
		"yours:")
	s.say("  nharbor clone ADDRESS, or nharbor -C FOLDER survey")
	return nil
}

func randomHex(n int) string {
	b := make([]byte, n)
	rand.Read(b)
	return hex.EncodeToString(b)
}

var (
	tokensAt = expr.New(`localhost:(\d+)/tokens`)
	markUp   = expr.New(`<[^>]*>`)
)
