package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/moby/moby/api/types/build"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// BuildSpec is an image to build.
type BuildSpec struct {
	Folder  *Folder   // what it is built from; nil for Building.Remote
	Archive io.Reader // instead of a folder: the same as a tar archive, with a Dockerfile
	// where the folder lies on this machine, for the engine's own build command
	Dir        string
	Dockerfile string // its text, as far as it is known
	Tag        string
	Labels     map[string]string
	Platform   string
	Secrets    map[string][]byte // by their ids
	stack.Building
}

// newer finds what only the newer of the engine's two builders knows: mounts of a RUN, texts inside
// of a Dockerfile, the variables of platforms.
var newer = expr.New(`(?im)^[^#\n]*(--(mount|network|security|link|chmod|parents|exclude|checksum|keep-git-dir)\b` +
	`|\b(BUILD|TARGET)(PLATFORM|OS|ARCH|VARIANT)\b)|^\s*(RUN|COPY|ADD)\s.*<<-?["']?[A-Za-z_]`)

// ErrBuildCommand says that a build needs the engine's own build command, which is not there.
var ErrBuildCommand = errors.New("the engine's own build command (docker buildx) is not " +
	"installed, and the engine's interface can't do this")

// needsCommand names what of a build the engine's interface can't be asked for; empty where there
// is nothing.
func (s *BuildSpec) needsCommand() string {
	switch {
	case len(s.Contexts) > 0:
		return "additional_contexts"
	case len(s.SSH) > 0:
		return "ssh"
	case len(s.CacheTo) > 0:
		return "cache_to"
	case len(s.Entitlements) > 0 || s.BuildAsRoot:
		return "entitlements"
	}
	return ""
}

// Build builds an image and reports what is said on the way, line by line. It wraps ErrBuildCommand
// where the build asks for something that neither the engine's interface nor a command that is
// installed can do.
func (e *Engine) Build(ctx context.Context, spec BuildSpec, progress func(string)) error {
	if why := spec.needsCommand(); why != "" {
		if err := e.buildByCommand(ctx, spec, progress); err != nil {
			return fmt.Errorf("%s: %w", why, err)
		}
		return nil
	}
	err := e.build(ctx, spec, progress)
	if err != nil && cacheLost.MatchString(err.Error()) && spec.Archive == nil && !spec.NoCache {
		if progress != nil {
			progress("a layer of the engine's cache was removed meanwhile: built again without it")
		}
		spec.NoCache = true
		return e.build(ctx, spec, progress)
	}
	return err
}

// cacheLost is what an engine says when somebody removes, while it builds, a layer that it was
// about to take from its cache.
var cacheLost = expr.New(`(?i)(unable to find image "|no such image: )sha256:`)

// build builds by the engine's interface.
func (e *Engine) build(ctx context.Context, spec BuildSpec, progress func(string)) error {
	options := client.ImageBuildOptions{
		Tags: []string{spec.Tag}, Target: spec.Target, BuildArgs: map[string]*string{},
		Remove: true, ForceRemove: true,
		Labels: ourLabels(spec.BuildLabels,
			spec.Labels), NetworkMode: spec.BuildNetwork, ShmSize: spec.BuildShm,
		NoCache: spec.NoCache, PullParent: spec.PullBase, CacheFrom: spec.CacheFrom,
		Isolation: container.Isolation(spec.BuildIsolate), Version: build.BuilderV1,
		RemoteContext: spec.Remote,
		AuthConfigs:   savedLogins(),
	}
	for k, v := range spec.BuildArgs {
		options.BuildArgs[k] = &v
	}
	for _, h := range spec.BuildHosts {
		options.ExtraHosts = append(options.ExtraHosts, strings.Replace(h, "=", ":", 1))
	}
	for _, u := range spec.BuildUlimits {
		options.Ulimits = append(options.Ulimits,
			&container.Ulimit{Name: u.Name, Soft: u.Soft, Hard: u.Hard})
	}
	if platform, err := platformOf(spec.Platform); err != nil {
		return err
	} else if platform != nil {
		options.Platforms = []ocispec.Platform{*platform}
	}
	if len(spec.Secrets) > 0 || newer.MatchString(spec.Dockerfile) || e.buildsNewer(ctx) {
		options.Version = build.BuilderBuildKit
	}
	if len(spec.Secrets) > 0 {
		s, err := e.openSession(ctx, spec.Secrets)
		if err != nil {
			return err
		}
		defer s.Close()
		options.SessionID = s.ID
	}
	options.Dockerfile = spec.Building.Dockerfile
	var archive io.Reader
	if spec.Folder != nil {
		options.Dockerfile = spec.Folder.Name()
		r, w := io.Pipe()
		defer r.Close() // which ends the writer
		go func() { w.CloseWithError(spec.Folder.Archive(w)) }()
		archive = r
	} else if spec.Archive != nil {
		options.Dockerfile, archive = "Dockerfile", spec.Archive
	}
	resp, err := e.cli.ImageBuild(ctx, archive, options)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return follow(resp.Body, progress)
}

// buildsNewer reports whether the engine builds by its newer builder when it is not told by which.
func (e *Engine) buildsNewer(ctx context.Context) bool {
	ping, err := e.cli.Ping(ctx, client.PingOptions{})
	return err == nil && ping.BuilderVersion == build.BuilderBuildKit
}

// buildByCommand builds by the engine's own command. No secret and no value of an argument stands
// in its words.
func (e *Engine) buildByCommand(ctx context.Context, spec BuildSpec, progress func(string)) error {
	program, err := exec.LookPath("docker")
	if err != nil {
		return ErrBuildCommand
	}
	if exec.CommandContext(ctx, program, "buildx", "version").Run() != nil {
		return ErrBuildCommand
	}
	args := []string{"--host=" + e.Address, "buildx", "build", "--load", "--progress=plain",
		"--tag=" + spec.Tag}
	env := os.Environ()
	each := func(flag string, values ...string) {
		for _, v := range values {
			args = append(args, "--"+flag+"="+v)
		}
	}
	labels := ourLabels(spec.BuildLabels, spec.Labels)
	for _, key := range slices.Sorted(keysOf(labels)) {
		each("label", key+"="+labels[key])
	}
	for _, key := range slices.Sorted(keysOf(spec.BuildArgs)) {
		each("build-arg", key)
		env = append(env, key+"="+spec.BuildArgs[key])
	}
	for _, name := range slices.Sorted(keysOf(spec.Contexts)) {
		each("build-context", name+"="+spec.Contexts[name])
	}
	for _, name := range slices.Sorted(keysOf(spec.SSH)) {
		each("ssh", strings.TrimSuffix(name+"="+spec.SSH[name], "="))
	}
	for i, id := range slices.Sorted(keysOf(spec.Secrets)) {
		variable := "NIMBLEHARBOR_BUILD_SECRET_" + strconv.Itoa(i)
		each("secret", "id="+id+",env="+variable)
		env = append(env, variable+"="+string(spec.Secrets[id]))
	}
	each("cache-from", spec.CacheFrom...)
	each("cache-to", spec.CacheTo...)
	each("allow", spec.Entitlements...)
	each("add-host", spec.BuildHosts...)
	for flag, value := range map[string]string{"target": spec.Target, "network": spec.BuildNetwork,
		"platform": spec.Platform} {
		if value != "" {
			each(flag, value)
		}
	}
	if spec.NoCache {
		args = append(args, "--no-cache")
	}
	if spec.PullBase {
		args = append(args, "--pull")
	}
	from := spec.Remote
	input := io.Reader(nil)
	if spec.Folder != nil {
		from = spec.Dir
		if spec.Folder.Inline != "" {
			each("file", "-")
			input = strings.NewReader(spec.Folder.Inline)
		} else {
			each("file", spec.Dir+string(os.PathSeparator)+spec.Folder.Dockerfile)
		}
	} else if spec.Building.Dockerfile != "" {
		each("file", spec.Building.Dockerfile)
	}
	cmd := exec.CommandContext(ctx, program, append(args, "--", from)...)
	cmd.Env, cmd.Stdin = append(env, "DOCKER_BUILDKIT=1"), input
	lines := &Lines{Line: progress}
	cmd.Stdout, cmd.Stderr = lines, lines
	err = cmd.Run()
	lines.Flush()
	return err
}

func keysOf[V any](m map[string]V) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for k := range m {
			if !yield(k) {
				return
			}
		}
	}
}

// follow reads the engine's stream of messages; one of them may be an error.
func follow(body io.Reader, progress func(string)) error {
	d := json.NewDecoder(body)
	layers := layers{}
	trace := tracer{say: progress, names: map[string]string{}}
	for {
		var m struct {
			Stream, Status, ID, Error string
			Progress                  string
			ProgressDetail            struct{ Current, Total int64 }
			Aux                       json.RawMessage
		}
		if err := d.Decode(&m); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if m.Error != "" {
			return errors.New(m.Error)
		}
		if m.ID == traceID {
			trace.read(m.Aux)
			continue
		}
		if layers.heard(m.ID, m.Status, m.ProgressDetail.Current,
			m.ProgressDetail.Total); progress != nil {
			if text := layers.tell(time.Now()); text != "" {
				progress(text)
			}
		}
		line := strings.TrimSpace(m.Stream + strings.TrimSpace(m.ID+" "+m.Status))
		if line != "" && progress != nil && m.Progress == "" && !strings.HasPrefix(line, "--->") &&
			!strings.HasPrefix(line, "Removing intermediate container") {
			progress(line)
		}
	}
}
