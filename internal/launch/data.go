package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// dataOf tells the content of the databases that a node works on: what was done to one is to be done again to its
// successor of the same name. It is empty for a node that works on none that is known.
func (x *Executor) dataOf(n *node) string {
	if n.step != nil && n.step.Role.Rank() < stack.Create.Rank() {
		return ""
	}
	var out []string
	for _, o := range x.plan().Order.Nodes {
		if o.ID != n.id {
			continue
		}
		for _, e := range o.After {
			if svc, ok := x.plan().Services[e.ID]; ok && svc.Kind == stack.Lasting {
				out = append(out, x.dataOfService(&svc))
			}
		}
	}
	// Steps wait for each other, and only the first may wait for the database itself.
	if n.step != nil && len(out) == 0 {
		for _, svc := range x.plan().Services {
			if svc.Runs == stack.Native && svc.Project == projectOf(x.plan(), n.step) {
				for _, a := range svc.After {
					if other, ok := x.plan().Services["service:"+a.Service]; ok && other.Kind == stack.Lasting {
						out = append(out, x.dataOfService(&other))
					}
				}
			}
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), " ")
}

func projectOf(p *Plan, s *Step) string {
	_, dir, _ := strings.Cut(s.ID, ":")
	dir, _, _ = strings.Cut(dir, "@")
	for _, svc := range p.Services {
		if svc.Service.Dir() == dir {
			return svc.Project
		}
	}
	return dir
}

// dataOfService is what identifies a database's content: its volumes, or, without one, this very launch.
func (x *Executor) dataOfService(s *Service) string {
	if s.Runs != stack.Container || s.Container == nil {
		return s.Name
	}
	var ids []string
	for _, m := range s.Container.Mounts {
		switch {
		case m.Type == "volume" && m.Source != "":
			ids = append(ids, x.volume(m.Source))
		case m.Type == "bind":
			ids = append(ids, m.Source)
		}
	}
	if len(ids) == 0 {
		return fmt.Sprintf("%s since %d", s.Name, x.started.UnixNano())
	}
	return s.Name + " in " + strings.Join(ids, ",")
}

func (x *Executor) volume(name string) string {
	x.nodesMu.RLock()
	defer x.nodesMu.RUnlock()
	return x.data[name]
}

// databases lists the files of a step's project in which a database of one file may lie.
func databases(s *Step) []string {
	if s.Role.Rank() < stack.Create.Rank() {
		return nil
	}
	var out []string
	for _, dir := range []string{"", "db", "data", "database", "instance", "prisma", "storage", "var", "tmp"} {
		for _, pattern := range []string{"*.sqlite", "*.sqlite3", "*.db"} {
			found, _ := filepath.Glob(filepath.Join(s.Dir, dir, pattern))
			for _, f := range found {
				if info, err := os.Stat(f); err == nil && info.Mode().IsRegular() {
					out = append(out, f)
				}
			}
		}
	}
	return out
}
