package judge

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nimbleharbor/internal/process"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// launched is the record of a stack whose steward answers, and masks what is called canary.
func launched(t *testing.T, services ...record.Service) *record.Record {
	t.Helper()
	dir, err := os.MkdirTemp("", "nh") // a socket's path has to be short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	l, err := net.Listen("unix", filepath.Join(dir, "s"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				var req record.Request
				if json.NewDecoder(c).Decode(&req) != nil {
					return
				}
				for i, text := range req.Texts {
					req.Texts[i] = strings.ReplaceAll(text, "canary", "***")
				}
				json.NewEncoder(c).Encode(record.Message{Texts: req.Texts})
			}()
		}
	}()
	return &record.Record{ID: "test-judged", Socket: filepath.Join(dir, "s"), Started: time.Now(),
		Services: services}
}

// site serves pages on a port of its own.
func site(t *testing.T, h http.HandlerFunc) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &http.Server{Handler: h}
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Serve(l)
	}()
	t.Cleanup(func() {
		s.Close()
		testbound.Got(t, "the site to end", done)
	})
	return l.Addr().(*net.TCPAddr).Port
}

func page(text string) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) { io.WriteString(w, text) }
}

// on is an HTTP port of a service.
func on(port int) []stack.Port {
	return []stack.Port{{
		Host: port, Target: port, Transport: "tcp", Speaks: "http",
		At: stack.Place{File: "compose.yaml", Line: 3},
	}}
}

// recorded is a service as it is recorded, with the process of this test, which holds all its
// servers.
func recorded(name string, state stack.State, text string, ports []stack.Port) record.Service {
	return record.Service{Name: name, Runs: stack.Native, Kind: stack.Lasting, State: state,
		Text: text, Ports: ports, PID: process.GroupOf(os.Getpid())}
}

// TestJudgement judges stacks by their record and their ports: what is well, what is counted, and
// what is said.
func TestJudgement(t *testing.T) {
	t.Parallel()
	good, bad := site(t, page("<title>Pier</title>")), site(t,
		func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, `relation "bookings" does not exist`, http.StatusInternalServerError)
		})
	nobody := testport.Take(t)
	service := func(name string, port int) stack.Service {
		return stack.Service{Name: name, Runs: stack.Native, Kind: stack.Lasting, Ports: on(port)}
	}
	portless := stack.Service{Name: "worker", Runs: stack.Native, Kind: stack.Lasting}
	job := stack.Service{Name: "seed", Runs: stack.Native, Kind: stack.Once, Ports: on(nobody)}
	for name, c := range map[string]struct {
		services []stack.Service
		record   *record.Record
		answers  bool
		counts   string // expected, running, answering
		verdicts string
		says     string // of the first service that is not well
	}{
		"nothing launched": {[]stack.Service{service("a", nobody)}, nil, false, "1 0 0", "refuses",
			"not launched"},
		"somebody's answer without a launch": {[]stack.Service{service("a", good)}, nil, false,
			"1 0 0", "stranger", "this stack is not launched"},
		"all is well": {[]stack.Service{service("a", good)},
			launched(t, recorded("a", stack.IsUp, "", on(good))), true, "1 1 1", "answers", ""},
		"one without a port": {[]stack.Service{service("a", good), portless},
			launched(t, recorded("a", stack.IsUp, "", on(good)),
				recorded("worker", stack.Running, "", nil)), true, "2 2 1", "answers", ""},
		"none has a port": {[]stack.Service{portless},
			launched(t, recorded("worker", stack.Running, "", nil)), true, "1 1 0", "", ""},
		"an error page": {[]stack.Service{service("a", bad)},
			launched(t, recorded("a", stack.IsUp, "", on(bad))),
			false, "1 1 0", "errs", "a table is missing, bookings"},
		"one that does not listen": {[]stack.Service{service("a", nobody)},
			launched(t, recorded("a", stack.Quiet, "",
				on(nobody))), false, "1 1 0", "refuses", "does not listen"},
		"quiet, and answers now": {[]stack.Service{service("a", good)},
			launched(t, recorded("a", stack.Quiet, "too slow",
				on(good))), true, "1 1 1", "answers", ""},
		"failed, and somebody is there": {[]stack.Service{service("a", good)},
			launched(t, recorded("a", stack.Failed, "ended with 3",
				on(good))), false, "1 0 0", "stranger", "ended with 3"},
		"skipped": {[]stack.Service{portless},
			launched(t, recorded("worker", stack.Skipped, "a failed", nil)), false,
			"1 0 0", "", "skipped, since a failed"},
		"waiting": {[]stack.Service{portless},
			launched(t, recorded("worker", stack.Waiting, "for a", nil)), false,
			"1 0 0", "", "it waits for a"},
		"starting": {[]stack.Service{portless},
			launched(t, recorded("worker", stack.Starting, "", nil)), false,
			"1 1 0", "", "still starting"},
		"stopped": {[]stack.Service{portless},
			launched(t, recorded("worker", stack.Stopped, "", nil)), false, "1 0 0",
			"", "was stopped"},
		"left out": {[]stack.Service{service("a", good), service("b", bad)},
			launched(t, recorded("a", stack.IsUp, "", on(good))), true, "1 1 1", "answers",
			"not part of this launch"},
		"a job that is done": {[]stack.Service{service("a", good), job}, launched(t,
			recorded("a", stack.IsUp, "", on(good)), record.Service{Name: "seed", Kind: stack.Once,
				State: stack.Ended}), true, "1 1 1", "answers", ""},
		"a job that failed": {[]stack.Service{service("a", good), job}, launched(t,
			recorded("a", stack.IsUp, "", on(good)),
			record.Service{Name: "seed", Kind: stack.Once, State: stack.Failed,
				Text: "ended with 1"}), false, "1 1 1", "answers", "ended with 1"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			got := Judging{Services: c.services, Record: c.record}.Ask(t.Context())
			var verdicts []string
			for _, p := range got.Ports {
				verdicts = append(verdicts, string(p.Verdict))
			}
			said := ""
			for _, s := range got.Services {
				if !s.Good {
					said = s.Cause
					break
				}
			}
			counts := fmt.Sprint(got.Counts.Expected, got.Counts.Running, got.Counts.Answering)
			if got.Answers != c.answers || counts != c.counts ||
				strings.Join(verdicts, " ") != c.verdicts ||
				!strings.Contains(said, c.says) || c.says == "" && said != "" {
				t.Errorf("got %v, %s, %v, %q", got.Answers, counts, verdicts, said)
			}
			if got.Launched != (c.record != nil) || got.Ports == nil || got.Services == nil {
				t.Errorf("the answer is %+v", got)
			}
		})
	}
}

// TestFailedStepsCount holds that a stack is not well while a step of it has failed, even if all
// its services are.
func TestFailedStepsCount(t *testing.T) {
	t.Parallel()
	port := site(t, page("x"))
	r := launched(t, recorded("a", stack.IsUp, "", on(port)))
	r.Steps = []record.Step{{ID: "step:migrate:.", State: stack.Failed, Text: "ended with 1",
		Why: record.Why{Code: "table-missing", Cause: "a table is missing", Remedy: "Migrate."}},
		{ID: "step:seed:.", State: stack.Skipped, Text: "migrate failed"}}
	a := stack.Service{Name: "a", Kind: stack.Lasting, Ports: on(port)}
	got := Judging{Services: []stack.Service{a}, Record: r}.Ask(t.Context())
	if got.Answers || len(got.Failures) != 2 || got.Failures[0].Cause != "a table is missing" ||
		got.Failures[1].State != stack.Skipped {
		t.Errorf("got %v, %+v", got.Answers, got.Failures)
	}
}

// TestCalledByName asks a service by the names that it wants to be called by; one of them stands
// for localhost where that is refused.
func TestCalledByName(t *testing.T) {
	t.Parallel()
	port := site(t, func(w http.ResponseWriter, r *http.Request) {
		switch host, _, _ := net.SplitHostPort(r.Host); host {
		case "desk.localhost":
			io.WriteString(w, "<title>Desk</title>")
		case "gate.localhost":
			http.Error(w, "down", http.StatusBadGateway)
		default:
			http.Error(w, "Invalid Host header", http.StatusBadRequest)
		}
	})
	s := stack.Service{Name: "a", Kind: stack.Lasting, Ports: on(port)}
	s.Names = []stack.HostName{
		{Host: "desk.localhost"}, {Host: "gate.localhost", Port: port}, {Host: "elsewhere",
			Port: 1},
	}
	rec := launched(t, recorded("a", stack.IsUp, "", on(port)))
	got := Judging{Services: []stack.Service{s}, Record: rec}.Ask(t.Context())
	var said []string
	for _, p := range got.Ports {
		said = append(said, fmt.Sprintf("%s %s",
			strings.Replace(p.URL(), fmt.Sprint(port), "P", 1), p.Verdict))
	}
	slices.Sort(said)
	want := "http://desk.localhost:P answers, http://desk.localhost:P answers, " +
		"http://gate.localhost:P errs"
	if strings.Join(said, ", ") != want || !got.Answers ||
		got.Open != fmt.Sprintf("http://desk.localhost:%d", port) {
		t.Errorf("got %s, %v, open %s", strings.Join(said, ", "), got.Answers, got.Open)
	}
	const called = "answers to the name desk.localhost; called localhost, with status 400"
	if cause := got.Ports[0].Cause; !strings.Contains(cause, called) {
		t.Errorf("of the first it says %q", cause)
	}
}

// TestPages asks for pages that READMEs name, and, where a first page is not there, for well-known
// ones.
func TestPages(t *testing.T) {
	t.Parallel()
	docs := func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/docs" {
			http.NotFound(w, r)
			return
		}
		io.WriteString(w, "<title>Docs of canary</title>")
	}
	api, office := site(t, docs), site(t, docs)
	named := stack.Service{Name: "office", Kind: stack.Lasting, Ports: on(office)}
	named.Pages = []stack.Page{{Port: office, Path: "/absent",
		At: stack.Place{File: "README.md", Line: 4}}}
	s := &stack.Stack{Services: []stack.Service{{Name: "api", Kind: stack.Lasting, Ports: on(api)},
		named}}
	got := Judging{Root: t.TempDir(), Stack: s,
		Record: launched(t, recorded("api", stack.IsUp, "", on(api)),
			recorded("office", stack.IsUp, "", on(office)))}.Ask(t.Context())
	var said []string
	for _, p := range got.Pages {
		said = append(said, fmt.Sprintf("%s %d %q", p.Service, p.Status, p.Title))
	}
	slices.Sort(said)
	if strings.Join(said, ", ") != `api 200 "Docs of ***", office 404 ""` {
		t.Errorf("asked for was %v", said)
	}
	if got.Open != fmt.Sprintf("http://localhost:%d/docs", api) {
		t.Errorf("to open is %q", got.Open)
	}
}

// TestOwnChecks asks what a workspace asks of its own, and says what is wrong.
func TestOwnChecks(t *testing.T) {
	t.Parallel()
	var tries atomic.Int32
	port := site(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/fares":
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"fares": [{"to": "Gull Island", "cents": 450, "dog": null}], "by": %q, "how": %q}`,
				r.Header.Get("Authorization"), r.Method)
		case "/moved":
			http.Redirect(w, r, "https://quay.example/", http.StatusFound)
		case "/late":
			if tries.Add(1) < 3 {
				http.Error(w, "not yet", http.StatusServiceUnavailable)
			}
		case "/echo":
			io.Copy(w, r.Body)
		case "/slow":
			select {
			case <-time.After(60 * time.Millisecond):
			case <-r.Context().Done():
			}
		default:
			http.NotFound(w, r)
		}
	})
	for name, c := range map[string]struct {
		check stack.OwnCheck
		want  string // the cause; empty for a check that passes
	}{
		"a page":                  {stack.OwnCheck{Path: "/fares"}, ""},
		"a page that isn't there": {stack.OwnCheck{Path: "/absent"}, "status 404"},
		"a status":                {stack.OwnCheck{Path: "/absent", Status: 404}, ""},
		"another status": {stack.OwnCheck{Path: "/fares", Status: 201},
			"status 200, not 201"},
		"a redirection": {stack.OwnCheck{Path: "/moved", Status: 302}, ""},
		"a word":        {stack.OwnCheck{Path: "/fares", Contains: "Gull Island"}, ""},
		"a word that is missing": {
			stack.OwnCheck{Path: "/fares", Contains: "Tern Rock"},
			`does not contain "Tern Rock"`,
		},
		"a field": {
			stack.OwnCheck{Path: "/fares",
				JSON: map[string]string{"fares.0.cents": "450", "fares.0.dog": "null"}},
			"",
		},
		"another value": {
			stack.OwnCheck{Path: "/fares", JSON: map[string]string{"fares.0.cents": "451"}},
			`fares.0.cents is "450", not "451"`,
		},
		"a field that is missing": {
			stack.OwnCheck{Path: "/fares", JSON: map[string]string{"fares.0.cat": "1"}},
			"there is no cat",
		},
		"an index beyond": {
			stack.OwnCheck{Path: "/fares", JSON: map[string]string{"fares.1.to": "x"}},
			"there is no 1 among 1",
		},
		"below a value": {
			stack.OwnCheck{Path: "/fares", JSON: map[string]string{"by.x": "x"}},
			"there is nothing below x",
		},
		"a whole list": {
			stack.OwnCheck{Path: "/fares", JSON: map[string]string{"fares": "x"}},
			`fares is`,
		},
		"no JSON": {
			stack.OwnCheck{Path: "/echo", Method: "POST", Body: "text",
				JSON: map[string]string{"x": "y"}},
			"no JSON",
		},
		"a setting in a header": {
			stack.OwnCheck{
				Path: "/fares", Headers: map[string]string{"Authorization": "Bearer ${KEY}"},
				JSON: map[string]string{"by": "Bearer tern-4"},
			},
			"",
		},
		"a setting without value": {
			stack.OwnCheck{Path: "/fares", Headers: map[string]string{"Authorization": "${NONE}"}},
			"the setting NONE",
		},
		"a body": {
			stack.OwnCheck{Path: "/echo", Method: "PUT", Body: "key ${KEY}",
				Contains: "key tern-4"},
			"",
		},
		"in time":     {stack.OwnCheck{Path: "/fares", Within: 5}, ""},
		"too slow":    {stack.OwnCheck{Path: "/slow", Within: 0.02}, "more than 20 ms"},
		"another try": {stack.OwnCheck{Path: "/late", Retries: 3}, ""},
		"another service": {stack.OwnCheck{Service: "nobody", Path: "/"},
			"nobody has no HTTP port"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if c.check.Method == "" {
				c.check.Method = http.MethodGet
			}
			if c.check.Service == "" {
				c.check.Service = "a"
			}
			s := &stack.Stack{Services: []stack.Service{{Name: "a", Kind: stack.Lasting,
				Ports: on(port)}}, Checks: []stack.OwnCheck{c.check}}
			got := Judging{Root: t.TempDir(), Stack: s,
				Record: launched(t, recorded("a", stack.IsUp, "", on(port))),
				Value: func(service, key string) (string, bool) {
					return "tern-4",
						service == "a" && key == "KEY"
				}}.Ask(t.Context())
			if len(got.Checks) != 1 || got.Checks[0].Passes != (c.want == "") ||
				got.Answers != (c.want == "") || !strings.Contains(got.Checks[0].Cause, c.want) {
				t.Errorf("got %+v, %v", got.Checks, got.Answers)
			}
			if data, _ := json.Marshal(got); strings.Contains(string(data), "tern-4") {
				t.Errorf("the setting is shown in %s", data)
			}
		})
	}
}

// TestWarmUp tells a server whose first page takes long from a slow one.
func TestWarmUp(t *testing.T) {
	t.Parallel()
	var asked atomic.Int32
	port := site(t, func(w http.ResponseWriter, r *http.Request) {
		if asked.Add(1) == 1 {
			select {
			case <-time.After(1100 * time.Millisecond):
			case <-r.Context().Done():
			}
		}
		io.WriteString(w, "warm")
	})
	got := Judging{Services: []stack.Service{{Name: "a", Kind: stack.Lasting, Ports: on(port)}},
		Record: launched(t, recorded("a", stack.IsUp, "", on(port)))}.Ask(t.Context())
	if p := got.Ports[0]; p.FirstMs < 1000 || p.LatencyMs > p.FirstMs/2 ||
		p.Verdict != stack.Answers {
		t.Errorf("got %+v", p)
	}
}
