package standin

import (
	"context"
	"encoding/binary"
	"io"
	"net/http"
	"sync"

	"github.com/moby/moby/api/pkg/stdcopy"
)

// output keeps what a container has written, in the engine's framed form, and feeds its followers.
type output struct {
	mu     sync.Mutex
	more   *sync.Cond
	data   []byte
	closed bool
}

// maxOutput is how much of a container's output is kept.
const maxOutput = 16 << 20

func newOutput() *output {
	o := &output{closed: true}
	o.more = sync.NewCond(&o.mu)
	return o
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.data) < maxOutput {
		o.data = append(o.data, p...)
	}
	o.more.Broadcast()
	return len(p), nil
}

// stream is a writer for one of a container's outputs.
func (o *output) stream(t stdcopy.StdType) io.Writer { return &framed{o, t} }

// framed puts what is written into frames: one byte for the stream, three empty ones, and the
// length in four, the highest first (the engine's API, "Attach to a container").
type framed struct {
	to     io.Writer
	stream stdcopy.StdType
}

// Write writes one frame.
func (f *framed) Write(p []byte) (int, error) {
	frame := make([]byte, 8, 8+len(p))
	frame[0] = byte(f.stream)
	binary.BigEndian.PutUint32(frame[4:], uint32(len(p)))
	if _, err := f.to.Write(append(frame, p...)); err != nil {
		return 0, err
	}
	return len(p), nil
}

func (o *output) reopen() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = false
}

func (o *output) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.closed = true
	o.more.Broadcast()
}

// copy writes all there is to w and, if asked to, what follows until the container ends.
func (o *output) copy(ctx context.Context, w http.ResponseWriter, follow bool) {
	stop := context.AfterFunc(ctx, func() {
		o.mu.Lock()
		defer o.mu.Unlock()
		o.more.Broadcast()
	})
	defer stop()
	w.(http.Flusher).Flush()
	for at := 0; ctx.Err() == nil; {
		o.mu.Lock()
		for follow && at == len(o.data) && !o.closed && ctx.Err() == nil {
			o.more.Wait()
		}
		chunk := o.data[at:]
		o.mu.Unlock()
		if len(chunk) == 0 {
			return
		}
		if _, err := w.Write(chunk); err != nil {
			return
		}
		w.(http.Flusher).Flush()
		at += len(chunk)
	}
}
