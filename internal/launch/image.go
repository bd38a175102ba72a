package launch

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"

	"nimbleharbor/internal/engine"
)

// prepareImage builds or fetches a service's image while the service still waits for others.
func (x *Executor) prepareImage(ctx context.Context, n *node) {
	defer close(n.imageReady)
	select {
	case x.cores <- struct{}{}:
		defer func() { <-x.cores }()
	case <-ctx.Done():
		n.imageErr = ctx.Err()
		return
	}
	log, err := x.logs.Open(n.id)
	if err != nil {
		n.imageErr = err
		return
	}
	defer log.Close()
	n.imageErr = x.image(ctx, n, log)
}

// image makes sure that the engine holds a service's image.
func (x *Executor) image(ctx context.Context, n *node, log *Log) error {
	s := n.svc
	if s.ImageTag == "" {
		has, err := x.engine.HasImage(ctx, s.Image)
		if err != nil || has {
			return err
		}
		x.mention(n, "fetching "+s.Image)
		if err := x.engine.Pull(ctx, s.Image, log.Line); err != nil {
			return fmt.Errorf("the image %s could not be fetched: %w", s.Image, err)
		}
		x.mention(n, "fetched "+s.Image)
		return nil
	}
	x.mention(n, "building "+s.Build)
	// Nothing in the archive is read through a link that leaves the folder.
	root, err := os.OpenRoot(filepath.Join(x.plan.Root, filepath.FromSlash(s.Build)))
	if err != nil {
		return fmt.Errorf("the build context can't be read: %w", err)
	}
	defer root.Close()
	r, w := io.Pipe()
	go func() { w.CloseWithError(engine.BuildContext(root.FS(), s.Container.Dockerfile, w)) }()
	begin := time.Now()
	err = x.engine.Build(ctx, engine.BuildSpec{Context: r, Dockerfile: s.Container.Dockerfile, Target: s.Container.Target, Args: s.Container.BuildArgs,
		Tag: s.ImageTag, Labels: map[string]string{engine.LabelStack: x.plan.ID}}, log.Line)
	r.Close()
	if err != nil {
		return fmt.Errorf("its image could not be built from %s: %w%s", s.Build, err, lastWords(log))
	}
	x.mention(n, fmt.Sprintf("built in %.1f s", time.Since(begin).Seconds()))
	return nil
}

// mention tells something about a node without changing its state.
func (x *Executor) mention(n *node, text string) {
	state, _ := n.is()
	x.set(n, state, text)
}
