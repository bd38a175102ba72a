package execute

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/record"
)

// prepareImage builds or fetches a service's image while the service still waits for others.
func (x images) prepareImage(ctx context.Context, n *node) {
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
func (x images) imageOf(ctx context.Context, n *node, log *logs.Log) error {
	if n.svc.ImageTag != "" {
		return x.built(ctx, n, n.svc, log, nil)
	}
	return x.fetched(ctx, n, log)
}

// fetched fetches an image where its service's pull_policy asks for it. One that is here serves
// where a newer one can't be had.
func (x images) fetched(ctx context.Context, n *node, log *logs.Log) error {
	s := n.svc
	has, err := x.on(s.Name).Images().Has(ctx, s.Image)
	if err != nil {
		return err
	}
	policy, platform := "", ""
	if s.Container != nil {
		policy, platform = s.Container.PullPolicy, s.Container.Platform
	}
	if has && !stale(policy, time.Since(x.on(s.Name).Images().Since(ctx, s.Image))) {
		return nil
	}
	if policy == "never" {
		return fmt.Errorf("the image %s is not on this machine, and pull_policy: never forbids "+
			"to fetch it", s.Image)
	}
	done := x.announce(n, "fetching "+s.Image)
	told := time.Now()
	err = x.on(s.Name).Images().Pull(ctx, s.Image, platform, func(line string) {
		log.Line(line)
		if strings.Contains(line, " layers") && time.Since(told) >= progressEvery {
			told = time.Now()
			x.move(n, change{kind: prepares, text: fmt.Sprintf("fetching %s: %s", s.Image, line)})
		}
	})
	done()
	switch {
	case err == nil:
		return nil
	case has && ctx.Err() == nil:
		log.Line(fmt.Sprintf("no newer image %s could be fetched, and the one that is here is "+
			"used: %v", s.Image, err))
		return nil
	}
	return err
}

// stale reports whether an image of this age is to be fetched again.
func stale(policy string, age time.Duration) bool {
	const day = 24 * time.Hour
	switch policy {
	case "always":
		return true
	case "daily":
		return age > day
	case "weekly":
		return age > 7*day
	}
	every, ok := strings.CutPrefix(policy, "every_")
	if !ok {
		return false
	}
	var total time.Duration
	for _, part := range everyPart.FindAllStringSubmatch(every, -1) {
		count, err := strconv.Atoi(part[1])
		if err != nil {
			return false
		}
		total += time.Duration(count) * map[string]time.Duration{"w": 7 * day, "d": day,
			"h": time.Hour, "m": time.Minute, "s": time.Second}[part[2]]
	}
	return total > 0 && age > total
}

var everyPart = expr.New(`(\d+)([wdhms])`)

// making is an image that is being built, for as many services as want the same.
type making struct {
	done chan struct{} // closed when it is there, or err says why not
	tag  string        // its name, of the service that asked first
	err  error
}

// built makes sure that a service's image is there, built from what its build can see now. way are
// the services whose images lead to it.
func (x images) built(ctx context.Context, n *node, s *plan.Service, log *logs.Log,
	way []string) error {
	spec, sum, err := x.buildOf(ctx, n, s, log, way)
	if err != nil {
		return err
	}
	x.mu.Lock()
	one, running := x.makings[sum]
	if !running {
		one = &making{done: make(chan struct{}), tag: s.ImageTag}
		x.makings[sum] = one
	}
	x.mu.Unlock()
	if !running {
		one.err = x.make(ctx, n, s, spec, sum, log)
		if one.err != nil { // so that another launch of it tries again
			x.mu.Lock()
			delete(x.makings, sum)
			x.mu.Unlock()
		}
		close(one.done)
	}
	select {
	case <-one.done:
	case <-ctx.Done():
		return ctx.Err()
	}
	if one.err != nil {
		return one.err
	}
	if one.tag != s.ImageTag {
		if err := x.on(s.Name).Images().Tag(ctx, one.tag, s.ImageTag); err != nil {
			return err
		}
	}
	return x.nameToo(ctx, s, log)
}

// nameToo gives a built image the names that the files give it, but those that are somebody else's.
func (x images) nameToo(ctx context.Context, s *plan.Service, log *logs.Log) error {
	for _, name := range append([]string{s.Image}, s.Container.Tags...) {
		if name == "" {
			continue
		}
		labels, err := x.on(s.Name).Images().Labels(ctx, name)
		if err != nil {
			return err
		}
		if labels != nil && labels[engine.LabelStack] == "" {
			log.Line(fmt.Sprintf("the image is not called %s: another one of that name is here "+
				"already", name))
			continue
		}
		if err := x.on(s.Name).Images().Tag(ctx, s.ImageTag, name); err != nil {
			return err
		}
	}
	return nil
}

// make builds an image, unless the one that is there was built from the same.
func (x images) make(ctx context.Context, n *node, s *plan.Service, spec *engine.BuildSpec,
	sum string, log *logs.Log) error {
	again := spec.NoCache || spec.PullBase || spec.Remote != "" || s.Container.PullPolicy == "build"
	if labels, err := x.on(s.Name).Images().Labels(ctx, s.ImageTag); err != nil {
		return err
	} else if labels[engine.LabelBuild] == sum && !again {
		return nil
	}
	from := s.Build
	if spec.Remote != "" {
		from = spec.Remote
	}
	done := x.announce(n, "building "+from)
	defer done()
	if err := x.on(s.Name).Build(ctx, *spec, log.Line); err != nil {
		words, why := x.said(log)
		return &buildFailure{fmt.Errorf("its image could not be built from %s: %w%s", from, err,
			words), why}
	}
	return nil
}

// buildOf is how a service's image is built, with the sum of all that it comes of: what the build
// can see, what it is given, and the images of this stack that it begins from, which are made
// first.
func (x images) buildOf(ctx context.Context, n *node, s *plan.Service, log *logs.Log,
	way []string) (*engine.BuildSpec, string, error) {
	c := s.Container
	spec := &engine.BuildSpec{Tag: s.ImageTag, Building: c.Building,
		Platform: first(c.Platform, only(c.Platforms)), Dir: filepath.Join(x.Plan().Root,
			filepath.FromSlash(s.Build)), Secrets: map[string][]byte{}}
	for i := range c.BuildHands {
		h := &c.BuildHands[i]
		data := []byte(h.Content)
		if h.File != "" {
			var err error
			if data, err = readNamed(x.Plan().Root, h.File); err != nil {
				return nil, "", fmt.Errorf("the secret %s of its build: %w", h.Name, err)
			}
		}
		spec.Secrets[h.Target] = data
	}
	seen := c.Remote
	if c.Remote == "" {
		// Nothing of it is read through a link that leaves the folder.
		root, err := openContext(x.Plan().Root, s.Build)
		if err != nil {
			return nil, "", fmt.Errorf("the build context can't be read: %w", err)
		}
		spec.Folder = &engine.Folder{FS: reading.Under(root), Dockerfile: path.Clean(c.Dockerfile),
			Inline: c.Inline}
		if err := x.dockerfile(spec, root, s); err != nil {
			return nil, "", err
		}
		if seen, err = x.seen(spec.Folder, s.ImageTag); err != nil {
			return nil, "", fmt.Errorf("the build context can't be read: %w", err)
		}
	}
	h := sha256.New()
	building := c.Building
	building.Tags, building.NoCache, building.PullBase, building.BuildHands = nil, false, false, nil
	data, err := json.Marshal(building)
	if err != nil {
		return nil, "", err
	}
	fmt.Fprintf(h, "%s %s %q %s", x.Plan().ID, seen, spec.Platform, data)
	made := map[string]string{} // the images of other services, by the context that names them
	for _, base := range x.bases(spec, s) {
		if slices.Contains(way, base.Name) {
			return nil, "", fmt.Errorf("its image begins from that of %s, which begins from its "+
				"own", base.Name)
		}
		if err := x.built(ctx, n, &base, log, append(way, s.Name)); err != nil {
			return nil, "", err
		}
		labels, err := x.on(s.Name).Images().Labels(ctx, base.ImageTag)
		if err != nil {
			return nil, "", err
		}
		fmt.Fprintf(h, " %s", labels[engine.LabelBuild])
		made["service:"+base.Name] = "docker-image://" + base.ImageTag
	}
	spec.Contexts = x.contexts(spec.Contexts, made)
	sum := hex.EncodeToString(h.Sum(nil))
	spec.Labels = map[string]string{engine.LabelStack: x.Plan().ID, engine.LabelBuild: sum}
	return spec, sum, nil
}

// contexts are a build's further contexts as the engine takes them: folders of the workspace by
// their full paths, other services by the images that have been made of them.
func (x images) contexts(named, made map[string]string) map[string]string {
	out := maps.Clone(named)
	for name, from := range named {
		if image := made[from]; image != "" {
			out[name] = image
		} else if filepath.IsLocal(filepath.FromSlash(from)) && !strings.Contains(from, "://") {
			out[name] = filepath.Join(x.Plan().Root, filepath.FromSlash(from))
		}
	}
	return out
}

func only(list []string) string {
	if len(list) == 1 {
		return list[0]
	}
	return "" // of several, that of this machine is built
}

// dockerfile reads a build's Dockerfile. One that lies outside of the context goes into the archive
// by its text.
func (x images) dockerfile(spec *engine.BuildSpec, context *os.Root, s *plan.Service) error {
	if spec.Folder.Inline != "" {
		spec.Dockerfile = spec.Folder.Inline
		return nil
	}
	if name := filepath.FromSlash(spec.Folder.Dockerfile); filepath.IsLocal(name) {
		data, err := context.ReadFile(name)
		if errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("its Dockerfile %s does not exist",
				path.Join(s.Build, spec.Folder.Dockerfile))
		}
		spec.Dockerfile = string(data)
		return err
	}
	name := spec.Folder.Dockerfile
	if !path.IsAbs(name) {
		name = path.Join(s.Build, name)
	}
	data, err := readNamed(x.Plan().Root, name)
	if err != nil {
		return fmt.Errorf("its Dockerfile: %w", err)
	}
	spec.Dockerfile, spec.Folder.Inline = string(data), string(data)
	return nil
}

// seen is the sum of what a build can see. While no file was written since, the one that was found
// last is taken.
func (x images) seen(f *engine.Folder, tag string) (string, error) {
	stamp, err := f.Stamp()
	if err != nil {
		return "", err
	}
	if last := x.memory.LookOf(tag); last.Stamp == stamp {
		return last.Sum, nil
	}
	sum, err := f.Sum()
	if err == nil {
		x.memory.Looked(tag, memory.Look{Stamp: stamp, Sum: sum})
	}
	return sum, err
}

var fromImage = expr.New(`(?im)^\s*(?:FROM\s+(?:--\S+\s+)*|COPY\s+(?:--\S+\s+)*--from=)(\S+)`)

// bases are the services of this stack whose images a build begins from, or copies from.
func (x images) bases(spec *engine.BuildSpec, s *plan.Service) (out []plan.Service) {
	named := map[string]bool{}
	for _, m := range fromImage.FindAllStringSubmatch(spec.Dockerfile, -1) {
		named[m[1]], named[m[1]+":latest"] = true, true
	}
	for _, from := range spec.Contexts {
		named[from] = true
	}
	for _, id := range slices.Sorted(maps.Keys(x.Plan().Services)) {
		other := x.Plan().Services[id]
		if other.ImageTag == "" || other.Name == s.Name {
			continue
		}
		ours := named["service:"+other.Name] || other.Image != "" && (named[other.Image] ||
			named[other.Image+":latest"])
		for _, tag := range other.Container.Tags {
			ours = ours || named[tag]
		}
		if ours && (other.Image == "" || other.Image != s.Image) {
			out = append(out, other)
		}
	}
	return out
}

// openContext opens a build's folder. One of the workspace may be no link that leaves it; one that
// the compose file names outside of it is shown for consent as such.
func openContext(root, build string) (*os.Root, error) {
	dir := filepath.FromSlash(build)
	// a pipe would be waited for
	if info, err := os.Stat(filepath.Join(root, dir)); err == nil && !info.IsDir() {
		return nil, fmt.Errorf("%s is no folder", build)
	}
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
	why record.Why
}

// worthSaying is how long something must take for its progress to be told.
const worthSaying = 400 * time.Millisecond

// announce tells what is being done for a node that waits, if it takes long; the function it gives
// tells the end.
func (x images) announce(n *node, text string) (done func()) {
	begin := time.Now()
	said := time.AfterFunc(worthSaying, func() { x.move(n, change{kind: prepares, text: text}) })
	return func() {
		if !said.Stop() {
			x.move(n, change{kind: prepared,
				text: fmt.Sprintf("%s took %.1f s", text, time.Since(begin).Seconds())})
		}
	}
}
