package board

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"golang.org/x/term"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/picture"
)

// Live is a timeline that is drawn again and again at the end of what a terminal shows. Several
// goroutines may use it. A terminal that has gone is written to in vain.
type Live struct {
	out  *os.File
	text *view.Text

	mu    sync.Mutex
	drawn int // lines of the picture that stand there
}

// NewLive makes one on a terminal; nil where there is none that can move its cursor.
func NewLive(out io.Writer) *Live {
	f := view.FileOf(out)
	if f == nil || !term.IsTerminal(int(f.Fd())) || os.Getenv("TERM") == "dumb" ||
		os.Getenv("TERM") == "" {
		return nil
	}
	return &Live{out: f, text: view.For(f)}
}

// size is that of the terminal now.
func (l *Live) size() (columns, lines int) {
	columns, lines, err := term.GetSize(int(l.out.Fd()))
	if err != nil || columns <= 0 || lines <= 0 {
		return 80, 24
	}
	return columns, lines
}

// Draw puts a timeline into the place of the one before; now are the seconds since the launch.
func (l *Live) Draw(t *timeline.Timeline, now float64, said map[stack.NodeID]string) {
	columns, lines := l.size()
	p := picture.Picture{Now: now, Width: columns - 1, Plain: view.PlainSigns(),
		Colour: l.text.Colour, Said: said}
	picture := p.Lines(t)
	if len(picture) > lines-2 {
		p.Most = max(lines-4, 1)
		picture = p.Lines(t)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	var out strings.Builder
	out.WriteString("\x1b[?2026h") // all at once, where the terminal knows it
	l.back(&out)
	for _, line := range picture {
		out.WriteString(line + "\x1b[K\r\n")
	}
	out.WriteString("\x1b[J\x1b[?2026l")
	l.drawn = len(picture)
	fmt.Fprint(l.out, out.String())
}

// back goes to where the picture begins.
func (l *Live) back(out *strings.Builder) {
	if l.drawn > 0 {
		fmt.Fprintf(out, "\x1b[%dA\r", l.drawn)
	}
}

// Above takes the picture away while f writes; what it writes stays, and the next picture comes
// below it.
func (l *Live) Above(f func(t *view.Text)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out strings.Builder
	l.back(&out)
	out.WriteString("\x1b[J")
	fmt.Fprint(l.out, out.String())
	l.drawn = 0
	f(l.text)
}
