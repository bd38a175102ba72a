package needs

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// outside is what the services want of the engine that the launch does not make.
func (a *asker) outside(services []*stack.Service) engine.Outside {
	out := engine.Outside{Images: map[string]string{}}
	a.each(services, func(_ *stack.Service, kind, name string) {
		switch kind {
		case "network":
			out.Networks = append(out.Networks, name)
		case "volume":
			out.Volumes = append(out.Volumes, name)
		case "runtime":
			out.Runtimes = append(out.Runtimes, name)
		default:
			if out.Drivers == nil {
				out.Drivers = map[string][]string{}
			}
			kind = strings.TrimSuffix(kind, " driver")
			out.Drivers[kind] = append(out.Drivers[kind], name)
		}
	})
	for _, s := range services {
		for _, b := range a.basesOf(s) {
			if out.Builds == nil {
				out.Builds = map[string][]string{}
			}
			out.Images[b.Image] = s.Container.Platform
			out.Builds[b.Image] = append(out.Builds[b.Image], workspace.ImageOf(a.stack.Root, s.Name))
		}
		if s.Runs == stack.Container && s.Container != nil && s.Build == "" &&
			s.Container.Remote == "" && s.Image != "" {
			if a.madeHere(s) != nil {
				out.Made = append(out.Made, s.Image)
				continue // no registry is asked for it
			}
			out.Images[s.Image] = s.Container.Platform
		}
	}
	return out
}

// basesOf are the images of others that a service is built on; none where it isn't built, and of
// those none that another service of the stack makes.
func (a *asker) basesOf(s *stack.Service) (out []stack.BaseImage) {
	if s.Runs != stack.Container || s.Container == nil || s.Build == "" {
		return nil
	}
	for _, b := range s.Bases {
		made := slices.ContainsFunc(a.stack.Services, func(o stack.Service) bool {
			return o.Build != "" && o.Container != nil &&
				(o.Image == b.Image || slices.Contains(o.Container.Tags, b.Image))
		})
		if _, context := s.Container.Contexts[b.Image]; !made && !context {
			out = append(out, b)
		}
	}
	return out
}

// madeHere is the remark that a project of the workspace makes a service's image; nil if none does.
func (a *asker) madeHere(s *stack.Service) *stack.Remark {
	i := slices.IndexFunc(a.stack.Remarks, func(r stack.Remark) bool {
		return r.Code == stack.CodeImageOfProject && r.About == stack.AboutService(s.Name)
	})
	if i < 0 {
		return nil
	}
	return &a.stack.Remarks[i]
}

// each calls f for each network and volume of others, each driver and each runtime that a service
// uses, by its name on the engine.
func (a *asker) each(services []*stack.Service, f func(s *stack.Service, kind, name string)) {
	for _, s := range services {
		if s.Runs != stack.Container || s.Container == nil {
			continue
		}
		for _, n := range s.Container.Networks {
			if known := a.stack.Networks[n]; known.External {
				f(s, "network", cmp.Or(known.Name, n))
			} else if known.Driver != "" {
				f(s, "network driver", known.Driver)
			}
		}
		for _, m := range s.Container.Mounts {
			if known := a.stack.Volumes[m.Source]; m.Type == "volume" && known.External {
				f(s, "volume", cmp.Or(known.Name, m.Source))
			} else if m.Type == "volume" && known.Driver != "" {
				f(s, "volume driver", known.Driver)
			}
		}
		if l := s.Container.Logging; l != nil && l.Driver != "" && l.Driver != "none" {
			f(s, "log driver", l.Driver)
		}
		if s.Container.Runtime != "" {
			f(s, "runtime", s.Container.Runtime)
		}
	}
}

// ofEngine asks for networks and volumes that others make, for images that must be fetched, and for
// what an engine may be too old for.
func (a *asker) ofEngine(services []*stack.Service) {
	a.each(services, func(s *stack.Service, kind, name string) {
		what, how := kind+" "+name, "made by others"
		lacks, theirs := slices.Contains(a.engineIs.Lacks, what), kind == "network" ||
			kind == "volume"
		if !theirs {
			how = "known to the engine"
		}
		if a.wantedToo(what, how, s.Name, s.At) || !theirs && !lacks {
			return // a driver that is there is worth no word
		}
		n := Need{Name: what, Kind: Engine, Wanted: how + ", for " + s.Name, Found: "there",
			Met: true, Level: Required, Because: []stack.Place{s.At}, For: []string{s.Name}}
		if lacks {
			n.Found, n.Met = "the engine has none of that name", false
			n.Remedy = fmt.Sprintf("Start what makes it, or make it: docker %s create %s", kind,
				name)
			if !theirs {
				n.Remedy = "Install it into the engine, or name another one in an override file."
			}
		}
		a.needs = append(a.needs, n)
	})
	for _, s := range services {
		if s.Runs == stack.Container && s.Container != nil {
			a.imagesOf(s)
			a.newerThan(s)
		}
	}
}

// imagesOf asks for the images that a service is made of, where nothing here makes them.
func (a *asker) imagesOf(s *stack.Service) {
	if r := a.madeHere(s); r != nil && slices.Contains(a.engineIs.Lacks, "image "+s.Image) {
		a.lacksImage(s, Engine, s.Image, s.At, "nobody has made it yet, and a project here does",
			r.Remedy)
	}
	if why, not := a.engineIs.Images[s.Image]; not && s.Build == "" {
		a.lacksImage(s, Image, s.Image, s.At, why.Cause, why.Remedy)
	}
	for _, b := range a.basesOf(s) {
		if why, not := a.engineIs.Images[b.Image]; not {
			a.lacksImage(s, Image, b.Image, b.At, why.Cause, why.Remedy)
		}
	}
}

// newerThan asks for the engine that obeys each key of a service.
func (a *asker) newerThan(s *stack.Service) {
	for _, f := range engine.TooOldFor(a.engineIs.API, s.Container) {
		n := Need{Name: f.Key, Kind: Engine, Wanted: "an engine with API " + f.From +
			", for " + s.Name,
			Found: "API " + a.engineIs.API, Level: Optional, Because: []stack.Place{s.At},
			For: []string{s.Name}, Remedy: "It is left out; a newer engine obeys it."}
		if f.Must {
			n.Level, n.Remedy = Required, "Install a newer container engine, or do without "+
				"it in an override file."
		}
		a.needs = append(a.needs, n)
	}
}

// lacksImage adds the need of an image that can't be had as it is.
func (a *asker) lacksImage(s *stack.Service, kind Kind, image string, at stack.Place, found,
	remedy string) {
	wanted := "to be had"
	if image != s.Image {
		wanted = "to be built on"
	}
	name := "image " + image
	if a.wantedToo(name, wanted, s.Name, at) {
		return
	}
	a.needs = append(a.needs, Need{Name: name, Kind: kind, Wanted: wanted + ", for " + s.Name,
		Found: found, Level: Required, Because: []stack.Place{at}, For: []string{s.Name},
		Remedy: remedy})
}
