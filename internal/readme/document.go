// Package readme reads instructions that people have written for people, in any markup: Markdown
// (as CommonMark says, and with tables), reStructuredText, AsciiDoc, and plain text. One pass gives
// what such a text holds: its sections, the commands in its blocks, entries and sentences with the
// folder that each is meant for, the addresses on this machine that it names, and the users that it
// names with their passwords.
//
// It has no opinion: a command under the head "Deployment" is one like any other, and whether
// somebody serves an address is not asked. What is concluded of it is survey's.
package readme

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/signin"
)

// MaxSize is how big a file may be that is taken for instructions, in bytes.
const MaxSize = 1 << 20

// Document is what instructions hold. Lines count from 1.
type Document struct {
	File     string
	Lines    []string // as they stand, without what ends them
	Sections []Section
	Commands []Command
	// Addresses are those on this machine, in their order.
	Addresses []Address

	hosting bool // see SetsServerUp
}

// Section is the text from one head to the next, whatever the level of either. Each document begins
// with one without a head.
type Section struct {
	Head     string // as it stands
	From, To int    // its head's line, and the one behind its last
}

// Read reads the text of a file, by its name. Own are the names of programs that the checkout
// brings: they begin commands beside those that everybody knows.
func Read(file string, data []byte, own ...string) *Document {
	d := &Document{File: file}
	d.Lines = strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	d.Sections = []Section{{From: 1, To: len(d.Lines) + 1}}
	r := &reader{Document: d, dir: SpokenOf(file), own: own}
	if read := markups[strings.ToLower(path.Ext(file))]; read != nil {
		read(r, data)
	}
	r.forgetNames()
	d.addresses()
	hosts := 0
	for _, c := range d.Commands {
		if hostsIt.MatchString(c.Text) {
			hosts++
		}
	}
	d.hosting = hosts > 2 && !IsReadme(file)
	return d
}

// SetsServerUp reports whether the document, as a whole, is about a server somewhere on which the
// application is to run for everybody: it makes users, enables services of the system, opens the
// firewall. A README has such sections, and is more.
func (d *Document) SetsServerUp() bool { return d.hosting }

var hostsIt = expr.New(`^(sudo )?(adduser|useradd|systemctl|journalctl|ufw|certbot|ssh root@\S+|` +
	`service \S+ (re)?start)\b`)

// guessed reads a text of which the name doesn't tell the markup: as plain text or, where that has
// no command, Markdown.
func (r *reader) guessed(data []byte) {
	if r.plain(data); len(r.Commands) == 0 {
		r.Sections = []Section{{From: 1, To: len(r.Lines) + 1}}
		r.markdown(data)
	}
}

// forgetNames leaves out what a sentence or a head only names, where the command itself stands
// somewhere with more words.
func (r *reader) forgetNames() {
	r.Commands = slices.DeleteFunc(r.Commands, func(c Command) bool {
		return c.Mentioned && slices.ContainsFunc(r.Commands, func(o Command) bool {
			return !o.Mentioned && strings.HasPrefix(o.Text, c.Text+" ")
		})
	})
}

// section begins a section at a line.
func (d *Document) section(head string, line int) {
	last := &d.Sections[len(d.Sections)-1]
	if line < last.From || line == last.From && len(d.Sections) > 1 {
		return // of two ways to see the same head
	}
	last.To = line
	d.Sections = append(d.Sections, Section{Head: strings.TrimSpace(head), From: line,
		To: len(d.Lines) + 1})
}

// At is the section of a line.
func (d *Document) At(line int) Section {
	for _, s := range slices.Backward(d.Sections) {
		if line >= s.From {
			return s
		}
	}
	return Section{To: len(d.Lines) + 1}
}

// Line is the text of a line; empty where there is none.
func (d *Document) Line(number int) string {
	if number < 1 || number > len(d.Lines) {
		return ""
	}
	return d.Lines[number-1]
}

// SignIns are the users that the text names together with a password.
func (d *Document) SignIns() []signin.Found {
	heads := map[int]bool{}
	for _, s := range d.Sections[1:] {
		heads[s.From] = true
	}
	return signin.InProse(d.Lines, heads)
}

// markups are how a text is read, by the ending of its file's name; all others are none of
// instructions.
var markups = map[string]func(r *reader, data []byte){
	".md": (*reader).markdown, ".markdown": (*reader).markdown, ".mdown": (*reader).markdown,
	".rst": (*reader).restructured, ".txt": (*reader).plain, ".rdoc": (*reader).plain,
	".adoc": (*reader).asciidoc, ".asciidoc": (*reader).asciidoc, ".asc": (*reader).asciidoc,
	"": (*reader).guessed,
}

var named = expr.New(`(?i)^(readme|getting[-_]?started|install(ation)?|setup|development|contributing|hacking)$`)

// IsInstructions reports whether a file is one, by its name. It is quick where the ending tells
// that it is none.
func IsInstructions(name string) bool {
	ext := path.Ext(name)
	return markups[strings.ToLower(ext)] != nil && named.MatchString(strings.TrimSuffix(name, ext))
}

// IsReadme reports whether a file is the README of its folder, and not one of other instructions.
func IsReadme(file string) bool {
	return strings.HasPrefix(strings.ToLower(path.Base(file)), "readme")
}

// Documents are the names of folders in which instructions lie.
var Documents = expr.New(`(?i)^docs?$|^documentation$`)

// SpokenOf is the folder that instructions speak of: a README of its own, other documents of the
// one that holds the folder of documents in which they lie.
func SpokenOf(file string) string {
	dir := path.Dir(file)
	if IsReadme(file) {
		return dir
	}
	parts := strings.Split(dir, "/")
	if at := slices.IndexFunc(parts, Documents.MatchString); at >= 0 {
		return path.Join(append([]string{"."}, parts[:at]...)...)
	}
	return dir
}
