package execute

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// seal is a sum of the passwords that a database makes its store of data with, salted with what
// tells the store from others; empty for a service that is none.
func seal(s *plan.Service, store string) string {
	sum := hmac.New(sha256.New, []byte(store))
	found := false
	keys := protocol.PasswordKeys(s.Image)
	for _, kv := range s.Environment {
		if key, value, _ := strings.Cut(kv, "="); value != "" && slices.Contains(keys, key) {
			fmt.Fprintf(sum, "%s\x00%s\x00", key, value)
			found = true
		}
	}
	if !found {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// keepSeals remembers the secrets of a service's volumes, once it answers.
func (x stores) keepSeals(s *plan.Service) {
	if s.Runs != stack.Container || s.Container == nil {
		return
	}
	for _, m := range s.Container.Mounts {
		if m.Type == "volume" && m.Source != "" {
			store := x.volume(m.Source)
			x.memory.Sealed(store, seal(s, store))
		}
	}
}

// Stores tells, by the name of a service, of the volume that exists already and holds its data, in
// words that name it. Where no engine can be reached there is none.
func Stores(ctx context.Context, root string, s *stack.Stack) map[string]string {
	out := map[string]string{}
	if !slices.ContainsFunc(s.Services,
		func(v stack.Service) bool { return v.Container != nil && len(v.Container.Mounts) > 0 }) {
		return out
	}
	have := volumes(ctx, root)
	for _, v := range s.Services {
		if v.Container == nil || len(protocol.PasswordKeys(v.Image)) == 0 {
			continue
		}
		for _, m := range v.Container.Mounts {
			folder := m.Source
			if !filepath.IsAbs(folder) {
				folder = filepath.Join(root, filepath.FromSlash(folder))
			}
			if entries, err := os.ReadDir(folder); m.Type == "bind" && err == nil &&
				len(entries) > 0 && strings.HasPrefix(m.Target, "/var/lib/") {
				out[v.Name] = "the data in " + m.Source
			}
			if _, exists := have[volumeName(workspace.ID(root), s.Volumes,
				m.Source)]; m.Type == "volume" && exists {
				out[v.Name] = "the volume " + m.Source
			}
		}
	}
	return out
}

func volumes(ctx context.Context, root string) map[string]string {
	e, err := engine.Connect(ctx)
	if err != nil {
		return nil
	}
	defer e.Close()
	have, err := e.Volumes(ctx, map[string]string{engine.LabelStack: workspace.ID(root)})
	if err != nil {
		return nil
	}
	return have
}

// OtherPasswords lists, sorted, the services of the plan whose stores of data were made with other
// secrets than they would be started with now.
func OtherPasswords(ctx context.Context, p *plan.Plan) []string {
	m := memory.Recall(p.Root)
	if !m.Sealing() {
		return nil
	}
	have := volumes(ctx, p.Root)
	var out []string
	for _, id := range slices.Sorted(maps.Keys(p.Services)) {
		s := p.Services[id]
		if s.Runs != stack.Container || s.Container == nil {
			continue
		}
		for _, mount := range s.Container.Mounts {
			store := have[volumeName(p.ID, p.Volumes, mount.Source)]
			if was := m.SealOf(store); mount.Type == "volume" && was != "" &&
				was != seal(&s, store) {
				out = append(out, s.Name)
				break
			}
		}
	}
	return out
}

// dataOf tells the content of the databases that something works on, by the names of their
// services: what was done to one is to be done again to its successor of the same name. It is empty
// where none is known.
func (x stores) dataOf(services []string) string {
	var out []string
	for _, name := range services {
		if svc, ok := x.Plan().Services[stack.ServiceNode(name)]; ok {
			out = append(out, x.dataOfService(&svc))
		}
	}
	return strings.Join(out, " ")
}

// dataOfService is what identifies a database's content: its volumes, or, without one, this very
// launch.
func (x stores) dataOfService(s *plan.Service) string {
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

func (x stores) volume(name string) string {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.data[name]
}

// databases lists the files of a step's project in which a database of one file may lie.
func databases(s *plan.Step) []string {
	if s.Role.Rank() < stack.Create.Rank() {
		return nil
	}
	var out []string
	for _, dir := range []string{"", "db", "data", "database", "instance", "prisma", "storage",
		"var", "tmp"} {
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
