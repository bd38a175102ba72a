// Package consent shows what a checkout would run, and keeps what a person has vouched for.
package consent

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/dockerfile"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/hide"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Command is something that a checkout would run on this machine.
type Command struct {
	ID     stack.NodeID `json:"id"`
	Shows  string       `json:"command"`
	Detail []string     `json:"detail"` // what it expands to
	At     stack.Place  `json:"at"`
	New    bool         `json:"new"` // not vouched for as it is now
	// Changed is true of a new one that was vouched for as it was.
	Changed bool   `json:"changed,omitempty"`
	Digest  string `json:"digest"`

	as    string   // what comes to the same, and is vouched for in its place; empty for Shows
	exact []string // what it is in the end, word by word: a text could be divided in another way
	chain *chain   // what it leads to
}

// Commands lists all that the order would run, as it is written in the checkout, without secrets.
// Without committed all files count as they lie there.
func Commands(fsys fs.FS, s *stack.Stack, o *order.Order, committed Committed) []Command {
	s = hide.Stack(s)
	var out []Command
	for _, n := range o.Nodes {
		var c Command
		if name, ok := n.ID.Service(); ok {
			c = serviceCommand(fsys, s.Service(name), s)
		} else {
			c = stepCommand(fsys, n.ID, s)
		}
		c.ID = n.ID
		out = append(out, c)
	}
	for _, a := range s.Asks {
		c := Command{
			ID: stack.StepNode("ask:" + cmp.Or(a.Service, a.Folder) + "+" +
				path.Base(a.Command[len(a.Command)-1])),
			Shows:  shell.Line(a.Command),
			exact:  a.Command,
			At:     a.At,
			Detail: []string{"asks you something: offered once everything is up"},
		}
		if a.Service != "" {
			c.Detail = append(c.Detail, "in the container of "+a.Service)
		} else {
			c.chain = follow(fsys, s, cmp.Or(a.Folder, "."), []string{shell.Line(a.Command)})
			c.Detail = slices.Concat(c.Detail, whereRun(a.Folder),
				loaders(fsys, s, cmp.Or(a.Folder, ".")))
		}
		out = append(out, c)
	}
	return finished(out, committed)
}

// finished are commands with what they lead to and their sums.
func finished(out []Command, committed Committed) []Command {
	named := map[string]bool{}
	for _, c := range out {
		if c.chain != nil {
			maps.Copy(named, c.chain.names)
			maps.Copy(named, c.chain.obeys)
			maps.Copy(named, c.chain.runs)
		}
	}
	var blobs map[string]string
	var ignored map[string]bool
	if committed != nil && len(named) > 0 {
		blobs, ignored = committed(slices.Sorted(maps.Keys(named)))
	}
	for i := range out {
		out[i] = out[i].followed(blobs, ignored).sealed()
	}
	return out
}

// stepCommand is what a step of the order would run.
func stepCommand(fsys fs.FS, id stack.NodeID, s *stack.Stack) (c Command) {
	for _, p := range s.Projects {
		for _, step := range p.Steps {
			if stack.StepNode(step.ID) == id {
				dir := cmp.Or(step.Folder, p.Path)
				c = Command{Shows: shell.Line(step.Command), At: step.At, as: shell.Line(step.As),
					exact: exactly(step.As, step.Command), chain: follow(fsys, s, dir,
						append(slices.Clone(step.Expands), shell.Line(step.Command))),
					Detail: slices.Concat(whereRun(dir), step.Expands, loaders(fsys, s, dir))}
			}
		}
	}
	return c
}

// exactly is the command that counts: what comes to the same where there is that.
func exactly(as, command []string) []string {
	if len(as) > 0 {
		return as
	}
	return command
}

// followed is the command with what it leads to.
func (c Command) followed(blobs map[string]string, ignored map[string]bool) Command {
	if c.chain == nil {
		return c
	}
	for _, text := range c.chain.tells {
		_, line, _ := strings.Cut(text, ": ")
		if !slices.Contains(c.Detail, text) && !slices.Contains(c.Detail, line) {
			c.Detail = append(c.Detail, text)
		}
	}
	c.Detail = append(c.Detail, c.chain.sums(blobs, ignored)...)
	return c
}

// Beside is something that runs beside the order: a project's own tests.
type Beside struct {
	ID      stack.NodeID
	Command []string
	Expands []string // what it leads to, where that stands in the checkout
	Folder  string   // where it runs, relative to the workspace
	At      stack.Place
}

// CommandsOf lists what runs beside the order, as Commands does.
func CommandsOf(fsys fs.FS, s *stack.Stack, list []Beside, committed Committed) []Command {
	s = hide.Stack(s)
	var out []Command
	for _, b := range list {
		out = append(out, Command{ID: b.ID, Shows: shell.Line(b.Command), exact: b.Command,
			At: b.At, chain: follow(fsys, s, b.Folder,
				append(slices.Clone(b.Expands), shell.Line(b.Command))),
			Detail: slices.Concat(whereRun(b.Folder), b.Expands, loaders(fsys, s, b.Folder))})
	}
	return finished(out, committed)
}

// Sum is one sum of all commands as they are now.
func Sum(list []Command) string {
	h := sha256.New()
	for _, c := range list {
		fmt.Fprintf(h, "%s %s\n", c.ID, c.Digest)
	}
	return hex.EncodeToString(h.Sum(nil)[:16])
}

// sealed is the command with the sum of all that it shows.
func (c Command) sealed() Command {
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %q %q %q", c.ID, cmp.Or(c.as, c.Shows), c.exact,
		c.Detail))
	c.chain = nil
	c.Digest = hex.EncodeToString(sum[:12])
	return c
}

func serviceCommand(fsys fs.FS, v *stack.Service, s *stack.Stack) Command {
	if v.Runs == stack.Native {
		return nativeCommand(fsys, v, s)
	}
	c := &Command{Shows: "container of " + v.Image, At: v.At}
	var img *dockerfile.Image
	if v.Build != "" {
		img = c.showBuild(fsys, v)
	}
	if v.Container.Remote != "" {
		c.Shows = "container built from what the engine fetches from " + v.Container.Remote
		if v.Container.Dockerfile != "Dockerfile" {
			c.details("by its " + v.Container.Dockerfile)
		}
	}
	if v.Container.Target != "" {
		c.details("up to its stage " + v.Container.Target)
	}
	for _, key := range slices.Sorted(maps.Keys(v.Container.BuildArgs)) {
		c.details("with the build argument " + key + "=" + v.Container.BuildArgs[key])
	}
	c.showVariables(fsys, v)
	c.showWords(v)
	c.showHealth(v.Container.Health)
	for _, hook := range slices.Concat(v.Container.PostStart, v.Container.PreStop) {
		c.exact = append(append(c.exact, fmt.Sprint(len(hook.Command))), hook.Command...)
	}
	c.chain = contained(fsys, s, v, img)
	c.details(reach(v, s)...)
	for _, e := range v.EnvFiles {
		if !filepath.IsLocal(filepath.FromSlash(e.Path)) {
			c.details("reads settings outside of the workspace: " + e.Path)
			continue
		}
		c.details(loadersOf(fsys, e.Path, cmp.Or(v.Build, "."))...)
	}
	return *c
}

// nativeCommand is what a service runs on this machine itself.
func nativeCommand(fsys fs.FS, v *stack.Service, s *stack.Stack) Command {
	dir := v.Dir()
	c := Command{Shows: shell.Line(v.Command), exact: v.Command, At: v.At,
		chain:  follow(fsys, s, dir, append(slices.Clone(v.Expands), shell.Line(v.Command))),
		Detail: slices.Concat(whereRun(dir), v.Expands, loaders(fsys, s, dir))}
	// a variable can make a command do something else
	for _, key := range slices.Sorted(maps.Keys(v.Env)) {
		c.details("with " + key + "=" + v.Env[key])
		c.chain.value(key, v.Env[key], dir)
	}
	return c
}

func (c *Command) details(lines ...string) { c.Detail = append(c.Detail, lines...) }

// showBuild shows what a container is built by, and gives its image; nil if nothing can be read.
func (c *Command) showBuild(fsys fs.FS, v *stack.Service) *dockerfile.Image {
	lines := v.Container.Inline
	c.Shows = "container built from the compose file's own lines, in " + v.Build
	if lines == "" {
		file := path.Join(v.Build, v.Container.Dockerfile)
		c.Shows = "container built from " + file
		data, err := fs.ReadFile(fsys, file)
		if err != nil {
			c.details("its Dockerfile can't be read")
		}
		lines = string(data)
	}
	for _, line := range strings.Split(lines, "\n") {
		if line = strings.TrimSpace(line); line != "" &&
			(line[0] != '#' || directive.MatchString(line)) {
			c.details(line)
		}
	}
	return dockerfile.Read([]byte(lines[:min(len(lines), dockerfile.MaxSize)]), v.Container.Target)
}

// showVariables shows the variables that a container gets: those that load something with what they
// are, and all others by their names, and their values where those stand in the compose file.
func (c *Command) showVariables(fsys fs.FS, v *stack.Service) {
	var given []string
	for _, key := range slices.Sorted(maps.Keys(v.Env)) {
		if why := loads(fsys, key, v.Env[key], v.Build); why != "" {
			c.details("with " + key + "=" + v.Env[key] + ", " + why)
			continue
		}
		// what settings give is told by their names: they may yet be filled
		switch from := v.EnvFrom[key]; {
		case v.Literal(key):
			key += "=" + v.Env[key]
		case from != "":
			key += "=${" + from + "}"
		}
		given = append(given, key)
	}
	if len(given) > 0 {
		c.details("with " + strings.Join(given, ", "))
	}
}

// showWords shows what a container runs instead of what its image would. A script of several lines
// reads better without its quotes.
func (c *Command) showWords(v *stack.Service) {
	for _, words := range [][]string{v.Container.Entrypoint, v.Command} {
		c.exact = append(append(c.exact, fmt.Sprint(len(words))), words...)
	}
	words := slices.Concat(v.Container.Entrypoint, v.Command)
	if len(words) == 0 {
		return
	}
	shown := strings.Join(words, " ")
	if !strings.Contains(shown, "\n") {
		shown = shell.Line(words)
	}
	first, rest, _ := strings.Cut(strings.TrimSpace(shown), "\n")
	c.details("runs: " + first)
	for line := range strings.Lines(rest) { // of a script that a shell is given
		c.details("      " + strings.TrimSpace(line))
	}
}

// showHealth shows what a container is asked again and again; nil is for nothing.
func (c *Command) showHealth(h *stack.Health) {
	if h == nil || len(h.Test) < 2 {
		return
	}
	c.exact = append(c.exact, h.Test...)
	line := shell.Line(h.Test[1:])
	if h.Test[0] == "CMD-SHELL" { // one word, which a shell reads
		line = strings.Join(h.Test[1:], " ")
	}
	c.details("health check: " + line)
}

// directive is a line of a Dockerfile that looks like a comment, and has another program read the
// file.
var directive = expr.New(`(?i)^#\s*(syntax|escape|check)\s*=`)

// record is what a person has vouched for in one workspace. It lies among the person's own files,
// since a checkout could bring along anything in its own.
type record struct {
	Root    string   `json:"root"`
	Digests []string `json:"digests"`
	// IDs are those of all that was ever vouched for.
	IDs []stack.NodeID `json:"ids,omitempty"`
}

// consentFile is named after the folder itself: one that is moved keeps its consent, another one at
// its path has none.
func consentFile(root string, make bool) (string, error) {
	dir, err := workspace.Own(make)
	if err != nil {
		return "", err
	}
	name, err := workspace.Same(root, "vouched", make)
	return filepath.Join(dir, "vouched", name+".json"), err
}

// MarkNew marks the commands that nobody has vouched for as they are now, and reports whether there
// are any.
func MarkNew(root string, list []Command) (bool, error) {
	var c record
	file, err := consentFile(root, false)
	var data []byte
	if err == nil {
		data, err = reading.OwnFile(file, reading.Usual)
	}
	// A consent that can't be read is none.
	if err == nil && json.Unmarshal(data, &c) != nil {
		c = record{}
	}
	known := map[string]bool{}
	for _, d := range c.Digests {
		known[d] = true
	}
	found := false
	for i := range list {
		list[i].New = !known[list[i].Digest]
		list[i].Changed = list[i].New && slices.Contains(c.IDs, list[i].ID)
		found = found || list[i].New
	}
	return found, nil
}

// Vouch records the person's consent to the commands, beside what was vouched for before.
func Vouch(root string, list []Command) error {
	file, err := consentFile(root, true)
	if err != nil {
		return err
	}
	var c record
	if data, err := reading.OwnFile(file, reading.Usual); err == nil &&
		json.Unmarshal(data, &c) != nil {
		c = record{}
	}
	c.Root = root
	known := map[string]bool{}
	for _, d := range c.Digests {
		known[d] = true
	}
	for i := range list {
		if !known[list[i].Digest] {
			c.Digests = append(c.Digests, list[i].Digest)
		}
		if !slices.Contains(c.IDs, list[i].ID) {
			c.IDs = append(c.IDs, list[i].ID)
		}
		list[i].New, list[i].Changed = false, false
	}
	data, err := json.MarshalIndent(c, "", " ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return workspace.WriteFile(file, data, 0o600)
}
