package judge

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// own asks what the workspace asks of its own, in nharbor.toml. A check that does not pass makes
// the stack not well.
func (j *judgement) own(ctx context.Context) {
	checks := j.Stack.Checks
	if !j.alive { // nobody is there to be asked
		return
	}
	j.out.Checks = make([]stack.OwnResult, len(checks))
	var wait sync.WaitGroup
	for i := range checks {
		wait.Go(func() { j.out.Checks[i] = j.askOwn(ctx, &checks[i]) })
	}
	wait.Wait()
	for _, c := range j.out.Checks {
		j.out.Answers = j.out.Answers && c.Passes
	}
	if len(checks) == 0 {
		j.out.Checks = nil
	}
}

// between is the pause between two tries of an own check.
const between = 500 * time.Millisecond

func (j *judgement) askOwn(ctx context.Context, c *stack.OwnCheck) stack.OwnResult {
	out := stack.OwnResult{Name: c.Name, Service: c.Service, At: c.At}
	var base *stack.PortCheck
	for i := range j.out.Ports {
		if p := &j.out.Ports[i]; p.Service == c.Service &&
			(p.Expected == "http" || p.Expected == "https") {
			base = p
			break
		}
	}
	if base == nil {
		out.Cause = c.Service + " has no HTTP port that was asked"
		return out
	}
	out.Address = base.URL() + c.Path
	if base.Verdict == stack.Refuses || base.Verdict == stack.Stranger {
		out.Cause = "its port is not answered by " + c.Service
		return out
	}
	for try := 0; ; try++ {
		out.Passes, out.Cause = true, ""
		j.putOwn(ctx, c, base, &out)
		if out.Passes || try >= c.Retries {
			return out
		}
		select {
		case <-ctx.Done():
			return out
		case <-time.After(between):
		}
	}
}

var settingName = expr.New(`\$\{([A-Za-z_]\w*)\}`)

// filled puts settings into a text; missing names one that has no value.
func (j *judgement) filled(service, text string) (out, missing string) {
	out = settingName.ReplaceAllStringFunc(text, func(m string) string {
		key := m[2 : len(m)-1]
		if j.Value != nil {
			if v, ok := j.Value(service, key); ok {
				return v
			}
		}
		missing = key
		return ""
	})
	return out, missing
}

// putOwn asks once.
func (j *judgement) putOwn(ctx context.Context, c *stack.OwnCheck, base *stack.PortCheck,
	out *stack.OwnResult) {
	fail := func(format string, args ...any) {
		out.Passes, out.Cause = false,
			fmt.Sprintf(format, args...)
	}
	patience := 10 * time.Second
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	body, missing := j.filled(c.Service, c.Body)
	req, err := http.NewRequestWithContext(ctx, c.Method, out.Address, strings.NewReader(body))
	if err != nil {
		fail("it can't be asked: %v", err)
		return
	}
	req.Header.Set("User-Agent", "nharbor")
	for k, v := range c.Headers {
		value, lacks := j.filled(c.Service, v)
		if lacks != "" {
			missing = lacks
		}
		req.Header.Set(k, value)
	}
	if missing != "" {
		fail("the setting %s, which it is asked with, has no value", missing)
		return
	}
	// The address is on this machine whatever its name: nothing is asked of anybody else, a
	// redirection is an answer.
	tr := &http.Transport{DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, base.Address)
		}}
	begin := time.Now()
	resp, err := (&http.Client{Transport: tr,
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return http.ErrUseLastResponse
		}}).Do(req)
	if err != nil {
		fail("no answer within %.0f seconds", patience.Seconds())
		if ctx.Err() == nil {
			fail("no answer: %v", rootOf(err))
		}
		return
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	took := time.Since(begin)
	out.Status, out.LatencyMs = resp.StatusCode, float64(took.Microseconds())/1000
	if lacks := lacking(c, resp.StatusCode, text, took.Seconds()); lacks != "" {
		fail("%s", lacks)
	}
}

// lacking tells what of an answer, which took so many seconds, is not as the check wants it; empty
// if all is.
func lacking(c *stack.OwnCheck, status int, text []byte, took float64) string {
	switch {
	case c.Status != 0 && status != c.Status:
		return fmt.Sprintf("status %d, not %d", status, c.Status)
	case c.Status == 0 && status >= 400:
		return fmt.Sprintf("status %d", status)
	case !strings.Contains(string(text), c.Contains):
		return fmt.Sprintf("what comes does not contain %q", c.Contains)
	case c.Within > 0 && took > c.Within:
		return fmt.Sprintf("it took %.0f ms, more than %.0f ms", 1000*took, 1000*c.Within)
	}
	for _, path := range slices.Sorted(maps.Keys(c.JSON)) {
		if got, err := fieldOf(text, path); err != nil {
			return fmt.Sprintf("%s: %v", path, err)
		} else if got != c.JSON[path] {
			return fmt.Sprintf("%s is %.80q, not %q", path, got, c.JSON[path])
		}
	}
	return ""
}

func rootOf(err error) error {
	for {
		inner, ok := err.(interface{ Unwrap() error })
		if !ok || inner.Unwrap() == nil {
			return err
		}
		err = inner.Unwrap()
	}
}

// fieldOf finds a value in JSON by a path of keys and indexes with dots between, and gives it as
// text.
func fieldOf(text []byte, path string) (string, error) {
	var v any
	d := json.NewDecoder(strings.NewReader(string(text)))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return "", fmt.Errorf("what comes is no JSON")
	}
	for key := range strings.SplitSeq(path, ".") {
		switch in := v.(type) {
		case map[string]any:
			next, ok := in[key]
			if !ok {
				return "", fmt.Errorf("there is no %s", key)
			}
			v = next
		case []any:
			i, err := strconv.Atoi(key)
			if err != nil || i < 0 || i >= len(in) {
				return "", fmt.Errorf("there is no %s among %d", key, len(in))
			}
			v = in[i]
		default:
			return "", fmt.Errorf("there is nothing below %s", key)
		}
	}
	switch v := v.(type) {
	case string:
		return v, nil
	case nil:
		return "null", nil
	}
	out, err := json.Marshal(v)
	return string(out), err
}
