package view

import (
	"io"
	"os"
	"strings"
	"unicode/utf8"

	"nimbleharbor/internal/value"
)

// Whatever comes from a checkout, a container, a server or a log may hold what a terminal takes for
// a command, or what makes a person read something else than stands there. This is the one place
// where it is taken out: all text passes a washer on its way, and every JSON and drawing is washed
// as a whole.

// hostile reports whether a character could move the cursor, call a terminal's command, turn the
// direction of the text around or stand there unseen: control characters but for the ends of lines
// and tabs, the marks and overrides of bidirectional text (UAX #9), joiners and spaces without
// width, tags (U+E0000).
func hostile(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case r < ' ', r >= 0x7f && r < 0xa0:
		return true
	case r < 0x600:
		return r == 0xad
	}
	switch {
	case r == 0x61c, r == 0x180e, r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e,
		r >= 0x2060 && r <= 0x206f, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 &&
			r <= 0xe007f,
		r == utf8.RuneError:
		return true
	}
	return false
}

// replaced stands for each hostile character, so that it is seen that there was one.
const replaced = '·'

// clean makes text from files and programs safe to print, without secrets.
func Clean(s string) string { return safe(value.Hide(s)) }

// safe makes text from files and programs safe to print.
func safe(s string) string {
	return strings.Map(func(r rune) rune {
		if hostile(r) || r == '\n' {
			return replaced
		}
		return r
	}, s)
}

// washed is a text of several lines without hostile characters.
func Washed(s string) string {
	s = value.Hide(s)
	return strings.Map(func(r rune) rune {
		if hostile(r) {
			return replaced
		}
		return r
	}, s)
}

// washer lets nothing hostile through but our own colours, where there are any.
type washer struct {
	to     io.Writer
	colour bool
}

// painted are the sequences by which paint colours a word.
var painted = []string{"\x1b[0m", "\x1b[1m", "\x1b[2m", "\x1b[31m", "\x1b[32m"}

func (w *washer) Write(p []byte) (int, error) {
	if plainBytes(p) {
		return w.to.Write(p)
	}
	text := string(p)
	var out strings.Builder
next:
	for len(text) > 0 {
		if text[0] == 0x1b && w.colour {
			for _, c := range painted {
				if strings.HasPrefix(text, c) {
					out.WriteString(c)
					text = text[len(c):]
					continue next
				}
			}
		}
		r, n := utf8.DecodeRuneInString(text)
		if hostile(r) {
			r = replaced
		}
		out.WriteRune(r)
		text = text[n:]
	}
	if _, err := io.WriteString(w.to, out.String()); err != nil {
		return 0, err
	}
	return len(p), nil
}

func plainBytes(p []byte) bool {
	for _, b := range p {
		if b < ' ' && b != '\n' && b != '\t' || b >= 0x7f {
			return false
		}
	}
	return true
}

// Sink is an output that remembers whether all of it could be written.
type Sink struct {
	To  io.Writer
	Err error // of the first write that failed
}

func (s *Sink) Write(p []byte) (int, error) {
	n, err := s.To.Write(p)
	if err != nil && s.Err == nil {
		s.Err = err
	}
	return n, err
}

// file is the file behind an output; nil for none.
func FileOf(w io.Writer) *os.File {
	switch w := w.(type) {
	case *os.File:
		return w
	case *Sink:
		return FileOf(w.To)
	}
	return nil
}

// escaped writes JSON in which hostile characters, which stand in texts alone, are written by their
// numbers.
type escaped struct{ to io.Writer }

func (e escaped) Write(p []byte) (int, error) {
	if plainBytes(p) {
		return e.to.Write(p)
	}
	var out []byte
	for rest := p; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		if hostile(r) && r != utf8.RuneError {
			out = appendEscape(out, r)
		} else {
			out = append(out, rest[:n]...)
		}
		rest = rest[n:]
	}
	if _, err := e.to.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

func appendEscape(out []byte, r rune) []byte {
	const hex = "0123456789abcdef"
	unit := func(u uint16) {
		out = append(out, '\\', 'u', hex[u>>12], hex[u>>8&15], hex[u>>4&15], hex[u&15])
	}
	if r > 0xffff {
		r -= 0x10000
		unit(uint16(0xd800 + r>>10))
		unit(uint16(0xdc00 + r&0x3ff))
		return out
	}
	unit(uint16(r))
	return out
}
