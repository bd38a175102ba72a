package supervise

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/logs"
)

// prepareImage builds or fetches a service's image while the service still waits for others.
func (x *Executor) prepareImage(ctx context.Context, n *node) {
	defer close(n.image.ready)
	select {
	case x.cores <- struct{}{}:
		defer func() { <-x.cores }()
	case <-ctx.Done():
		n.image.err = ctx.Err()
		return
	}
	log, err := x.logs.Open(n.id)
	if err != nil {
		n.image.err = err
		return
	}
	defer log.Close()
	n.image.err = x.imageOf(ctx, n, log)
}

// imageOf makes sure that the engine holds a service's image.
func (x *Executor) imageOf(ctx context.Context, n *node, log *logs.Log) error {
	s := n.svc
	if s.ImageTag == "" {
		has, err := x.engine.HasImage(ctx, s.Image)
		if err != nil || has {
			return err
		}
		done := x.announce(n, "fetching "+s.Image)
		defer done()
		if err := x.engine.Pull(ctx, s.Image, log.Line); err != nil {
			return fmt.Errorf("the image %s could not be fetched: %w", s.Image, err)
		}
		return nil
	}
	done := x.announce(n, "building "+s.Build)
	defer done()
	// Nothing in the archive is read through a link that leaves the folder.
	root, err := openContext(x.plan().Root, s.Build)
	if err != nil {
		return fmt.Errorf("the build context can't be read: %w", err)
	}
	defer root.Close()
	r, w := io.Pipe()
	dockerfile := s.Container.Dockerfile
	if s.Container.Inline != "" {
		dockerfile = engine.InlineName
	}
	go func() { w.CloseWithError(engine.BuildContext(root.FS(), dockerfile, s.Container.Inline, w)) }()
	err = x.engine.Build(ctx, engine.BuildSpec{Context: r, Dockerfile: dockerfile, Target: s.Container.Target,
		Args: s.Container.BuildArgs,
		Tag:  s.ImageTag, Labels: map[string]string{engine.LabelStack: x.plan().ID}}, log.Line)
	r.Close()
	if err != nil {
		words, why := x.said(log)
		return &buildFailure{fmt.Errorf("its image could not be built from %s: %w%s", s.Build, err, words), why}
	}
	return nil
}

// openContext opens a build's folder. One of the workspace may be no link that leaves it; one that the compose file
// names outside of it is shown for consent as such.
func openContext(root, build string) (*os.Root, error) {
	dir := filepath.FromSlash(build)
	if !filepath.IsLocal(dir) {
		return os.OpenRoot(filepath.Join(root, dir))
	}
	top, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer top.Close()
	return top.OpenRoot(dir)
}

// buildFailure is an image that could not be built, with what is known of why.
type buildFailure struct {
	error
	why Why
}

// worthSaying is how long something must take for its progress to be told.
const worthSaying = 400 * time.Millisecond

// announce tells what is being done for a node that waits, if it takes long; the function it gives tells
// the end.
func (x *Executor) announce(n *node, text string) (done func()) {
	begin := time.Now()
	said := time.AfterFunc(worthSaying, func() { x.move(n, change{kind: mentions, text: text}) })
	return func() {
		if !said.Stop() {
			x.move(n, change{kind: mentions, text: fmt.Sprintf("%s took %.1f s", text, time.Since(begin).Seconds())})
		}
	}
}
