package engine

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"

	"github.com/moby/moby/api/types/build"
	"github.com/moby/moby/client"
)

// HasImage reports whether the engine holds the image.
func (e *Engine) HasImage(ctx context.Context, ref string) (bool, error) {
	_, err := e.cli.ImageInspect(ctx, ref)
	if IsNotFound(err) {
		return false, nil
	}
	return err == nil, err
}

// ImagePorts lists the ports that an image says it listens on, as "5432/tcp".
func (e *Engine) ImagePorts(ctx context.Context, ref string) ([]string, error) {
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

// Pull fetches an image from its registry and reports the progress in lines.
func (e *Engine) Pull(ctx context.Context, ref string, progress func(string)) error {
	body, err := e.cli.ImagePull(ctx, ref, client.ImagePullOptions{})
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = follow(body, progress)
	return err
}

// Tag gives an image another name.
func (e *Engine) Tag(ctx context.Context, ref, name string) error {
	_, err := e.cli.ImageTag(ctx, client.ImageTagOptions{Source: ref, Target: name})
	return err
}

// RemoveImage removes an image.
func (e *Engine) RemoveImage(ctx context.Context, ref string) error {
	_, err := e.cli.ImageRemove(ctx, ref, client.ImageRemoveOptions{Force: true, PruneChildren: true})
	if IsNotFound(err) {
		return nil
	}
	return err
}

// RemoveImages removes the images that carry all the labels.
func (e *Engine) RemoveImages(ctx context.Context, labels map[string]string) error {
	list, err := e.cli.ImageList(ctx, client.ImageListOptions{Filters: labelled(labels)})
	if err != nil {
		return err
	}
	for _, img := range list.Items {
		if err := e.RemoveImage(ctx, img.ID); err != nil {
			return err
		}
	}
	return nil
}

// BuildSpec is an image to build.
type BuildSpec struct {
	Context    io.Reader // a tar archive
	Dockerfile string    // its name in the archive
	Target     string
	Args       map[string]string
	Tag        string
	Labels     map[string]string
}

// Build builds an image and reports what is said on the way, line by line.
func (e *Engine) Build(ctx context.Context, spec BuildSpec, progress func(string)) error {
	args := map[string]*string{}
	for k, v := range spec.Args {
		args[k] = &v
	}
	resp, err := e.cli.ImageBuild(ctx, spec.Context, client.ImageBuildOptions{
		Tags: []string{spec.Tag}, Dockerfile: spec.Dockerfile, Target: spec.Target, BuildArgs: args,
		Labels: spec.Labels,
		Remove: true, ForceRemove: true, Version: build.BuilderV1,
	})
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	_, err = follow(resp.Body, progress)
	return err
}

// follow reads the engine's stream of messages; one of them may be an error.
func follow(body io.Reader, progress func(string)) (string, error) {
	d := json.NewDecoder(body)
	last := ""
	for {
		var m struct {
			Stream, Status, ID, Error string
			Progress                  string
		}
		if err := d.Decode(&m); err == io.EOF {
			return last, nil
		} else if err != nil {
			return last, err
		}
		if m.Error != "" {
			return last, errors.New(m.Error)
		}
		line := strings.TrimSpace(m.Stream + strings.TrimSpace(m.ID+" "+m.Status))
		if line != "" {
			last = line
			if progress != nil && m.Progress == "" {
				progress(line)
			}
		}
	}
}
