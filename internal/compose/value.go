// Package compose reads compose files as the open Compose Specification describes them: from a
// folder and an environment to one interpolated, merged, normalised model that knows the file and
// line of every value. It runs nothing and reads nothing outside the folder it is given.
package compose

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// Kind is what a Value is.
type Kind uint8

// The kinds of values in a YAML document.
const (
	Null Kind = iota
	String
	Bool
	Number
	Mapping
	Sequence
)

func (k Kind) String() string {
	return [...]string{"nothing", "a string", "true or false", "a number", "a mapping", "a list"}[k]
}

// Value is a node of a compose file: a scalar, a mapping in the order of the file, or a sequence.
type Value struct {
	Kind     Kind
	expanded bool   // a variable has contributed to it
	Text     string // a scalar's text
	Members  []Member
	Items    []*Value
	File     string
	Line     int // from 1
	Column   int // from 1

	rare *rare // nil for most
}

// rare is what few values have. It is not changed once it is there, but for the index, since copies
// share it.
type rare struct {
	index    map[string]int // of the members by key, in a large mapping that was asked; see Get
	tag      string         // "!reset" or "!override"
	variable string         // it is the value of this variable, and nothing else
	behind   string         // it is KEY= and the value of this variable, and nothing else
}

// tag is "!reset", "!override" or empty.
func (v *Value) tag() string {
	if v.rare == nil {
		return ""
	}
	return v.rare.tag
}

// variable names the variable whose value it is, and nothing else; empty for none.
func (v *Value) variable() string {
	if v.rare == nil {
		return ""
	}
	return v.rare.variable
}

// set changes what is rare of this value alone.
func (v *Value) set(change func(*rare)) {
	own := rare{}
	if v.rare != nil {
		own = *v.rare
	}
	change(&own)
	v.rare = &own
}

// withTag gives the value the tag of another.
func (v *Value) withTag(tag string) {
	if tag != v.tag() {
		v.set(func(r *rare) { r.tag = tag })
	}
}

// Member is one key of a mapping.
type Member struct {
	Key    string
	Line   int
	Column int
	Value  *Value
}

// At is where the value stands.
func (v *Value) At() stack.Place {
	if v == nil {
		return stack.Place{}
	}
	return stack.Place{File: v.File, Line: v.Line}
}

// manyMembers is from where on a mapping is searched through an index.
const manyMembers = 16

// find gives the place of a member, or -1.
func (v *Value) find(key string) int {
	if len(v.Members) < manyMembers {
		for i := range v.Members {
			if v.Members[i].Key == key {
				return i
			}
		}
		return -1
	}
	if v.rare == nil || v.rare.index == nil {
		index := make(map[string]int, len(v.Members))
		for i := range v.Members {
			index[v.Members[i].Key] = i
		}
		v.set(func(r *rare) { r.index = index })
	}
	if i, ok := v.rare.index[key]; ok {
		return i
	}
	return -1
}

// Get returns the member of that name, or nil; a nil value has none.
func (v *Value) Get(key string) *Value {
	if v == nil {
		return nil
	}
	if i := v.find(key); i >= 0 {
		return v.Members[i].Value
	}
	return nil
}

// Set replaces or appends a member.
func (v *Value) Set(key string, value *Value) {
	if i := v.find(key); i >= 0 {
		v.Members[i].Value = value
		return
	}
	v.add(Member{Key: key, Value: value, Line: value.Line, Column: value.Column})
}

// add appends a member whose key is new.
func (v *Value) add(m Member) {
	if v.rare != nil && v.rare.index != nil {
		v.rare.index[m.Key] = len(v.Members)
	}
	v.Members = append(v.Members, m)
}

// Remove drops a member.
func (v *Value) Remove(key string) {
	if i := v.find(key); i >= 0 {
		v.Members = append(v.Members[:i:i], v.Members[i+1:]...)
		v.forget()
	}
}

// forget drops the index, which is wrong once members have gone or are those of a copy.
func (v *Value) forget() {
	if v.rare != nil && v.rare.index != nil {
		v.set(func(r *rare) { r.index = nil })
	}
}

// shallow is a copy whose list of members is its own.
func (v *Value) shallow() *Value {
	c := *v
	c.Members = append([]Member(nil), v.Members...)
	c.forget()
	return &c
}

// Scalar reports whether the value is a string, a number or a boolean.
func (v *Value) Scalar() bool {
	return v != nil && (v.Kind == String || v.Kind == Bool || v.Kind == Number)
}

// like makes a value of another kind at v's place.
func (v *Value) like(kind Kind, text string) *Value {
	out := &Value{Kind: kind, Text: text, File: v.File, Line: v.Line, Column: v.Column,
		expanded: v.expanded}
	if variable := v.variable(); variable != "" {
		out.set(func(r *rare) { r.variable = variable })
	}
	return out
}

// copy makes a deep copy.
func (v *Value) copy() *Value {
	if v == nil {
		return nil
	}
	c := *v
	c.forget()
	if len(v.Members) > 0 {
		c.Members = make([]Member, len(v.Members))
	}
	for i, m := range v.Members {
		m.Value = m.Value.copy()
		c.Members[i] = m
	}
	if len(v.Items) > 0 {
		c.Items = make([]*Value, len(v.Items))
	}
	for i, item := range v.Items {
		c.Items[i] = item.copy()
	}
	return &c
}

// MarshalJSON writes the value with the keys in the file's order.
func (v *Value) MarshalJSON() ([]byte, error) {
	var out strings.Builder
	err := v.write(&out)
	return []byte(out.String()), err
}

func (v *Value) write(out *strings.Builder) error {
	if v == nil {
		out.WriteString("null")
		return nil
	}
	switch v.Kind {
	case Null:
		out.WriteString("null")
	case Bool:
		out.WriteString(v.Text)
	case Number:
		if i, err := strconv.ParseInt(v.Text, 0, 64); err == nil {
			out.WriteString(strconv.FormatInt(i, 10))
		} else if f, err := strconv.ParseFloat(v.Text, 64); err == nil {
			b, err := json.Marshal(f)
			if err != nil {
				return fmt.Errorf("%s:%d: %w", v.File, v.Line, err)
			}
			out.Write(b)
		} else {
			return v.writeString(out, v.Text)
		}
	case String:
		return v.writeString(out, v.Text)
	case Mapping:
		out.WriteByte('{')
		for i, m := range v.Members {
			if i > 0 {
				out.WriteByte(',')
			}
			if err := v.writeString(out, m.Key); err != nil {
				return err
			}
			out.WriteByte(':')
			if err := m.Value.write(out); err != nil {
				return err
			}
		}
		out.WriteByte('}')
	case Sequence:
		out.WriteByte('[')
		for i, item := range v.Items {
			if i > 0 {
				out.WriteByte(',')
			}
			if err := item.write(out); err != nil {
				return err
			}
		}
		out.WriteByte(']')
	}
	return nil
}

func (v *Value) writeString(out *strings.Builder, s string) error {
	if !strings.ContainsFunc(s, func(r rune) bool {
		return r < ' ' || r >= 0x7f || r == '"' || r == '\\'
	}) {
		out.WriteByte('"')
		out.WriteString(s)
		out.WriteByte('"')
		return nil
	}
	e := json.NewEncoder(withoutEnd{out})
	e.SetEscapeHTML(false) // so that && is read as it stands
	return e.Encode(s)
}

// withoutEnd leaves out the line's end that an encoder writes behind a value.
type withoutEnd struct{ out *strings.Builder }

func (w withoutEnd) Write(p []byte) (int, error) {
	w.out.Write(bytes.TrimSuffix(p, []byte("\n")))
	return len(p), nil
}

// Masked is a copy of a model in which no secret can be read: neither the value of a key that names
// one, nor that value elsewhere, nor any of the given values, nor the password in an address.
func (v *Value) Masked(secrets []string) *Value {
	found := append(v.secrets("", nil), secrets...)
	for _, m := range v.Get("secrets").orEmpty().Members {
		if content := m.Value.Get("content").or(""); content != "" {
			found = append(found, content)
		}
	}
	// A longer one first, since a shorter may be a part of it.
	slices.SortFunc(found, func(a, b string) int { return len(b) - len(a) })
	var pairs []string
	for _, s := range found {
		pairs = append(pairs, s, "***")
	}
	out := v.copy()
	out.mask("", strings.NewReplacer(pairs...))
	return out
}

// secrets collects the values of keys that name a secret, but for short ones, which would hide
// ordinary words.
func (v *Value) secrets(key string, found []string) []string {
	if v == nil {
		return found
	}
	if v.Scalar() && len(v.Text) >= 6 && values.IsSecret(key, "") {
		found = append(found, v.Text)
	}
	for i := range v.Members {
		found = v.Members[i].Value.secrets(v.Members[i].Key, found)
	}
	for _, item := range v.Items {
		found = item.secrets("", found)
	}
	return found
}

func (v *Value) mask(key string, replace *strings.Replacer) {
	if v == nil {
		return
	}
	if v.Kind == String && v.Text != "" {
		v.Text = values.Hide(replace.Replace(v.Text))
		if values.IsSecret(key, "") {
			v.Text = "***"
		}
	}
	for i := range v.Members {
		v.Members[i].Value.mask(v.Members[i].Key, replace)
	}
	for _, item := range v.Items {
		item.mask("", replace)
	}
}
