package demo

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"nimbleharbor/internal/engine/standin/inside"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// envTools tells a copy of the program under the name of a tool that it is to stand in for it.
const envTools = "NHARBOR_STANDIN_TOOLS"

// Actor tells whether the program was called to play a part of the demo: a server in a container
// (act NAME), or a tool under its own name. The function plays it and gives the exit code.
func Actor(args []string) (func() int, bool) {
	if os.Getenv(envTools) != "" {
		switch strings.TrimSuffix(filepath.Base(args[0]), ".exe") {
		case "npm":
			return played(func() error { return standInNpm(args[1:]) }), true
		case "node":
			return played(func() error { return standInNode(args[1:]) }), true
		}
	}
	if len(args) < 3 || args[1] != "act" {
		return nil, false
	}
	parts := map[string]func([]string) error{
		"database": actDatabase, "queue": actQueue, "timetable": actTimetable, "api": actAPI,
		"worker": actWorker,
		"ask":    actAsk,
	}
	part, ok := parts[args[2]]
	if !ok {
		return nil, false
	}
	return played(func() error { return part(args[3:]) }), true
}

func played(part func() error) func() int {
	return func() int {
		if err := part(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		return 0
	}
}

// asked is closed when the process is asked to stop.
func asked() context.Context {
	ctx, _ := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	return ctx
}

// actAsk is the health check in the containers: it speaks to a port of its own container.
func actAsk(args []string) error {
	if len(args) != 2 {
		return errors.New("ask PROTOCOL PORT")
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	c, err := inside.Dial(ctx, "localhost:"+args[1])
	if err != nil {
		return err
	}
	if v := protocol.AskConn(ctx, c, args[0]); v != stack.Answers {
		return fmt.Errorf("port %s %s", args[1], v)
	}
	return nil
}

// ledger opens the database that DATABASE_URL names.
func ledger(ctx context.Context) (*ledgerClient, error) {
	u, err := url.Parse(os.Getenv("DATABASE_URL"))
	if err != nil || u.User == nil {
		return nil, errors.New("DATABASE_URL is not set, or is no address")
	}
	password, _ := u.User.Password()
	conn, err := inside.Dial(ctx, u.Host)
	if err != nil {
		return nil, err
	}
	return openLedger(conn, u.User.Username(), password, strings.Trim(u.Path, "/"))
}

// actTimetable enters the departures of a file into the ledger, once.
func actTimetable(args []string) error {
	ctx := asked()
	db, err := ledger(ctx)
	if err != nil {
		return err
	}
	defer db.Close()
	there, err := db.Read("departures")
	if err != nil {
		return err
	}
	if len(there) > 0 {
		fmt.Printf("the timetable is there already, %d departures\n", len(there))
		return nil
	}
	data, err := os.ReadFile(inside.Path(args[0]))
	if err != nil {
		return err
	}
	n := 0
	for line := range strings.Lines(string(data)) {
		if err := db.Write("departures", strings.TrimSpace(line)); err != nil {
			return err
		}
		n++
	}
	fmt.Printf("wrote %d departures into the ledger\n", n)
	return nil
}

// actAPI serves departures and takes bookings.
func actAPI([]string) error {
	ctx := asked()
	db, err := ledger(ctx)
	if err != nil {
		return err
	}
	defer db.Close()
	queue, err := openQueue(ctx)
	if err != nil {
		return err
	}
	defer queue.Close()
	if len(os.Getenv("SIGNING_KEY")) < 32 {
		return errors.New("SIGNING_KEY must be 32 bytes in hex")
	}
	mux := http.NewServeMux()
	answer := func(table string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			rows, err := db.Read(table)
			if err != nil {
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
			if rows == nil {
				rows = []string{}
			}
			w.Header().Set("Content-Type", "application/json")
			json.NewEncoder(w).Encode(rows)
		}
	}
	mux.HandleFunc("GET /departures", answer("departures"))
	mux.HandleFunc("GET /bookings", answer("bookings"))
	mux.HandleFunc("POST /bookings", func(w http.ResponseWriter, r *http.Request) {
		name, err := io.ReadAll(io.LimitReader(r.Body, 200))
		if err == nil && len(name) > 0 {
			err = queue.Push("bookings", string(name))
		}
		if err != nil || len(name) == 0 {
			http.Error(w, "a booking needs a name, and an open queue", http.StatusBadRequest)
			return
		}
		fmt.Printf("a booking for %s went into the queue\n", name)
		w.WriteHeader(http.StatusAccepted)
		fmt.Fprintf(w, "Booked for %s; the confirmation follows.\n", name)
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"service":"Saltmarsh Ferry office","see":["/departures","/bookings"]}`+"\n")
	})
	l, err := inside.Listen(":8081")
	if err != nil {
		return err
	}
	fmt.Println("the office listens on 8081")
	return serveUntil(ctx, l, mux)
}

func serveUntil(ctx context.Context, l net.Listener, h http.Handler) error {
	s := &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second}
	context.AfterFunc(ctx, func() {
		end, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		s.Shutdown(end)
	})
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// actWorker enters bookings from the queue into the ledger.
func actWorker([]string) error {
	ctx := asked()
	queue, err := openQueue(ctx)
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { queue.Close() })
	db, err := ledger(ctx)
	if err != nil {
		return err
	}
	defer db.Close()
	fmt.Println("waiting for bookings")
	for {
		name, err := queue.Pop("bookings")
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		if err := db.Write("bookings", name); err != nil {
			return err
		}
		fmt.Printf("entered the booking for %s\n", name)
	}
}

// counterPage is what the stand-in for node does with the counter's server.js.
func counterServer() error {
	ctx := asked()
	office, port := os.Getenv("OFFICE_URL"), os.Getenv("PORT")
	get := func(ctx context.Context, address, token string, into any) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return err
		}
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return err
		}
		defer resp.Body.Close()
		return json.NewDecoder(resp.Body).Decode(into)
	}
	mux := http.NewServeMux()
	closed := func(w http.ResponseWriter, err error) {
		fmt.Fprintln(os.Stderr, "the page could not be made:", err)
		http.Error(w, "The counter is closed.", http.StatusInternalServerError)
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) {
		var departures []string
		if err := get(r.Context(), office+"/departures", "", &departures); err != nil {
			closed(w, err)
			return
		}
		var tides []tide
		if err := get(r.Context(), os.Getenv("TIDE_URL")+"/today", os.Getenv("TIDE_TOKEN"),
			&tides); err != nil {
			closed(w, err)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, "<!doctype html><html lang=\"en\"><head><title>Saltmarsh Ferry: book a "+
			"crossing</title></head>\n<body><h1>Departures</h1><ul>\n")
		for _, d := range departures {
			fmt.Fprintf(w, "<li>%s</li>\n", html.EscapeString(d))
		}
		fmt.Fprintf(w, "</ul><p>Tides today: %s</p>\n<form method=\"post\" "+
			"action=\"/book\"><input "+
			"name=\"name\"><button>Book</button></form></body></html>", tideLine(tides))
	})
	mux.HandleFunc("POST /book", func(w http.ResponseWriter, r *http.Request) {
		resp, err := http.Post(office+"/bookings", "text/plain",
			strings.NewReader(r.FormValue("name")))
		if err != nil {
			closed(w, err)
			return
		}
		defer resp.Body.Close()
		w.WriteHeader(resp.StatusCode)
		io.Copy(w, resp.Body)
	})
	l, err := net.Listen("tcp", "127.0.0.1:"+port)
	if err != nil {
		return err
	}
	fmt.Printf("the counter is open on http://localhost:%s\n", port)
	return serveUntil(ctx, l, mux)
}

// standInNpm plays npm: it links the packages that the lock file names, and runs scripts.
func standInNpm(args []string) error {
	if len(args) == 0 {
		return errors.New("npm ci, npm run SCRIPT")
	}
	switch args[0] {
	case "--version", "-v":
		fmt.Println("10.0.0")
		return nil
	case "ci", "install":
		return standInInstall()
	case "run":
		var pkg struct{ Scripts map[string]string }
		data, err := os.ReadFile("package.json")
		if err != nil {
			return err
		}
		if err := json.Unmarshal(data, &pkg); err != nil {
			return fmt.Errorf("package.json: %w", err)
		}
		line := strings.Fields(pkg.Scripts[args[len(args)-1]])
		if len(line) == 0 {
			return fmt.Errorf("there is no script %s", args[len(args)-1])
		}
		cmd := exec.Command(line[0], line[1:]...)
		cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
		ctx := asked()
		if err := cmd.Start(); err != nil {
			return err
		}
		context.AfterFunc(ctx, func() { cmd.Process.Signal(syscall.SIGTERM) })
		return cmd.Wait()
	}
	return fmt.Errorf("the stand-in for npm does not know %s", args[0])
}

// standInInstall copies what the lock file has lying in the checkout.
func standInInstall() error {
	var lock struct {
		Packages map[string]struct {
			Resolved string
			Link     bool
		}
	}
	data, err := os.ReadFile("package-lock.json")
	if err != nil {
		return err
	}
	if err := json.Unmarshal(data, &lock); err != nil {
		return fmt.Errorf("package-lock.json: %w", err)
	}
	count := 0
	if err := os.RemoveAll("node_modules"); err != nil {
		return err
	}
	for to, p := range lock.Packages {
		if !p.Link || !filepath.IsLocal(to) || !filepath.IsLocal(p.Resolved) {
			continue
		}
		if err := os.CopyFS(to, os.DirFS(p.Resolved)); err != nil {
			return err
		}
		count++
	}
	fmt.Printf("added %d package\n", count)
	return nil
}

// standInNode plays node: a script's first line names the part that it plays.
func standInNode(args []string) error {
	if len(args) == 0 {
		return errors.New("node FILE")
	}
	if args[0] == "--version" {
		fmt.Println("v20.0.0")
		return nil
	}
	f, err := os.Open(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	line, err := bufio.NewReader(f).ReadString('\n')
	if err != nil {
		return err
	}
	if strings.TrimSpace(line) == "// stand-in: counter" {
		return counterServer()
	}
	return fmt.Errorf("%s names no stand-in in its first line", args[0])
}

// tide is one turn of the tide.
type tide struct {
	Time string `json:"time"`
	Kind string `json:"kind"`
}

func tideLine(tides []tide) string {
	var out []string
	for _, t := range tides {
		out = append(out, t.Time+" "+t.Kind+" water")
	}
	return strings.Join(out, ", ")
}

// tideService is the harbour authority's: it issues tokens, and tells the tides to who shows one.
type tideService struct {
	server *http.Server
	mu     sync.Mutex
	issued map[string]bool
}

func startTides(address string) (*tideService, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	t := &tideService{issued: map[string]bool{}}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /tokens", func(w http.ResponseWriter, r *http.Request) {
		token := "tide-" + randomHex(16)
		t.mu.Lock()
		t.issued[token] = true
		t.mu.Unlock()
		fmt.Fprint(w, token)
	})
	mux.HandleFunc("GET /tokens", func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, "Send a POST to this address and a token is issued.\n")
	})
	mux.HandleFunc("GET /today", func(w http.ResponseWriter, r *http.Request) {
		token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		t.mu.Lock()
		known := t.issued[token]
		t.mu.Unlock()
		if !known {
			http.Error(w, "this token was not issued here", http.StatusUnauthorized)
			return
		}
		json.NewEncoder(w).Encode([]tide{{"05:12", "high"}, {"11:31", "low"}, {"17:40", "high"}})
	})
	t.server = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go t.server.Serve(l)
	return t, nil
}
