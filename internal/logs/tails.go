package logs

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Tails keeps the last line of each log of a workspace, however long the logs are and however fast
// they grow.
type Tails struct {
	dir   string
	sizes map[string]int64
	last  map[string]string
}

// NewTails begins to look at the logs of a workspace.
func NewTails(root string) *Tails {
	return &Tails{dir: filepath.Join(workspace.State(root), "logs"), sizes: map[string]int64{},
		last: map[string]string{}}
}

// tail is how much of the end of a log is looked at, in bytes.
const tail = 4 << 10

// Look gives the last line of each log that has one, by its source. The map is the same each time.
func (t *Tails) Look() map[string]string {
	names, err := filepath.Glob(filepath.Join(t.dir, "*.log"))
	if err != nil {
		return t.last
	}
	for _, name := range names {
		info, err := os.Stat(name)
		if err != nil || info.Size() == t.sizes[name] {
			continue
		}
		t.sizes[name] = info.Size()
		if text, ok := lastLine(name, info.Size()); ok {
			t.last[strings.TrimSuffix(filepath.Base(name), ".log")] = text
		}
	}
	return t.last
}

// lastLine is the text of the last whole line of a log that is not empty; false if the end of the
// log has none.
func lastLine(name string, size int64) (string, bool) {
	f, err := reading.OpenOwn(name)
	if err != nil {
		return "", false
	}
	defer f.Close()
	buf := make([]byte, min(size, tail))
	n, err := f.ReadAt(buf, size-int64(len(buf)))
	if n == 0 {
		return "", false
	}
	end := bytes.LastIndexByte(buf[:n], '\n')
	for end > 0 {
		begin := bytes.LastIndexByte(buf[:end], '\n')
		if begin < 0 && size > int64(len(buf)) {
			return "", false // it has begun before
		}
		stamp, text, found := strings.Cut(string(buf[begin+1:end]), " ")
		if _, err := time.Parse(logTime, stamp); found && err == nil &&
			strings.TrimSpace(text) != "" {
			return colour.ReplaceAllString(text, ""), true
		}
		end = begin
	}
	return "", false
}

// page is how much of the end of a log LastLines looks at, in bytes.
const page = 512 << 10

// LastLines gives the last lines of a source's log, at most so many, of those in which the text
// stands, whatever its case; all where it is empty.
func LastLines(root, source, text string, most int) []Line {
	name := filepath.Join(workspace.State(root), "logs", filepath.Base(source)+".log")
	f, err := reading.OpenOwn(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil
	}
	buf := make([]byte, min(info.Size(), page))
	n, _ := f.ReadAt(buf, info.Size()-int64(len(buf)))
	var out []Line
	text = strings.ToLower(text)
	for rest := buf[:n]; len(rest) > 0 && len(out) < most; {
		end := bytes.LastIndexByte(rest, '\n')
		if end < 0 {
			break
		}
		begin := bytes.LastIndexByte(rest[:end], '\n')
		stamp, said, found := strings.Cut(string(rest[begin+1:end]), " ")
		if at, err := time.Parse(logTime, stamp); found && err == nil &&
			(text == "" || strings.Contains(strings.ToLower(said), text)) {
			out = append(out, Line{Time: at, Source: source,
				Text: colour.ReplaceAllString(said, "")})
		}
		if begin < 0 {
			break
		}
		rest = rest[:begin+1]
	}
	slices.Reverse(out)
	return out
}

// LastWords are the last line of each node's log.
type LastWords struct {
	tails  *Tails
	source map[stack.NodeID]string
}

// NewLastWords begins to look at the logs of an order's nodes.
func NewLastWords(root string, o *order.Order) *LastWords {
	w := &LastWords{tails: NewTails(root), source: map[stack.NodeID]string{}}
	for _, n := range o.Nodes {
		w.source[n.ID] = Source(n.ID)
	}
	return w
}

// Of is a node's; empty if it has said nothing.
func (w *LastWords) Of(id stack.NodeID) string { return w.tails.Look()[w.source[id]] }

// All are those of all nodes that have said something.
func (w *LastWords) All() map[stack.NodeID]string {
	last, out := w.tails.Look(), map[stack.NodeID]string{}
	for id, source := range w.source {
		if text, ok := last[source]; ok {
			out[id] = text
		}
	}
	return out
}
