package view

import (
	"bytes"
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"unicode/utf8"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// hostileTexts are texts that a terminal, or a reader, would take for something else, by what they
// do.
var hostileTexts = map[string]string{
	"a colour": "a\x1b[31mb", "a title": "a\x1b]0;quay\x07b", "a bell": "a\ab", "one step " +
		"back": "a\bb",
	"the line's begin": "a\rb", "a command of one byte": "a\u009b31mb", "the end of " +
		"text": "a\x00b", "delete": "a\x7fb",
	"the other direction": "a\u202eb", "an isolate": "a\u2066b", "no width": "a\u200bb", "a " +
		"joiner": "a\u200db",
	"a mark": "\ufeffa", "a tag": "a\U000e0041b", "a line separator": "a\u2028b", "a soft " +
		"hyphen": "a\u00adb",
	"no text": "a\xffb", "an arabic mark": "a\u061cb", "an annotation": "a\ufff9b", "a word " +
		"joiner": "a\u2060b",
}

func TestWasher(t *testing.T) {
	t.Parallel()
	for name, text := range hostileTexts {
		for _, colour := range []bool{false, true} {
			var out bytes.Buffer
			w := &washer{&out, colour}
			if n, err := w.Write([]byte(text + "\n")); n != len(text)+1 || err != nil {
				t.Errorf("%s: %d bytes, %v", name, n, err)
			}
			if got := out.String(); strings.IndexFunc(got, hostile) >= 0 &&
				!(colour && name == "a colour") ||
				!utf8.ValidString(got) || !strings.HasSuffix(got, "\n") ||
				!strings.Contains(got, "a") {
				t.Errorf("%s becomes %q", name, got)
			}
		}
	}
	for _, text := range []string{"plain\n", "a\ttab\n", "“quoted” Überfahrt 漢字 …·\n",
		"\x1b[31mfailed\x1b[0m\n"} {
		var out bytes.Buffer
		(&washer{&out, true}).Write([]byte(text))
		if out.String() != text {
			t.Errorf("%q becomes %q", text, out.String())
		}
	}
	if n, err := (&washer{full{}, false}).Write([]byte("a\x1bb")); err == nil || n != 0 {
		t.Errorf("what could not be written counts as %d bytes", n)
	}
}

// full is a device without room.
type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no room") }

// TestEverythingIsWashed shows hostile text in every kind of line: none of it comes through.
func TestEverythingIsWashed(t *testing.T) {
	t.Parallel()
	for name, evil := range hostileTexts {
		var out bytes.Buffer
		text := For(&out)
		text.Line("line %s", evil)
		text.Title(evil)
		text.table(2, [][]string{{evil, evil, evil}, {"b", "c", "d"}})
		text.Faults(stack.Faults{{Text: evil, Remedy: evil, Line: evil,
			At: stack.Place{File: evil, Line: 3}}})
		text.Event(stack.Event{ID: stack.ServiceNode(evil), State: stack.Failed, Text: evil}, 4)
		text.LogLine(1, evil, evil, 4)
		text.Check(stack.Check{Ports: []stack.PortCheck{{Service: evil, Address: "127.0.0.1:1",
			Expected: "http",
			Title:    evil, Cause: evil, Remedy: evil, Owner: &stack.Owner{Command: evil}}},
			Services: []stack.ServiceCheck{{Name: evil, LeftOut: true}},
			SignIns:  []stack.SignIn{{User: evil, Password: evil}}})
		text.Remarks([]stack.Remark{{Text: evil, Remedy: evil, At: stack.Place{File: evil}}})
		o := &order.Order{Nodes: []order.Node{{ID: stack.ServiceNode(evil), Kind: "service",
			After: []order.Edge{{ID: stack.ServiceNode("b"),
				Reason: evil}}}, {ID: "service:b", Kind: "service"}}}
		text.Order(o)
		if got := out.String(); strings.IndexFunc(got, hostile) >= 0 {
			t.Errorf("%s comes through in %q", name, got)
		}
	}
}

// TestJSONIsWashed holds that hostile text in JSON is written by its numbers, and reads back as it
// was.
func TestJSONIsWashed(t *testing.T) {
	t.Parallel()
	for name, evil := range hostileTexts {
		var out bytes.Buffer
		if err := JSON(&out, map[string]string{"text": evil}); err != nil {
			t.Fatal(err)
		}
		var back map[string]string
		err := json.Unmarshal(out.Bytes(), &back)
		if err != nil || back["text"] != strings.ToValidUTF8(evil, "\ufffd") {
			t.Errorf("%s reads back as %q, %v", name, back["text"], err)
		}
		got := out.String()
		if strings.ContainsFunc(got,
			func(r rune) bool { return hostile(r) && r != utf8.RuneError }) {
			t.Errorf("%s comes through in %q", name, got)
		}
	}
	if err := JSON(full{}, "a\u202eb"); err == nil {
		t.Error("what could not be written is no error")
	}
}

func TestSink(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	s := &Sink{To: &out}
	if s.Write([]byte("a")); s.Err != nil || out.String() != "a" {
		t.Errorf("it holds %q, %v", out.String(), s.Err)
	}
	s = &Sink{To: full{}}
	s.Write([]byte("a"))
	s.To = &out
	if s.Write([]byte("b")); s.Err == nil {
		t.Error("what is written later hides that something was not")
	}
	if FileOf(s) != nil {
		t.Error("a buffer is taken for a file")
	}
}
