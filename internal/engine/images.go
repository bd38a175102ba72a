package engine

import (
	"context"
	"time"

	"github.com/moby/moby/api/types/image"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"
)

// Images are those that an engine keeps.
type Images struct{ *Engine }

// Images are those that the engine keeps.
func (e *Engine) Images() Images { return Images{e} }

// Has reports whether the engine holds the image.
func (e Images) Has(ctx context.Context, ref string) (bool, error) {
	_, err := e.cli.ImageInspect(ctx, ref)
	if IsNotFound(err) {
		return false, nil
	}
	return err == nil, err
}

// Ports lists the ports that an image says it listens on, as "5432/tcp".
func (e Images) Ports(ctx context.Context, ref string) ([]string, error) {
	info, err := e.cli.ImageInspect(ctx, ref)
	if err != nil || info.Config == nil {
		return nil, err
	}
	var out []string
	for p := range info.Config.ExposedPorts {
		out = append(out, string(p))
	}
	return out, nil
}

// Pull fetches an image from its registry, for a platform or the engine's own, and reports the
// progress in lines. What the registry or the engine refuses is a *PullError.
func (e Images) Pull(ctx context.Context, ref, platform string, progress func(string)) error {
	options := client.ImagePullOptions{RegistryAuth: loginFor(ctx, ref)}
	if p, err := platformOf(platform); err != nil {
		return err
	} else if p != nil {
		options.Platforms = []ocispec.Platform{*p}
	}
	body, err := e.cli.ImagePull(ctx, ref, options)
	if err == nil {
		defer body.Close()
		err = follow(body, progress)
	}
	if err != nil && ctx.Err() == nil {
		return &PullError{ref, imageFinding(ref, platform, err), err}
	}
	return err
}

// Labels are those of an image; nil for one that is not there.
func (e Images) Labels(ctx context.Context, ref string) (map[string]string, error) {
	info, err := e.cli.ImageInspect(ctx, ref)
	if IsNotFound(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if info.Config == nil || info.Config.Labels == nil {
		return map[string]string{}, nil
	}
	return info.Config.Labels, nil
}

// Since is when an image was fetched or named last; zero where the engine doesn't know.
func (e Images) Since(ctx context.Context, ref string) time.Time {
	info, err := e.cli.ImageInspect(ctx, ref)
	if err != nil {
		return time.Time{}
	}
	return info.Metadata.LastTagTime
}

// Tag gives an image another name.
func (e Images) Tag(ctx context.Context, ref, name string) error {
	_, err := e.cli.ImageTag(ctx, client.ImageTagOptions{Source: ref, Target: name})
	return err
}

// Remove removes an image.
func (e Images) Remove(ctx context.Context, ref string) error {
	_, err := e.cli.ImageRemove(ctx, ref,
		client.ImageRemoveOptions{Force: true, PruneChildren: true})
	if IsNotFound(err) {
		return nil
	}
	return err
}

// RemoveAll removes the images that carry all the labels.
func (e Images) RemoveAll(ctx context.Context, labels map[string]string) error {
	list, err := e.cli.ImageList(ctx, client.ImageListOptions{Filters: labelled(labels)})
	if err != nil {
		return err
	}
	// One that others were built from goes after those.
	left := list.Items
	for len(left) > 0 {
		var refused []image.Summary
		for _, img := range left {
			if failed := e.Images().Remove(ctx, img.ID); failed != nil {
				err, refused = failed, append(refused, img)
			}
		}
		if len(refused) == len(left) {
			return err
		}
		left = refused
	}
	return nil
}
