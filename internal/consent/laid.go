package consent

import (
	"cmp"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// laid tells where files of the checkout lie in a container: what its build copies, and over that
// what is mounted. By it the words of a container are followed as those of a native command are. A
// folder that an image has of its own is not the checkout's, and nothing is followed there.
type laid []lies

// lies is a file or folder of the checkout, and its place in the container.
type lies struct{ from, to string }

// source finds what of the checkout lies at a place of the container; what was put there last
// counts.
func (l laid) source(place string) (string, bool) {
	place = path.Clean(place)
	for _, one := range slices.Backward(l) {
		to := path.Clean(one.to)
		rest, below := strings.CutPrefix(place, strings.TrimSuffix(to, "/")+"/")
		switch {
		case place == to:
			return path.Clean(one.from), true
		case below:
			return path.Join(one.from, rest), true
		}
	}
	return "", false
}

// folder finds the folder of the checkout whose files lie in a folder of the container: the one
// that was put there or that of a file in it.
func (l laid) folder(place string) (string, bool) {
	if from, ok := l.source(place); ok {
		return from, true
	}
	for _, one := range slices.Backward(l) {
		if path.Dir(path.Clean(one.to)) == path.Clean(place) {
			return path.Dir(one.from), true
		}
	}
	return "", false
}

// build adds what an image takes from its context.
func (l laid) build(fsys fs.FS, context string, img *dockerfile.Image) laid {
	for _, c := range img.Copies {
		from := path.Join(context, c.From)
		if !filepath.IsLocal(filepath.FromSlash(from)) {
			continue
		}
		names := []string{from}
		if strings.ContainsAny(c.From, "*?[") {
			names, _ = fs.Glob(fsys, from)
		}
		for _, name := range names {
			to := c.To
			// What is copied into a folder lies there under its own name; a folder's contents lie
			// there themselves.
			info, err := fs.Stat(fsys, name)
			if err == nil && !info.IsDir() &&
				(strings.HasSuffix(to, "/") || len(names) > 1 || path.Ext(to) == "") {
				to = path.Join(to, path.Base(name))
			}
			l = append(l, lies{name, to})
		}
	}
	return l
}

// contained goes after all that a container comes to: what its build runs, its own command, the
// compose file's words, its health check and the commands around its start and end.
func contained(fsys fs.FS, s *stack.Stack, v *stack.Service, img *dockerfile.Image) *chain {
	c := follow(fsys, s, ".", nil)
	workdir, entry, command := "/", v.Container.Entrypoint, v.Command
	if img != nil {
		c.laid = c.laid.build(fsys, v.Build, img)
		workdir = img.Workdir
		if entry == nil {
			if entry = img.Entry; len(command) == 0 && slices.Compare(img.Command, img.Entry) != 0 {
				command = img.Command
			}
		}
		for _, run := range img.Runs {
			c.inside(run.Text, run.Folder)
		}
	}
	c.laid = append(c.laid, handed(v.Container)...)
	workdir = path.Join(workdir, v.Container.WorkingDir)
	if path.IsAbs(v.Container.WorkingDir) {
		workdir = v.Container.WorkingDir
	}
	if words := slices.Concat(entry, command); len(words) > 0 {
		c.inside(shell.Line(words), workdir)
	}
	if len(entry) > 0 && len(command) > 0 { // an entry point runs, as a rule, what it is given
		c.inside(shell.Line(command), workdir)
	}
	for _, line := range besideIts(v.Container) {
		c.inside(line, workdir)
	}
	return c
}

// handed tells which files of the checkout a container is handed when it is made: mounts, secrets
// and configurations.
func handed(c *stack.ContainerSpec) (out laid) {
	for _, m := range c.Mounts {
		if m.Type == "bind" && filepath.IsLocal(filepath.FromSlash(m.Source)) {
			out = append(out, lies{m.Source, m.Target})
		}
	}
	for i := range c.Handed {
		h := &c.Handed[i]
		if h.File != "" && filepath.IsLocal(filepath.FromSlash(h.File)) {
			out = append(out, lies{h.File, cmp.Or(h.Target, path.Join("/run/secrets", h.Name))})
		}
	}
	return out
}

// besideIts are the lines that run in a container beside its command: its health check, what runs
// after its start, before its end, and when files change.
func besideIts(c *stack.ContainerSpec) (out []string) {
	if h := c.Health; h != nil && len(h.Test) > 1 {
		out = append(out, shell.Line(h.Test[1:]))
		if h.Test[0] == "CMD-SHELL" {
			out = append(out, strings.Join(h.Test[1:], " "))
		}
	}
	for _, hook := range slices.Concat(c.PostStart, c.PreStop) {
		out = append(out, shell.Line(hook.Command))
	}
	for _, w := range c.Watch {
		if w.Exec != nil {
			out = append(out, shell.Line(w.Exec.Command))
		}
	}
	return out
}

// inside follows a line that is run in a folder of the container.
func (c *chain) inside(line, place string) {
	place = path.Join("/", place)
	cwd, here := c.laid.folder(place)
	if !here || !filepath.IsLocal(filepath.FromSlash(cwd)) {
		cwd = nowhere
	}
	c.place = place
	c.line(line, cwd, cwd, 0)
}

// nowhere is the working folder of what runs where nothing of the checkout lies.
const nowhere = ".nharbor/nowhere"
