package engine

import (
	"encoding/base64"
	"encoding/json"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"
)

// traceID marks the messages in which the newer builder tells how far it is: a StatusResponse of
// the open protocol moby.buildkit.v1 in base64.
const traceID = "moby.buildkit.trace"

// tracer makes lines of what the newer builder tells: each step by its name when it begins, and
// what it writes.
type tracer struct {
	say   func(string)
	names map[string]string // of the steps, by digest; empty for one that was told
	rest  []byte            // of a line that has no end yet
}

// read takes one message. What it doesn't know of it, it skips.
func (t *tracer) read(aux json.RawMessage) {
	var text string
	if t.say == nil || json.Unmarshal(aux, &text) != nil {
		return
	}
	data, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return
	}
	fields(data, func(number protowire.Number, value []byte) {
		switch number {
		case 1:
			t.vertex(value)
		case 3:
			t.log(value)
		}
	})
}

// vertex is a step: digest = 1, name = 3, cached = 4, started = 5, error = 7.
func (t *tracer) vertex(data []byte) {
	var digest, name string
	begun := false
	fields(data, func(number protowire.Number, value []byte) {
		switch number {
		case 1:
			digest = string(value)
		case 3:
			name = string(value)
		case 5:
			begun = true
		}
	})
	if _, told := t.names[digest]; begun && !told && name != "" &&
		!strings.HasPrefix(name, "[internal]") {
		t.names[digest] = name
		t.say(name)
	}
}

// log is what a step writes: msg = 4.
func (t *tracer) log(data []byte) {
	fields(data, func(number protowire.Number, value []byte) {
		if number != 4 {
			return
		}
		lines := &Lines{Line: t.say, rest: t.rest}
		lines.Write(value)
		t.rest = lines.rest
	})
}

// fields walks the fields of a message that have a length: texts, bytes and messages.
func fields(data []byte, each func(number protowire.Number, value []byte)) {
	for len(data) > 0 {
		number, kind, n := protowire.ConsumeTag(data)
		if n < 0 {
			return
		}
		data = data[n:]
		if kind == protowire.BytesType {
			value, n := protowire.ConsumeBytes(data)
			if n < 0 {
				return
			}
			each(number, value)
			data = data[n:]
			continue
		}
		if n = protowire.ConsumeFieldValue(number, kind, data); n < 0 {
			return
		}
		data = data[n:]
	}
}
