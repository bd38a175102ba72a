package enter

import (
	"context"
	"io"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/testrun"
)

// Tested is how a project's own tests have gone.
type Tested struct {
	Counts     testrun.Counts
	Passed     bool
	Exit       string // how they ended, in words
	Seconds    float64
	record.Why // what is known of why they could not be run, where they did not count anything
}

// RunTest runs a project's own tests and gives every line that they say to line, without secrets;
// it goes into the logs too. With the context the tests end.
func RunTest(ctx context.Context, plan *plan.Plan, t *plan.Test,
	line func(string)) (*Tested, error) {
	folder, err := logs.Beside(plan.Root, plan.Secrets)
	if err != nil {
		return nil, err
	}
	log, err := folder.Open(t.ID)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	out, begin := &Tested{}, time.Now()
	reader := diagnose.NewReader()
	r, w := io.Pipe()
	read := make(chan struct{})
	go func() {
		defer close(read)
		lines := &engine.Lines{Line: func(text string) {
			text = folder.Masked(text)
			out.Counts.Line(text)
			io.WriteString(reader, text+"\n")
			line(text)
		}}
		io.Copy(lines, r)
		lines.Flush()
	}()
	p, err := run.StartNative(run.NativeSpec{Dir: t.Dir, Command: t.Command,
		Env: append(t.Environment, process.Marker+"="+plan.ID)},
		func() io.WriteCloser { return &tee{log.Stream(), w} })
	if err != nil {
		w.Close()
		<-read
		out.Exit, out.Why = execute.StartFailure(err)
		return out, nil
	}
	select {
	case <-p.Done():
	case <-ctx.Done():
		p.Stop(5 * time.Second)
		<-p.Done()
	}
	w.Close()
	<-read
	exit := p.Exit()
	out.Passed, out.Exit, out.Seconds = exit.OK() &&
		out.Counts.Failed == 0, exit.String(), time.Since(begin).Seconds()
	if causes := reader.Reading().Causes; !out.Passed && !out.Counts.Known && len(causes) > 0 {
		out.Why = record.Why{Code: causes[0].Code, Cause: causes[0].Cause, Remedy: causes[0].Remedy}
	}
	return out, ctx.Err()
}

// tee writes to a log and to who reads along.
type tee struct {
	io.WriteCloser
	along io.Writer
}

func (t *tee) Write(p []byte) (int, error) {
	t.along.Write(p)
	return t.WriteCloser.Write(p)
}
