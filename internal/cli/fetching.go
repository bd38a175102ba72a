package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"time"

	"golang.org/x/term"

	"nimbleharbor/internal/gitrepo"
	"nimbleharbor/internal/view"
)

// fetching shows how far several repositories are that are fetched at the same time: on a terminal
// in one line that changes, elsewhere in a line each every calm, and nothing beside an answer in
// JSON.
type fetching struct {
	out   io.Writer
	width int // of the terminal; zero elsewhere
	quiet bool
	calm  time.Duration
	begun time.Time

	mu     sync.Mutex
	names  []string // in the order in which they have first been heard of
	now    map[string]gitrepo.Progress
	told   map[string]time.Time
	hinted map[string]bool
}

// large is the size of a repository from which on it is worth a word how less can be fetched, in
// bytes.
const large = 300 << 20

func (a *app) fetching() *fetching {
	f := &fetching{out: a.err, quiet: a.json, calm: 10 * time.Second, begun: time.Now(),
		now: map[string]gitrepo.Progress{}, told: map[string]time.Time{}, hinted: map[string]bool{}}
	if file, ok := a.err.(*os.File); ok && term.IsTerminal(int(file.Fd())) {
		if f.width, _, _ = term.GetSize(int(file.Fd())); f.width <= 0 {
			f.width = 80
		}
	}
	return f
}

// of gives what one repository's progress is told to.
func (f *fetching) of(name string, slim bool) func(gitrepo.Progress) {
	return func(p gitrepo.Progress) {
		f.mu.Lock()
		defer f.mu.Unlock()
		if f.quiet {
			return
		}
		if _, known := f.now[name]; !known {
			f.names = append(f.names, name)
			f.told[name] = f.begun
		}
		f.now[name] = p
		if p.Total > large && p.Percent >= 2 && p.Percent < 90 && !slim && !f.hinted[name] {
			f.hinted[name] = true
			f.line(fmt.Sprintf("%s is large, about %.1f GB. With --slim, what is not checked "+
				"out stays there until it is asked for.", name, float64(p.Total)/1e9))
		}
		if f.width == 0 {
			if now := time.Now(); now.Sub(f.told[name]) >= f.calm {
				f.told[name] = now
				f.line(name + "  " + p.String())
			}
			return
		}
		var all []string
		for _, n := range f.names {
			all = append(all, n+" "+f.now[n].String())
		}
		f.changing(strings.Join(all, "; "))
	}
}

// line shows one that stays.
func (f *fetching) line(text string) {
	if f.width > 0 {
		f.changing("")
	}
	fmt.Fprintf(f.out, "%7.1fs  %s\n", time.Since(f.begun).Seconds(), view.Clean(text))
}

// changing shows one that the next one replaces.
func (f *fetching) changing(text string) {
	if r := []rune(text); len(r) >= f.width {
		text = string(r[:f.width-1])
	}
	fmt.Fprintf(f.out, "\r\x1b[K%s", view.Clean(text))
}

// done takes the changing line away.
func (f *fetching) done() {
	if f.width > 0 && !f.quiet && len(f.names) > 0 {
		f.changing("")
	}
}
