package engine

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"testing"

	"google.golang.org/protobuf/encoding/protowire"

	"nimbleharbor/internal/stack"
)

// message puts a message of the builder's protocol together: texts and messages by their numbers.
func message(parts ...any) []byte {
	var out []byte
	for i := 0; i+1 < len(parts); i += 2 {
		out = protowire.AppendTag(out, protowire.Number(parts[i].(int)), protowire.BytesType)
		switch v := parts[i+1].(type) {
		case string:
			out = protowire.AppendString(out, v)
		case []byte:
			out = protowire.AppendBytes(out, v)
		}
	}
	return out
}

// TestFollow reads what both builders say: lines of one, steps and their words of the other, and
// the error of either.
func TestFollow(t *testing.T) {
	t.Parallel()
	trace := func(data []byte) string {
		return fmt.Sprintf(`{"id":%q,"aux":%q}`, traceID,
			base64.StdEncoding.EncodeToString(data)) + "\n"
	}
	begun := message(1, "sha256:a", 3, "[2/2] RUN make", 5, message())
	for name, c := range map[string]struct {
		body  string
		lines []string
		fails string
	}{
		"the older one": {`{"stream":"Step 1/2 : FROM scratch\n"}` + `{"stream":" ---> 0123\n"}` +
			`{"stream":"Removing intermediate container 4\n"}` +
			`{"status":"Pulling","id":"a","progress":"[=>"}`,
			[]string{"Step 1/2 : FROM scratch"}, ""},
		"a step, told once": {trace(message(1, begun)) + trace(message(1, begun)),
			[]string{"[2/2] RUN make"}, ""},
		"one that has not begun": {trace(message(1, message(1, "sha256:b", 3, "[1/2] FROM x"))),
			nil, ""},
		"one of its own": {trace(message(1,
			message(1, "sha256:b", 3, "[internal] load", 5, message()))), nil, ""},
		"words in pieces": {trace(message(3, message(1, "sha256:a", 4, "one\ntw"))) +
			trace(message(3, message(1, "sha256:a", 4, "o\n"))), []string{"one", "two"}, ""},
		"an error": {`{"error":"it ended with 3"}`, nil, "it ended with 3"},
		"nonsense": {trace([]byte{0xff, 0xff}) + `{"id":"moby.buildkit.trace","aux":7}`, nil, ""},
		"no JSON":  {`{"stream"`, nil, "unexpected EOF"},
	} {
		var lines []string
		err := follow(strings.NewReader(c.body), func(line string) { lines = append(lines, line) })
		if !slices.Equal(lines, c.lines) || (err == nil) != (c.fails == "") ||
			err != nil && err.Error() != c.fails {
			t.Errorf("%s: %q, %v; want %q, %s", name, lines, err, c.lines, c.fails)
		}
	}
}

// TestForward leads a port of this machine to one that is published elsewhere, until it is told to
// end.
func TestForward(t *testing.T) {
	t.Parallel()
	far, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer far.Close()
	go func() {
		for {
			c, err := far.Accept()
			if err != nil {
				return
			}
			go func() {
				io.Copy(c, c)
				c.Close()
			}()
		}
	}()
	port := far.Addr().(*net.TCPAddr).Port
	e := &Engine{Address: "tcp://localhost:1", Remote: true}
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	if err := e.Forward(ctx, port); err == nil {
		t.Error("a port that is taken was led elsewhere")
	}
	near, away := net.Pipe()
	go e.lead(ctx, away, port)
	fmt.Fprint(near, "there and back")
	back := make([]byte, len("there and back"))
	if _, err := io.ReadFull(near, back); err != nil || string(back) != "there and back" {
		t.Errorf("through it comes %q, %v", back, err)
	}
	cancel()
	if _, err := near.Read(back); err == nil {
		t.Error("after the end it is still open")
	}
	for address, want := range map[string]string{"tcp://127.0.0.9:2376": "127.0.0.9",
		"ssh://quay": "127.0.0.1", "tcp://absent.invalid:1": "0.0.0.0"} {
		if got := (&Engine{Address: address, Remote: true}).PublishIP(); got != want {
			t.Errorf("on %s ports are published on %s, want %s", address, got, want)
		}
	}
	if got := (&Engine{Address: "tcp://10.0.0.1:1"}).PublishIP(); got != "127.0.0.1" {
		t.Errorf("on this machine they are published on %s", got)
	}
}

// TestTooOldFor finds what an engine of an older interface does not know.
func TestTooOldFor(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ api, spec, want string }{
		{"1.41", `{"annotations":{"a":"b"}}`, "annotations"},
		{"1.43", `{"annotations":{"a":"b"}}`, ""},
		{"1.41", `{"health":{"test":[],"startInterval":2},"attached":{"n":{"gatewayPriority":1}}}`,
			"gw_priority healthcheck.start_interval"},
		{"1.44", `{"mounts":[{"type":"volume","subpath":"x"}]}`, "volume.subpath!"},
		{"1.45", `{"mounts":[{"type":"volume","subpath":"x"}]}`, ""},
		{"1.43", `{"mounts":[{"type":"bind","recursive":"readonly"}]}`,
			"bind.recursive: writable or readonly!"},
		{"?", `{"annotations":{"a":"b"}}`, ""},
	} {
		var spec stack.ContainerSpec
		if err := json.Unmarshal([]byte(c.spec), &spec); err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, f := range TooOldFor(c.api, &spec) {
			key := f.Key
			if f.Must {
				key += "!"
			}
			got = append(got, key)
		}
		if strings.Join(got, " ") != c.want {
			t.Errorf("of %s an engine with %s does not know %q, want %q", c.spec, c.api, got,
				c.want)
		}
	}
}
