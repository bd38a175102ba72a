package plan

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

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/stack"
)

// Prints are what a launch was made from, as sums: of files, of services with their settings, of
// steps with their inputs, and the checkouts' commits.
type Prints struct {
	Files    map[string]string       `json:"files"`
	Services map[stack.NodeID]string `json:"services"`
	Steps    map[stack.NodeID]string `json:"steps"`
	Commits  map[string]string       `json:"commits"`
}

// Changes tells what has changed since a stack was launched, and what of it that concerns.
func Changes(then *Prints, now *Plan) stack.Changed {
	out := stack.Changed{Files: []string{}, Services: []string{}, Steps: []string{},
		Commits: []string{}}
	if then == nil {
		return out
	}
	p := now.prints()
	done := now.done()
	// what a step has made or read itself since the launch began, such as its lock file
	known := map[string]bool{}
	for id := range done {
		for _, in := range now.Steps[id].Inputs {
			known[in] = true
		}
	}
	for _, name := range slices.Sorted(maps.Keys(then.Files)) {
		if !known[name] && memory.Sum(now.Root, name) != then.Files[name] {
			out.Files = append(out.Files, name)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.Services)) {
		if old, launched := then.Services[id]; launched && old != p.Services[id] {
			out.Services = append(out.Services, id.Title())
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.Steps)) {
		if old, launched := then.Steps[id]; p.Steps[id] != "" && !done[id] &&
			(!launched || old != p.Steps[id]) {
			out.Steps = append(out.Steps, id.Title())
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

// done are the steps of the plan that would not be done again, by what is remembered.
func (p *Plan) done() map[stack.NodeID]bool {
	out := map[stack.NodeID]bool{}
	m := memory.Recall(p.Root)
	for id, s := range p.Steps {
		if m.Done(&s.Work, memory.Digest(p.Root, &s.Work, "")) {
			out[id] = true
		}
	}
	return out
}

// servicesBehind lists the services to which the steps lead, without another service between.
func (p *Plan) servicesBehind(titles []string, ids map[stack.NodeID]string) []string {
	behind := map[stack.NodeID]bool{}
	for id := range ids {
		behind[id] = slices.Contains(titles, id.Title())
	}
	var out []string
	for _, n := range p.Order.Nodes { // each comes after those it waits for
		for _, e := range n.After {
			if !behind[e.ID] {
				continue
			}
			if n.ID.IsStep() {
				behind[n.ID] = true
			} else {
				out = append(out, n.ID.Title())
				break
			}
		}
	}
	return out
}

// prints sums up the plan and the files that it was made from.
func (p *Plan) prints() *Prints {
	out := &Prints{Files: map[string]string{}, Services: map[stack.NodeID]string{},
		Steps: map[stack.NodeID]string{}, Commits: p.Commits}
	for _, name := range p.Inputs {
		out.Files[name] = memory.Sum(p.Root, name)
	}
	for id, s := range p.Services {
		var ports [][2]int
		for _, port := range s.Ports {
			if port.Said < 0 {
				continue
			}
			if port.Said > 0 {
				port.Host, port.Target = port.Said, port.Said
			}
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
		data, err := json.Marshal([]any{p.ID, s.Runs, s.Command, s.Image, s.Build, s.dir, s.own,
			ports, container})
		if err == nil {
			sum := sha256.Sum256(data)
			out.Services[id] = hex.EncodeToString(sum[:])
		}
	}
	for id, s := range p.Steps {
		if s.Role != stack.Create && s.Role != stack.Seed {
			work := s.Work
			work.Env = nil
			out.Steps[id] = memory.Digest(p.Root, &work, "")
		}
	}
	return out
}

// inputs lists the files that a plan is made from: compose and settings files, corrections, and
// what its steps depend on.
func (p *Plan) inputs(s *stack.Stack) {
	in := map[string]bool{}
	for _, f := range s.ComposeFiles {
		if f.Active {
			in[f.Path] = true
		}
	}
	for _, svc := range p.Services {
		for _, name := range svc.files {
			in[name] = true
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
