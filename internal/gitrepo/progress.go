package gitrepo

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"nimbleharbor/internal/expr"
)

// Progress is how far a clone is in one of its phases.
type Progress struct {
	Phase   string
	Percent int
	Bytes   int64         // that have arrived; zero where that doesn't matter
	Total   int64         // bytes in all, roughly; zero where that isn't known yet
	Rate    int64         // bytes a second
	Left    time.Duration // of the phase, roughly; zero where that isn't known yet
}

// String is the progress in words.
func (p Progress) String() string {
	out := fmt.Sprintf("%s %d %%", p.Phase, p.Percent)
	if p.Bytes > 0 {
		out += fmt.Sprintf(", %.1f MB", float64(p.Bytes)/1e6)
	}
	if p.Rate > 0 {
		out += fmt.Sprintf(", %.1f MB/s", float64(p.Rate)/1e6)
	}
	if p.Left >= time.Second {
		out += ", about " + p.Left.Round(time.Second).String() + " to go"
	}
	return out
}

var progressLine = expr.New(`^(?:remote: )?([A-Z][a-z]+ [a-z]+): +(\d+)% \(\d+/\d+\)` +
	`(?:, ([\d.]+) ([KMG]?i?[Bb](?:ytes)?))?(?: \| ([\d.]+) ([KMG]?i?[Bb](?:ytes)?)/s)?`)

// phases are git's words for what it does, and ours.
var phases = map[string]string{"Enumerating objects": "prepared there",
	"Counting objects":    "prepared there",
	"Compressing objects": "prepared there", "Receiving objects": "fetched", "Resolving " +
		"deltas": "put together",
	"Updating files": "checked out", "Filtering content": "large files"}

// follower makes progress of the lines in which git tells its own.
type follower struct {
	phase string
	since time.Time
}

// read makes sense of a line; ok is false for one of another kind.
func (f *follower) read(line string, now time.Time) (p Progress, ok bool) {
	m := progressLine.FindStringSubmatch(line)
	if m == nil || phases[m[1]] == "" {
		return p, false
	}
	if f.phase != m[1] {
		f.phase, f.since = m[1], now
	}
	p.Phase = phases[m[1]]
	p.Percent, _ = strconv.Atoi(m[2])
	p.Bytes, p.Rate = size(m[3], m[4]), size(m[5], m[6])
	if p.Percent > 0 {
		p.Total = p.Bytes * 100 / int64(p.Percent)
	}
	if gone := now.Sub(f.since); p.Percent >= 3 && gone > 2*time.Second {
		p.Left = gone * time.Duration(100-p.Percent) / time.Duration(p.Percent)
	}
	return p, true
}

func size(number, unit string) int64 {
	n, err := strconv.ParseFloat(number, 64)
	if err != nil {
		return 0
	}
	for begins, times := range map[string]float64{"K": 1 << 10, "M": 1 << 20, "G": 1 << 30} {
		if strings.HasPrefix(unit, begins) {
			n *= times
		}
	}
	return int64(n)
}

// stalled says that a server has sent nothing for so long.
type stalled struct{ after time.Duration }

func (s *stalled) Error() string { return fmt.Sprintf("has sent nothing for %s", s.after) }

// watch ends a run of git as soon as it has neither said anything nor grown on the disk for as long
// as patience lasts.
type watch struct {
	patience time.Duration
	grows    string       // the folder of a repository; empty for none
	sign     atomic.Int64 // of life: when there was one last, in nanoseconds
	begun    atomic.Bool  // the server has said something
	mayAsk   bool         // before that, a person may be asked for a password
}

func (w *watch) alive() { w.sign.Store(time.Now().UnixNano()) }

// over waits until patience is at its end; it is false if ctx ends before.
func (w *watch) over(ctx context.Context) bool {
	tick := time.NewTicker(max(w.patience/20, time.Millisecond))
	defer tick.Stop()
	before := int64(-1)
	for {
		select {
		case <-ctx.Done():
			return false
		case <-tick.C:
		}
		if now := w.onDisk(); now != before || w.mayAsk && !w.begun.Load() {
			before = now
			w.alive()
		}
		if time.Since(time.Unix(0, w.sign.Load())) > w.patience {
			return true
		}
	}
}

// onDisk is how much has arrived so far, in bytes.
func (w *watch) onDisk() (sum int64) {
	if w.grows == "" {
		return 0
	}
	for _, dir := range []string{"pack", ""} {
		entries, err := os.ReadDir(filepath.Join(w.grows, ".git", "objects", dir))
		if err != nil {
			continue
		}
		for _, e := range entries {
			if info, err := e.Info(); err == nil && !e.IsDir() {
				sum += info.Size()
			}
		}
	}
	return sum
}
