package execute

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// What a container is given of the checkout's files, beside what is mounted: labels, filters,
// secrets and configs, and on an engine elsewhere the mounted files themselves.

// maxAlong is how many bytes of a folder go along to an engine on another machine.
const maxAlong = 256 << 20

// along reads the files of a bind mount for a container on another machine; volume is true where it
// is a folder, whose place a volume takes that goes with the container.
func (x containers) along(m stack.Mount) (files []engine.File, volume bool, err error) {
	top, err := os.OpenRoot(x.Plan().Root)
	if err != nil {
		return nil, false, err
	}
	defer top.Close()
	name := filepath.FromSlash(m.Source)
	info, err := top.Stat(name)
	if errors.Is(err, fs.ErrNotExist) && !m.MustExist {
		return nil, true, nil
	}
	if err != nil {
		return nil, false, err
	}
	total := 0
	add := func(name, target string, mode fs.FileMode) error {
		data, err := reading.FileIn(top, filepath.FromSlash(name), maxAlong)
		if total += len(data); total > maxAlong {
			return fmt.Errorf("%s holds more than %d MB, too much to go along to the engine's "+
				"machine", m.Source, maxAlong>>20)
		}
		files = append(files, engine.File{Target: target, Data: data, Mode: int64(mode.Perm())})
		return err
	}
	if !info.IsDir() {
		return files, false, add(m.Source, m.Target, info.Mode())
	}
	err = fs.WalkDir(reading.Under(top), path.Clean(m.Source),
		func(at string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				if d != nil && d.IsDir() && d.Name() == ".nharbor" {
					return fs.SkipDir
				}
				return err
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			return add(at, path.Join(m.Target, strings.TrimPrefix(at, path.Clean(m.Source))),
				info.Mode())
		})
	return files, true, err
}

// readFor reads what a container gets of files of the checkout: labels, profiles of the kernel's
// filter, secrets and configs.
func (x containers) readFor(out *run.ContainerSpec, c *stack.ContainerSpec) error {
	root := x.Plan().Root
	for _, name := range c.LabelFiles {
		if err := addLabels(out.Labels, root, name); err != nil {
			return err
		}
	}
	out.SecurityOpt = slices.Clone(out.SecurityOpt)
	for i, o := range out.SecurityOpt {
		profile, ok := strings.CutPrefix(strings.Replace(o, "=", ":", 1), "seccomp:")
		if !ok || profile == "unconfined" || profile == "builtin" {
			continue
		}
		data, err := readNamed(root, profile)
		if err != nil {
			return fmt.Errorf("its security_opt %s: %w", o, err)
		}
		out.SecurityOpt[i] = "seccomp=" + string(data)
	}
	for i := range c.Handed {
		h := &c.Handed[i]
		if h.External {
			return fmt.Errorf("%s is external, and lives in a cluster's store; nothing here can "+
				"give it", h.Name)
		}
		data := []byte(h.Content)
		if h.File != "" {
			if h.UID+h.GID+h.Mode == "" {
				continue // mounted
			}
			var err error
			if data, err = readNamed(root, h.File); err != nil {
				return fmt.Errorf("%s: %w", h.Name, err)
			}
		}
		f, err := engine.HandedFile(h, data)
		if err != nil {
			return fmt.Errorf("%s: %w", h.Name, err)
		}
		out.Files = append(out.Files, f)
		if folder := path.Dir(f.Target); c.ReadOnly && !slices.ContainsFunc(out.Mounts,
			func(m stack.Mount) bool { return m.Target == folder }) {
			// Nothing can be put into a container that is read-only, but into a volume of its own.
			out.Mounts = append(out.Mounts, stack.Mount{Type: "volume", Target: folder})
		}
	}
	return nil
}

// addLabels adds those of a file to others.
func addLabels(labels map[string]string, root, name string) error {
	data, err := readNamed(root, name)
	if err != nil {
		return fmt.Errorf("its labels: %w", err)
	}
	f, err := dotenv.Parse(name, data)
	if err != nil {
		return err
	}
	values, err := f.Values(os.LookupEnv)
	maps.Copy(labels, values)
	return err
}

// readNamed reads a file that a compose file names: one of the workspace never through a link that
// leaves it, one outside, for which somebody has vouched, where it lies.
func readNamed(root, name string) ([]byte, error) {
	local := filepath.FromSlash(name)
	if !filepath.IsLocal(local) {
		full, err := hostPath(root, name, false)
		if err != nil {
			return nil, err
		}
		return reading.File(full, maxAlong)
	}
	top, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer top.Close()
	return reading.FileIn(top, local, maxAlong)
}
