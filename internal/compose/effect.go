package compose

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// lack is why a launch does not obey a key, and what that means.
type lack struct {
	level       stack.Level
	why, remedy string
}

// cluster are keys that say nothing where there is one machine.
var cluster = lack{stack.Note, "counts on a cluster only", "Nothing to do on one machine."}

// unobeyed are the keys that a launch does not act on, each by its path, in which names of the
// person's choice and the items of lists are left out. Whatever else the specification knows is
// acted on, and shown to be by a test that looks at the container, image, network or volume that
// comes of it.
var unobeyed = map[string]lack{
	"provider": {stack.Problem, "asks another program to provide the service, which a launch " +
		"does not call", "Start what it provides yourself, or give the service an image."},
	"models": {stack.Warning, "asks for a language model, which a launch does not run",
		"Run one yourself, and set the variables that name it."},
	"credential_spec":  {stack.Note, "is for containers of Windows", "Nothing to do elsewhere."},
	"driver_opts":      {stack.Note, "belongs below a network of the service", "Move it there."},
	"build.provenance": {stack.Note, "is for images that are published", "Nothing to do here."},
	"build.sbom":       {stack.Note, "is for images that are published", "Nothing to do here."},
	"deploy.mode":      cluster,
	"deploy.labels": {stack.Note,
		"are of the service on a cluster, and not of its container", ""},
	"deploy.endpoint_mode":   cluster,
	"deploy.placement":       cluster,
	"deploy.update_config":   cluster,
	"deploy.rollback_config": cluster,
	"deploy.restart_policy.delay": {stack.Note, "is not waited for: a launch has pauses of its " +
		"own", ""},
	"deploy.restart_policy.window": {stack.Note, "is not waited for: a launch has a window of " +
		"its own", ""},
	"deploy.resources.limits.generic_resources":       cluster,
	"deploy.resources.reservations.generic_resources": cluster,
	"deploy.resources.reservations.cpus":              cluster,
	"deploy.resources.reservations.pids":              cluster,
}

// unobeyedAtTop are those of networks, volumes, secrets and configs.
var unobeyedAtTop = map[string]lack{
	"networks.name": {stack.Note,
		"is not taken: the network gets a name of nharbor's own, so that two copies can " +
			"run side by side",
		"Networks that others made are joined by their name: external: true."},
	"volumes.name": {stack.Note, "is not taken: the volume gets a name of nharbor's own, so " +
		"that two copies don't share data",
		"Volumes that others made are used by their name: external: true."},
	"secrets.external": {stack.Problem, "lives in a cluster's store, and nothing here can give it",
		"Give it a file: or an environment: in an override file."},
	"configs.external": {stack.Problem, "lives in a cluster's store, and nothing here can give it",
		"Give it a file: or a content: in an override file."},
	"secrets.driver": cluster, "secrets.driver_opts": cluster, "secrets.template_driver": cluster,
	"secrets.labels": cluster, "secrets.name": cluster,
	"configs.driver": cluster, "configs.driver_opts": cluster, "configs.template_driver": cluster,
	"configs.labels": cluster, "configs.name": cluster,
}

// nothingToDo are keys that ask for nothing that a launch would do otherwise.
var nothingToDo = map[string]bool{"attach": true, "expose": true}

// withoutEffect remarks each key that is read and not acted on, with those that have it.
func (p *Project) withoutEffect() {
	type found struct {
		at  stack.Place
		who []string
	}
	all := map[string]*found{}
	var walk func(who, path string, v *Value)
	note := func(who, path string, at stack.Place) {
		if all[path] == nil {
			all[path] = &found{at: at}
		}
		if !slices.Contains(all[path].who, who) {
			all[path].who = append(all[path].who, who)
		}
	}
	walk = func(who, path string, v *Value) {
		for _, m := range v.orEmpty().Members {
			key := join(path, m.Key)
			if _, not := unobeyed[key]; not {
				if key != "deploy.mode" || m.Value.or("") != "replicated" {
					note(who, key, stack.Place{File: m.Value.File, Line: m.Line})
				}
				continue
			}
			if deeper[key] {
				walk(who, key, m.Value)
			}
		}
	}
	for _, m := range p.Model.Get("services").orEmpty().Members {
		if s := p.Service(m.Key); s == nil || s.Active {
			walk(m.Key, "", m.Value)
		}
	}
	p.atTop(note)
	for _, path := range slices.SortedFunc(maps.Keys(all), func(a, b string) int {
		return cmp.Or(strings.Compare(all[a].at.File, all[b].at.File),
			all[a].at.Line-all[b].at.Line, strings.Compare(a, b))
	}) {
		why, ok := unobeyedAtTop[path]
		if !ok {
			why = unobeyed[path]
		}
		p.Remarks = append(p.Remarks,
			stack.Remark{Level: why.level, Code: stack.CodeComposeKeyWithoutEffect,
				At: all[path].at, Text: fmt.Sprintf("%s (%s) %s", path,
					strings.Join(all[path].who, ", "), why.why), Remedy: why.remedy})
	}
}

// atTop notes keys of networks, volumes, secrets and configs that a launch does not act on.
func (p *Project) atTop(note func(who, path string, at stack.Place)) {
	for _, section := range []string{"networks", "volumes", "secrets", "configs"} {
		for _, m := range p.Model.Get(section).orEmpty().Members {
			for _, k := range m.Value.orEmpty().Members {
				key := section + "." + k.Key
				if _, not := unobeyedAtTop[key]; not && !harmless(key, k.Value, m.Value) {
					note(m.Key, key, stack.Place{File: k.Value.File, Line: k.Line})
				}
			}
		}
	}
}

// deeper are the keys inside of which some are not acted on.
var deeper = func() map[string]bool {
	out := map[string]bool{}
	for path := range unobeyed {
		for i := range path {
			if path[i] == '.' {
				out[path[:i]] = true
			}
		}
	}
	return out
}()

// harmless reports whether a key that is not acted on says what is done anyway.
func harmless(path string, v, in *Value) bool {
	switch path {
	case "networks.name", "volumes.name":
		return truth(in.Get("external"))
	case "secrets.external", "configs.external":
		return !truth(v)
	}
	return false
}

// Obeyed lists the keys that a launch acts on, each by its path below services, build, networks,
// volumes, secrets and configs.
func Obeyed() []string {
	var out []string
	add := func(section, path string, keys map[string]rule, not map[string]lack) {
		for key := range keys {
			if _, lacks := not[path+key]; !lacks &&
				!(section == "services" && (nothingToDo[key] || key == "extends")) {
				out = append(out, section+"."+key)
			}
		}
	}
	add("services", "", serviceKeys, unobeyed)
	add("build", "build.", buildKeys, unobeyed)
	add("networks", "networks.", networkKeys, unobeyedAtTop)
	add("volumes", "volumes.", volumeKeys, unobeyedAtTop)
	add("secrets", "secrets.", fileKeys, unobeyedAtTop)
	add("configs", "configs.", fileKeys, unobeyedAtTop)
	slices.Sort(out)
	return out
}
