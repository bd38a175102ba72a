package launch

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/workspace"
)

// Logs is the folder of a workspace that holds what steps and services have said: a file for each, a
// line "TIME TEXT" for each line. Secrets of the stack are masked.
type Logs struct {
	dir  string
	mask *strings.Replacer
}

// logTime is the form of a line's time: fixed in width, in UTC.
const logTime = "2006-01-02T15:04:05.000000Z"

// NewLogs begins the logs of a launch: those of the one before are kept beside, with the ending .1.
func NewLogs(root string, secrets []string) (*Logs, error) {
	dir, err := workspace.MakeStateDir(root, "logs")
	if err != nil {
		return nil, err
	}
	old, err := filepath.Glob(filepath.Join(dir, "*.log"))
	if err != nil {
		return nil, err
	}
	for _, name := range old {
		if err := os.Rename(name, name+".1"); err != nil {
			return nil, err
		}
	}
	var pairs []string
	for _, s := range secrets {
		pairs = append(pairs, s, "***")
	}
	return &Logs{dir: dir, mask: strings.NewReplacer(pairs...)}, nil
}

// logName is the file's name for a node: services under their own, steps as ROLE.PROJECT.
func logName(id string) string {
	if s, ok := strings.CutPrefix(id, "service:"); ok {
		return s + ".log"
	}
	name := strings.NewReplacer("step:", "", ":", ".", "/", "-").Replace(id)
	return "step." + strings.TrimRight(name, ".") + ".log"
}

// Open begins a node's log.
func (l *Logs) Open(id string) (*Log, error) {
	f, err := os.OpenFile(filepath.Join(l.dir, logName(id)), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("its log can't be written: %w", err)
	}
	return &Log{file: f, mask: l.mask}, nil
}

// Log is one node's log.
type Log struct {
	mask *strings.Replacer

	mu   sync.Mutex
	file *os.File
	last string
}

// Line writes one line.
func (l *Log) Line(text string) {
	text = l.mask.Replace(text)
	l.mu.Lock()
	defer l.mu.Unlock()
	if strings.TrimSpace(text) != "" {
		l.last = text
	}
	// A full disk must not stop the service: its line is lost.
	fmt.Fprintf(l.file, "%s %s\n", time.Now().UTC().Format(logTime), text)
}

// Last is the last line that was not empty, shortened to be part of a sentence.
func (l *Log) Last() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if r := []rune(strings.TrimSpace(l.last)); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return strings.TrimSpace(l.last)
}

// Close closes the file; lines that come later are lost.
func (l *Log) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.file.Close()
}

// LogLine is one line of a log.
type LogLine struct {
	Time   time.Time
	Source string // the service, or step.ROLE.PROJECT
	Text   string
}

// LogReader reads a workspace's logs, and goes on from where it has come to when it is asked again.
type LogReader struct {
	dir     string
	wanted  []string
	offsets map[string]int64
}

// NewLogReader reads the logs of the services named, or of all.
func NewLogReader(root string, services []string) *LogReader {
	return &LogReader{dir: filepath.Join(root, workspace.StateDir, "logs"), wanted: services, offsets: map[string]int64{}}
}

// Next gives all complete lines that have come since the last call, each file's in its order.
func (r *LogReader) Next() ([]LogLine, error) {
	names, err := filepath.Glob(filepath.Join(r.dir, "*.log"))
	if err != nil {
		return nil, err
	}
	var out []LogLine
	for _, name := range names {
		source := strings.TrimSuffix(filepath.Base(name), ".log")
		if len(r.wanted) > 0 && !slices.Contains(r.wanted, source) {
			continue
		}
		lines, err := r.file(name, source)
		if err != nil && !os.IsNotExist(err) {
			return nil, err
		}
		out = append(out, lines...)
	}
	return out, nil
}

func (r *LogReader) file(name, source string) ([]LogLine, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	offset := r.offsets[name]
	if info, err := f.Stat(); err == nil && info.Size() < offset {
		offset = 0 // a new launch has begun the file anew
	}
	if _, err := f.Seek(offset, 0); err != nil {
		return nil, err
	}
	var out []LogLine
	for b := bufio.NewReader(f); ; {
		line, err := b.ReadString('\n')
		if err != nil { // what has no end yet is read next time
			r.offsets[name] = offset
			return out, nil
		}
		offset += int64(len(line))
		stamp, text, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		at, err := time.Parse(logTime, stamp)
		if err != nil {
			continue
		}
		out = append(out, LogLine{Time: at, Source: source, Text: text})
	}
}

// Sources lists whose logs there are, of those wanted.
func (r *LogReader) Sources() []string {
	names, _ := filepath.Glob(filepath.Join(r.dir, "*.log"))
	var out []string
	for _, name := range names {
		if source := strings.TrimSuffix(filepath.Base(name), ".log"); len(r.wanted) == 0 || slices.Contains(r.wanted, source) {
			out = append(out, source)
		}
	}
	return out
}
