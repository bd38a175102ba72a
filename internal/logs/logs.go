// Package logs writes and reads what steps and services have said.
package logs

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Folder is the folder of a workspace that holds what steps and services have said: a file for
// each, a
// line "TIME TEXT" for each line. Secrets of the stack are masked. A file that has grown to its limit goes on in a
// new one; the one before is kept with the ending .0, those of the launch before with .1.
type Folder struct {
	dir     string
	secrets *secrets
	limit   int64 // of one file, in bytes
}

// secrets are the values that no log may show. There may come more while logs are written.
type secrets struct {
	mu   sync.RWMutex
	list [][]byte
}

// Hide adds values that the logs may not show from now on.
func (l *Folder) Hide(values []string) {
	l.secrets.mu.Lock()
	defer l.secrets.mu.Unlock()
	for _, v := range values {
		if v != "" && !slices.ContainsFunc(l.secrets.list,
			func(s []byte) bool { return string(s) == v }) {
			l.secrets.list = append(l.secrets.list, []byte(v))
		}
	}
	// a shorter one may be a part of a longer
	slices.SortStableFunc(l.secrets.list, func(a, b []byte) int { return len(b) - len(a) })
}

func (s *secrets) mask(lines []byte) []byte {
	s.mu.RLock()
	defer s.mu.RUnlock()
	for _, secret := range s.list {
		if bytes.Contains(lines, secret) {
			lines = bytes.ReplaceAll(lines, secret, []byte("***"))
		}
	}
	return lines
}

// logLimit is how large a log grows until it is begun anew: with the one before it twice as much is
// kept.
const logLimit = 16 << 20

// logTime is the form of a line's time: fixed in width, in UTC.
const logTime = "2006-01-02T15:04:05.000000Z"

// Begin begins the logs of a launch: those of the one before are kept beside, with the ending .1.
func Begin(root string, hidden []string) (*Folder, error) {
	dir, err := workspace.MakeStateDir(root, "logs")
	if err != nil {
		return nil, err
	}
	old, err := filepath.Glob(filepath.Join(dir, "*.log"))
	if err != nil {
		return nil, err
	}
	for _, name := range old {
		os.Remove(name + ".0")
		if err := os.Rename(name, name+".1"); err != nil {
			return nil, err
		}
	}
	l := &Folder{dir: dir, limit: logLimit, secrets: &secrets{}}
	l.Hide(hidden)
	return l, nil
}

// Beside goes on with the logs of a launch, for what is run beside it.
func Beside(root string, hidden []string) (*Folder, error) {
	dir, err := workspace.MakeStateDir(root, "logs")
	if err != nil {
		return nil, err
	}
	l := &Folder{dir: dir, limit: logLimit, secrets: &secrets{}}
	l.Hide(hidden)
	return l, nil
}

// logName is the file's name for a node: services under their own, steps as ROLE.PROJECT.
func logName(id stack.NodeID) string {
	if s, ok := id.Service(); ok {
		return s + ".log"
	}
	step, _ := id.Step()
	name := strings.NewReplacer(":", ".", "/", "-").Replace(step)
	return "step." + strings.TrimRight(name, ".") + ".log"
}

// Source is under which name a node's lines come.
func Source(id stack.NodeID) string { return strings.TrimSuffix(logName(id), ".log") }

// All reads a source's log of the last launch from its beginning, without the times; fs.ErrNotExist
// if there is none.
func All(root, source string) (io.ReadCloser, error) {
	name := filepath.Join(workspace.State(root), "logs", filepath.Base(source)+".log")
	f, err := openEnd(name)
	if err != nil {
		return nil, err
	}
	files := []*os.File{f}
	if older, err := openEnd(name + ".0"); err == nil {
		files = []*os.File{older, f}
	}
	return untimed(files...), nil
}

// openEnd opens a log. Of one that is larger than we let any become, something else has made it so:
// its end is read.
func openEnd(name string) (*os.File, error) {
	f, err := reading.OpenOwn(name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.Size() > 2*logLimit {
		f.Seek(-2*logLimit, io.SeekEnd)
	}
	return f, nil
}

// untimed gives what files hold, one behind the other, without the times. It closes them.
func untimed(files ...*os.File) io.ReadCloser {
	r, w := io.Pipe()
	go func() {
		defer w.Close()
		for _, f := range files {
			defer f.Close()
			for in, begins := bufio.NewReaderSize(f, 64<<10), true; ; {
				line, err := in.ReadSlice('\n')
				part := line
				if begins && len(line) > len(logTime) && line[len(logTime)] == ' ' {
					part = line[len(logTime)+1:]
				}
				begins = err == nil
				if _, werr := w.Write(part); werr != nil {
					return
				}
				if err != nil && err != bufio.ErrBufferFull {
					break
				}
			}
		}
	}()
	return r
}

// Open begins a node's log.
func (l *Folder) Open(id stack.NodeID) (*Log, error) {
	out := &Log{name: filepath.Join(l.dir, logName(id)), secrets: l.secrets, limit: l.limit}
	if err := out.open(); err != nil {
		return nil, fmt.Errorf("its log can't be written: %w", err)
	}
	return out, nil
}

// Log is one node's log.
type Log struct {
	name    string
	secrets *secrets
	limit   int64

	mu     sync.Mutex
	file   *os.File
	size   int64
	from   int64 // where Read begins
	buffer []byte
	tail   [tailLines]string // the last lines that were not empty, in a ring
	next   int
}

const (
	tailLines = 4
	maxLine   = 64 << 10 // a longer one is cut into pieces
)

func (l *Log) open() error {
	f, err := reading.OpenToWrite(l.name, os.O_APPEND)
	if err != nil {
		return err
	}
	if info, err := f.Stat(); err == nil {
		l.size = info.Size()
		l.from = l.size
	}
	l.file = f
	return nil
}

// Line writes one line.
func (l *Log) Line(text string) {
	s := l.Stream()
	fmt.Fprintln(s, text)
	s.Close()
}

// Stream is a writer into the log for one of a process's outputs. Closing it ends its last line.
func (l *Log) Stream() io.WriteCloser { return &stream{log: l} }

type stream struct {
	log  *Log
	rest []byte // of a line whose end has not come yet
}

// Write writes all whole lines with one call to the system. It never fails: a full disk must not
// stop the service, its lines are lost.
func (s *stream) Write(p []byte) (int, error) {
	n := len(p)
	end := bytes.LastIndexByte(p, '\n')
	if end < 0 {
		if s.rest = append(s.rest, p...); len(s.rest) >= maxLine {
			s.Close()
		}
		return n, nil
	}
	whole := p[:end+1]
	if len(s.rest) > 0 {
		whole = append(s.rest, whole...)
	}
	s.log.write(whole)
	s.rest = append(s.rest[:0], p[end+1:]...)
	return n, nil
}

func (s *stream) Close() error {
	if len(s.rest) > 0 {
		s.log.write(append(s.rest, '\n'))
		s.rest = s.rest[:0]
	}
	return nil
}

// write adds whole lines, all with the same time: they came at once.
func (l *Log) write(lines []byte) {
	lines = l.secrets.mask(lines)
	l.mu.Lock()
	defer l.mu.Unlock()
	stamp := time.Now().UTC().AppendFormat(make([]byte, 0, len(logTime)+1), logTime)
	stamp = append(stamp, ' ')
	l.buffer = l.buffer[:0]
	for rest := lines; len(rest) > 0; {
		i := bytes.IndexByte(rest, '\n')
		line := rest[:min(i, maxLine)]
		if i > maxLine {
			rest = rest[maxLine:]
		} else {
			rest = rest[i+1:]
		}
		line = bytes.TrimRight(line, "\r")
		l.buffer = append(append(append(l.buffer, stamp...), line...), '\n')
	}
	l.remember(lines)
	if l.size+int64(len(l.buffer)) > l.limit && l.size > 0 && l.file != nil {
		l.file.Close()
		os.Rename(l.name, l.name+".0")
		l.file = nil
		l.open()
	}
	if l.file != nil {
		n, _ := l.file.Write(l.buffer)
		l.size += int64(n)
	}
	if cap(l.buffer) > 1<<20 {
		l.buffer = nil
	}
}

// remember keeps the last lines that are not empty.
func (l *Log) remember(lines []byte) {
	var last [tailLines]string
	count := 0
	for rest := bytes.TrimRight(lines, "\r\n\t "); len(rest) > 0 && count < tailLines; {
		i := bytes.LastIndexByte(rest, '\n')
		if line := bytes.TrimSpace(rest[i+1:]); len(line) > 0 {
			last[count] = string(line[:min(len(line), 2000)])
			count++
		}
		rest = rest[:max(i, 0)]
	}
	for count--; count >= 0; count-- {
		l.tail[l.next%tailLines] = last[count]
		l.next++
	}
}

// Read reads what was written since the log was opened, or marked, and is still there, without the
// times. Nothing of it is a secret.
func (l *Log) Read() (io.ReadCloser, error) {
	l.mu.Lock()
	from := l.from
	l.mu.Unlock()
	f, err := openEnd(l.name)
	if err != nil {
		return nil, err
	}
	if info, err := f.Stat(); err == nil && info.Size() >= from && info.Size()-from <= 2*logLimit {
		f.Seek(from, io.SeekStart)
	}
	return untimed(f), nil
}

// Mark lets Read begin with what is written from now on.
func (l *Log) Mark() {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.from = l.size
	if info, err := os.Stat(l.name); err == nil { // another may have written to it
		l.from, l.size = info.Size(), info.Size()
	}
}

// Masked is a text without the secrets.
func (l *Folder) Masked(text string) string { return string(l.secrets.mask([]byte(text))) }

// Last is the last line that says something of what happens, shortened to be part of a sentence.
// What managers and runtimes say beside it is left out; so is a line without a letter.
func (l *Log) Last() string {
	for _, line := range slices.Backward(l.Tail()) {
		if !diagnose.Noise(line) && strings.IndexFunc(line, unicode.IsLetter) >= 0 {
			return line
		}
	}
	return ""
}

// Tail gives the last few lines that were not empty, each shortened to be part of a sentence.
func (l *Log) Tail() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	for i := max(0, l.next-tailLines); i < l.next; i++ {
		line := strings.ToValidUTF8(l.tail[i%tailLines], "\uFFFD")
		if r := []rune(line); len(r) > 200 {
			line = string(r[:200]) + "…"
		}
		out = append(out, line)
	}
	return out
}

// Close closes the file; lines that come later are lost.
func (l *Log) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil {
		return nil
	}
	err := l.file.Close()
	l.file = nil
	return err
}

// Line is one line of a log.
type Line struct {
	Time   time.Time
	Source string // the service, or step.ROLE.PROJECT
	Text   string
}

// Reader reads a workspace's logs, and goes on from where it has come to when it is asked again.
type Reader struct {
	dir    string
	wanted []string
	places map[string]place
}

// place is where in which file a reader has come to.
type place struct {
	file   os.FileInfo
	offset int64
}

// Read reads the logs of the services named, or of all.
func Read(root string, services []string) *Reader {
	return &Reader{dir: filepath.Join(workspace.State(root), "logs"), wanted: services,
		places: map[string]place{}}
}

// Next gives all complete lines that have come since the last call, each file's in its order.
func (r *Reader) Next() ([]Line, error) {
	names, err := filepath.Glob(filepath.Join(r.dir, "*.log"))
	if err != nil {
		return nil, err
	}
	var out []Line
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

// file reads on in a log; where it was begun anew meanwhile, what is left of the file before comes
// first.
func (r *Reader) file(name, source string) ([]Line, error) {
	var out []Line
	at, known := r.places[name]
	if info, err := os.Stat(name); err != nil {
		return nil, err
	} else if known && os.SameFile(at.file, info) && info.Size() >= at.offset {
		return r.read(name, source, at.offset, name)
	}
	if older, err := os.Stat(name + ".0"); err == nil {
		offset := int64(0)
		if known && os.SameFile(at.file, older) {
			offset = at.offset
		}
		if out, err = r.read(name+".0", source, offset, name); err != nil {
			return nil, err
		}
	}
	more, err := r.read(name, source, 0, name)
	return append(out, more...), err
}

// read reads the whole lines of a file from the offset on.
func (r *Reader) read(file, source string, offset int64, name string) ([]Line, error) {
	f, err := reading.OpenOwn(file)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	offset = max(offset, info.Size()-2*logLimit) // nothing of ours is larger
	if _, err := f.Seek(offset, io.SeekStart); err != nil {
		return nil, err
	}
	var out []Line
	for b := bufio.NewReaderSize(f, 2*maxLine); ; {
		part, err := b.ReadSlice('\n')
		if err != nil && err != bufio.ErrBufferFull { // what has no end yet is read next time
			r.places[name] = place{info, offset}
			return out, nil
		}
		offset += int64(len(part))
		// a longer one is none that we have written, and has no time before its parts
		line := string(part)
		stamp, text, _ := strings.Cut(strings.TrimSuffix(line, "\n"), " ")
		at, err := time.Parse(logTime, stamp)
		if err != nil {
			continue
		}
		out = append(out, Line{Time: at, Source: source, Text: text})
	}
}

// Sources lists whose logs there are, of those wanted.
func (r *Reader) Sources() []string {
	names, _ := filepath.Glob(filepath.Join(r.dir, "*.log"))
	var out []string
	for _, name := range names {
		if source := strings.TrimSuffix(filepath.Base(name), ".log"); len(r.wanted) == 0 ||
			slices.Contains(r.wanted, source) {
			out = append(out, source)
		}
	}
	return out
}
