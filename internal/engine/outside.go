package engine

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/stack"
)

// Outside is what a launch needs of an engine and does not make itself.
type Outside struct {
	Networks []string
	Volumes  []string
	Drivers  map[string][]string // by what they are for: "volume", "network", "log"
	Runtimes []string
	// the platform that is wanted, empty for the engine's own, by reference
	Images map[string]string
	// Builds are, by such an image that others are built on, what those are called: where one of
	// them has been built the image is not asked for again.
	Builds map[string][]string
	Made   []string // images that only this machine can have
}

// Seen is what an engine has of what was asked for.
type Seen struct {
	Version string
	API     string
	// Lacks are of the networks and volumes "network NAME" and "volume NAME", of the drivers
	// "volume driver NAME" and so on, "runtime NAME", and of the images that were made here "image
	// NAME".
	Lacks  []string
	Images map[string]diagnose.Finding // of images that are neither here nor to be had: why
	// Fetches is roughly what the images take that are not here and whose registry told their size,
	// in bytes.
	Fetches uint64
	Keeps   string // the folder in which it keeps images, of one on this machine
	Remote  bool
	Memory  uint64        // of its machine, in bytes; zero where it isn't known
	Ahead   time.Duration // of this machine's clock is its own

	platform string
}

// telling are the reasons for which fetching would fail too.
var telling = map[string]bool{"image-login": true, "image-denied": true, "image-absent": true,
	"image-unreachable": true}

// patience is how long a registry may take to say whether it has an image.
const patience = 8 * time.Second

// Look tells what the engine has. Registries are asked at the same time, for images that are not
// here: the usual one, those with a login and those on this machine, since a launch looks before
// anybody has vouched for the checkout.
func (e *Engine) Look(ctx context.Context, want Outside) (Seen, error) {
	out := Seen{Version: e.Version, API: e.cli.ClientVersion(),
		Images: map[string]diagnose.Finding{}, Remote: e.Remote}
	if err := e.lacks(ctx, want, &out); err != nil {
		return out, err
	}
	e.itself(ctx, want, &out)
	var mu sync.Mutex
	var wait beside.Group
	logins := readLogins()
	for ref, platform := range want.Images {
		if !logins.knows(registryOf(ref)) {
			continue // a checkout's word alone makes nobody call there
		}
		wait.Go(func() {
			for _, image := range append([]string{ref}, want.Builds[ref]...) {
				if has, err := e.Images().Has(ctx, image); err != nil || has {
					return
				}
			}
			ctx, cancel := context.WithTimeout(ctx, patience)
			defer cancel()
			_, err := e.cli.DistributionInspect(ctx, ref, client.DistributionInspectOptions{
				EncodedRegistryAuth: loginFor(ctx, ref)})
			if err == nil {
				if size, ok := sizeOf(ctx, ref, cmp.Or(platform, out.platform)); ok {
					mu.Lock()
					defer mu.Unlock()
					out.Fetches += size
				}
				return
			}
			why := imageFinding(ref, platform, err)
			if !telling[why.Code] || strings.Contains(strings.ToLower(err.Error()),
				"page not found") {
				return // an engine that doesn't know the question, or an answer that says nothing of a pull
			}
			mu.Lock()
			defer mu.Unlock()
			out.Images[ref] = why
		})
	}
	wait.Wait()
	return out, nil
}

// lacks notes the networks, volumes and images wanted that the engine doesn't have.
func (e *Engine) lacks(ctx context.Context, want Outside, out *Seen) error {
	note := func(names []string, kind string, inspect func(name string) error) error {
		for _, name := range names {
			if err := inspect(name); IsNotFound(err) {
				out.Lacks = append(out.Lacks, kind+" "+name)
			} else if err != nil {
				return err
			}
		}
		return nil
	}
	err := note(want.Networks, "network", func(name string) error {
		_, err := e.cli.NetworkInspect(ctx, name, client.NetworkInspectOptions{})
		return err
	})
	if err == nil {
		err = note(want.Volumes, "volume", func(name string) error {
			_, err := e.cli.VolumeInspect(ctx, name, client.VolumeInspectOptions{})
			return err
		})
	}
	if err == nil {
		err = note(want.Made, "image", func(name string) error {
			_, err := e.cli.ImageInspect(ctx, name)
			return err
		})
	}
	return err
}

// itself finds what an engine says of its machine, and which drivers and runtimes it doesn't have.
func (e *Engine) itself(ctx context.Context, want Outside, out *Seen) {
	asked := time.Now()
	r, err := e.cli.Info(ctx, client.InfoOptions{})
	if err != nil {
		return // what it doesn't tell is no lack
	}
	out.Memory, out.platform = uint64(max(r.Info.MemTotal,
		0)), r.Info.OSType+"/"+r.Info.Architecture
	if !e.Remote {
		out.Keeps = r.Info.DockerRootDir
	}
	if at, err := time.Parse(time.RFC3339Nano, r.Info.SystemTime); err == nil {
		out.Ahead = at.Sub(asked.Add(time.Since(asked) / 2)) // as if it was read half-way
	}
	has := map[string][]string{"volume": r.Info.Plugins.Volume, "network": r.Info.Plugins.Network,
		"log": r.Info.Plugins.Log}
	for _, kind := range slices.Sorted(maps.Keys(want.Drivers)) {
		for _, name := range want.Drivers[kind] {
			if !slices.Contains(has[kind], name) && len(has[kind]) > 0 {
				out.Lacks = append(out.Lacks, kind+" driver "+name)
			}
		}
	}
	for _, name := range want.Runtimes {
		if _, ok := r.Info.Runtimes[name]; !ok && len(r.Info.Runtimes) > 0 {
			out.Lacks = append(out.Lacks, "runtime "+name)
		}
	}
}

func imageFinding(ref, platform string, err error) diagnose.Finding {
	host := registryOf(ref)
	if host == hub {
		host = "docker.io"
	}
	return (&diagnose.Image{Ref: ref, Registry: host, Platform: platform,
		Why: err.Error()}).Explain()
}

// PullError is an image that could not be fetched, with why.
type PullError struct {
	Ref     string
	Finding diagnose.Finding
	Cause   error
}

func (e *PullError) Error() string {
	return fmt.Sprintf("the image %s could not be fetched: %s", e.Ref, e.Finding.Cause)
}

func (e *PullError) Unwrap() error { return e.Cause }

// feature is something that an engine knows from a version of its API on.
type feature struct {
	key  string
	from string
	// must is true where the service won't work without it.
	must bool
	asks func(c *stack.ContainerSpec) bool
}

var features = []feature{
	{"mac_address", "1.44", false, func(c *stack.ContainerSpec) bool {
		return attached(c, func(a stack.Attach) bool { return a.MAC != "" })
	}},
	{"gw_priority", "1.48", false, func(c *stack.ContainerSpec) bool {
		return attached(c, func(a stack.Attach) bool { return a.Gateway != 0 })
	}},
	{"annotations", "1.43", false,
		func(c *stack.ContainerSpec) bool { return len(c.Annotations) > 0 }},
	{"healthcheck.start_interval", "1.44", false,
		func(c *stack.ContainerSpec) bool { return c.Health != nil && c.Health.StartInterval > 0 }},
	{"volumes of type image", "1.48", true, func(c *stack.ContainerSpec) bool {
		return slices.ContainsFunc(c.Mounts, func(m stack.Mount) bool { return m.Type == "image" })
	}},
	{"volume.subpath", "1.45", true, func(c *stack.ContainerSpec) bool {
		return slices.ContainsFunc(c.Mounts,
			func(m stack.Mount) bool { return m.Type == "volume" && m.Subpath != "" })
	}},
	{"bind.recursive: writable or readonly", "1.44", true, func(c *stack.ContainerSpec) bool {
		return slices.ContainsFunc(c.Mounts, func(m stack.Mount) bool {
			return m.Recursive == "writable" || m.Recursive == "readonly"
		})
	}},
}

func attached(c *stack.ContainerSpec, is func(stack.Attach) bool) bool {
	for _, a := range c.Attached {
		if is(a) {
			return true
		}
	}
	return false
}

// Feature is something that a service asks for and that an engine is too old for.
type Feature struct {
	Key  string
	From string // the version of the API from which on engines know it
	Must bool   // the service won't work without it
}

// TooOldFor lists what a container asks for that an engine of this version of the API doesn't know.
func TooOldFor(api string, c *stack.ContainerSpec) (out []Feature) {
	for _, f := range features {
		if f.asks(c) && older(api, f.from) {
			out = append(out, Feature{f.key, f.from, f.must})
		}
	}
	return out
}

// older compares two versions of the API, which are a major and a minor number.
func older(a, b string) bool {
	var a1, a2, b1, b2 int
	if _, err := fmt.Sscanf(a+" "+b, "%d.%d %d.%d", &a1, &a2, &b1, &b2); err != nil {
		return false
	}
	return a1 < b1 || a1 == b1 && a2 < b2
}
