package launch

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
)

// image makes sure that the engine holds a service's image: it builds or fetches it.
func (x *Executor) image(ctx context.Context, n *node, log *Log) error {
	s := n.svc
	if s.ImageTag == "" {
		has, err := x.engine.HasImage(ctx, s.Image)
		if err != nil {
			return err
		}
		if has {
			x.set(n, stack.Starting, "")
			return nil
		}
		x.set(n, stack.Starting, "fetching "+s.Image)
		if err := x.engine.Pull(ctx, s.Image, log.Line); err != nil {
			return fmt.Errorf("the image %s could not be fetched: %w", s.Image, err)
		}
		return nil
	}
	x.set(n, stack.Starting, "building "+s.Build)
	// A build context outside of the workspace is read only where the compose file says so by a path
	// that leaves it; the archive itself never follows a link out of the folder.
	root, err := os.OpenRoot(filepath.Join(x.plan.Root, filepath.FromSlash(s.Build)))
	if err != nil {
		return fmt.Errorf("the build context can't be read: %w", err)
	}
	defer root.Close()
	r, w := io.Pipe()
	go func() { w.CloseWithError(engine.BuildContext(root.FS(), s.Container.Dockerfile, w)) }()
	err = x.engine.Build(ctx, engine.BuildSpec{Context: r, Dockerfile: s.Container.Dockerfile, Target: s.Container.Target, Args: s.Container.BuildArgs,
		Tag: s.ImageTag, Labels: map[string]string{engine.LabelStack: x.plan.ID}}, log.Line)
	r.Close()
	if err != nil {
		return fmt.Errorf("its image could not be built from %s: %w", s.Build, err)
	}
	return nil
}
