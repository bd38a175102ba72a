package launch

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
)

// prints are what a launch was made from, as sums: of files, of services with their settings, of steps with their
// inputs, and the checkouts' commits.
type prints struct {
	Files    map[string]string `json:"files"`
	Services map[string]string `json:"services"`
	Steps    map[string]string `json:"steps"`
	Commits  map[string]string `json:"commits"`
}

// Changes tells what has changed since a stack was launched, and what of it that concerns.
func Changes(r *Record, now *Plan) stack.Changed {
	out := stack.Changed{Files: []string{}, Services: []string{}, Steps: []string{}, Commits: []string{}}
	if r == nil || r.Prints == nil {
		return out
	}
	then, p := r.Prints, now.prints()
	for _, name := range slices.Sorted(maps.Keys(then.Files)) {
		if sumFile(now.Root, name) != then.Files[name] {
			out.Files = append(out.Files, name)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.Services)) {
		if old, launched := then.Services[id]; launched && old != p.Services[id] {
			out.Services = append(out.Services, order.Title(id))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.Steps)) {
		if old, launched := then.Steps[id]; p.Steps[id] != "" && (!launched || old != p.Steps[id]) {
			out.Steps = append(out.Steps, order.Title(id))
		}
	}
	for _, path := range slices.Sorted(maps.Keys(p.Commits)) {
		if old := then.Commits[path]; old != "" && p.Commits[path] != "" && old != p.Commits[path] {
			out.Commits = append(out.Commits, path)
		}
	}
	switch {
	case len(out.Services)+len(out.Steps) > 0:
		names := slices.Concat(out.Services, now.servicesBehind(out.Steps, p.Steps))
		slices.Sort(names)
		out.Remedy = "nharbor restart " + strings.Join(slices.Compact(names), " ")
	}
	return out
}

// servicesBehind lists the services to which the steps lead, without another service between.
func (p *Plan) servicesBehind(titles []string, ids map[string]string) []string {
	behind := map[string]bool{}
	for id := range ids {
		behind[id] = slices.Contains(titles, order.Title(id))
	}
	var out []string
	for _, n := range p.Order.Nodes { // each comes after those it waits for
		for _, e := range n.After {
			if !behind[e.ID] {
				continue
			}
			if n.Kind == "step" {
				behind[n.ID] = true
			} else {
				out = append(out, order.Title(n.ID))
				break
			}
		}
	}
	return out
}

// prints sums up the plan and the files that it was made from.
func (p *Plan) prints() *prints {
	out := &prints{Files: map[string]string{}, Services: map[string]string{}, Steps: map[string]string{},
		Commits: p.Commits}
	for _, name := range p.Inputs {
		out.Files[name] = sumFile(p.Root, name)
	}
	for id, s := range p.Services {
		var ports [][2]int
		for _, port := range s.Ports {
			ports = append(ports, [2]int{port.Host, port.Target})
		}
		container := stack.ContainerSpec{}
		if s.Container != nil {
			container = *s.Container
			container.Mounts = slices.Clone(container.Mounts)
			for i := range container.Mounts {
				container.Mounts[i].At = stack.Place{}
			}
		}
		// The workspace's id salts the sum: it holds settings that are secret.
		data, err := json.Marshal([]any{p.ID, s.Runs, s.Command, s.Image, s.Build, s.Service.Dir(), s.own, ports,
			container})
		if err == nil {
			sum := sha256.Sum256(data)
			out.Services[id] = hex.EncodeToString(sum[:])
		}
	}
	m := &Memory{root: p.Root}
	for id, s := range p.Steps {
		if s.Role != stack.Create && s.Role != stack.Seed {
			out.Steps[id] = m.Digest(p.Root, &Step{Step: s.Step}, "")
		}
	}
	return out
}

// sumFile is a file's sum; empty for one that isn't there.
func sumFile(root, name string) string {
	h := sha256.New()
	if err := sum(h, root, filepath.Join(root, filepath.FromSlash(name))); err != nil {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

// inputs lists the files that a plan is made from: compose and settings files, corrections, and what its steps depend
// on.
func (p *Plan) inputs(s *stack.Stack) {
	in := map[string]bool{}
	for _, f := range s.ComposeFiles {
		if f.Active {
			in[f.Path] = true
		}
	}
	for _, svc := range p.Services {
		for _, ref := range svc.EnvFiles {
			in[ref.Path] = true
		}
	}
	for _, step := range p.Steps {
		for _, name := range step.Inputs {
			in[name] = true
		}
	}
	in["nharbor.toml"], in["nharbor.local.toml"] = true, true
	for name := range in {
		if !fs.ValidPath(name) {
			delete(in, name) // outside of the workspace
		} else if _, err := os.Stat(filepath.Join(p.Root, filepath.FromSlash(name))); err != nil &&
			!strings.HasSuffix(name, ".toml") {
			delete(in, name)
		}
	}
	p.Inputs = slices.Sorted(maps.Keys(in))
	p.Commits = map[string]string{}
	for _, c := range s.Checkouts {
		p.Commits[c.Path] = c.Commit
	}
}
