package engine

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/client"

	"nimbleharbor/internal/stack"
)

// File is a file to put into a container that has not started yet.
type File struct {
	Target   string // its whole path
	Data     []byte
	UID, GID int
	Mode     int64
}

// HandedFile is what a secret or a config becomes inside of a container.
func HandedFile(h *stack.Handed, data []byte) (File, error) {
	f := File{Target: h.Target, Data: data, Mode: 0o444}
	if h.Mode != "" {
		mode, err := fileMode(h.Mode)
		if err != nil {
			return f, err
		}
		f.Mode = int64(mode)
	}
	for _, one := range []struct {
		text string
		to   *int
	}{{h.UID, &f.UID}, {h.GID, &f.GID}} {
		if one.text == "" {
			continue
		}
		n, err := strconv.Atoi(one.text)
		if err != nil || n < 0 {
			return f, fmt.Errorf("%q is no number of a user or a group, and names can't be "+
				"looked up here", one.text)
		}
		*one.to = n
	}
	return f, nil
}

// Put puts files into a container before its start, with the folders above them. Where the
// container is read-only the folders are there already, as volumes.
func (e *Engine) Put(ctx context.Context, id string, files []File, readOnly bool) error {
	if !readOnly {
		return e.put(ctx, id, "/", files)
	}
	for _, f := range files {
		if err := e.put(ctx, id, path.Dir(path.Clean("/"+f.Target)), []File{f}); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) put(ctx context.Context, id, folder string, files []File) error {
	var archive bytes.Buffer
	t := tar.NewWriter(&archive)
	for _, f := range files {
		name := strings.TrimPrefix(strings.TrimPrefix(path.Clean("/"+f.Target), folder), "/")
		if err := t.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: f.Mode,
			Uid: f.UID, Gid: f.GID, Size: int64(len(f.Data)), ModTime: time.Now()}); err != nil {
			return err
		}
		if _, err := t.Write(f.Data); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	_, err := e.cli.CopyToContainer(ctx, id,
		client.CopyToContainerOptions{DestinationPath: folder, Content: &archive})
	return err
}

// Hook runs a command inside a running container as a compose file describes it, and gives its exit
// code.
func (e *Engine) Hook(ctx context.Context, id string, h stack.Hook, out io.Writer) (int, error) {
	spec := client.ExecCreateOptions{Cmd: h.Command, User: h.User, WorkingDir: h.WorkingDir,
		Privileged: h.Privileged, AttachStdout: true, AttachStderr: true}
	for key, value := range h.Env {
		spec.Env = append(spec.Env, key+"="+value)
	}
	return e.attached(ctx, id, spec, out, out)
}
