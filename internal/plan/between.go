package plan

import (
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/stack"
)

// Between is what must be done again for a workspace to follow its files when they become others.
type Between struct {
	Steps []Due `json:"steps"` // in their order
	// Restart are services that are launched now, and whose command, settings or code are others
	// then; Come are not launched now.
	Restart []Due `json:"restart"`
	Come    []Due `json:"come"`
	Gone    []Due `json:"gone"`
	// Data is true if one of the steps changes what databases hold, which can't be undone by
	// bringing files back.
	Data bool `json:"data"`
}

// Due is a node of which something is due, and why.
type Due struct {
	ID      stack.NodeID `json:"id"`
	Because string       `json:"because"`
}

// names lists the names of services.
func names(list []Due) (out []string) {
	for _, d := range list {
		out = append(out, d.ID.Title())
	}
	return out
}

// Names lists the services that the due are.
func (b *Between) Names() (restart, come, gone []string) {
	return names(b.Restart), names(b.Come), names(b.Gone)
}

// Differ compares the plan of now with the one that is made once the files of changed (relative to
// the workspace) are others; projects are the folders of those then. Without a plan of now nothing
// is known of it. Where the stack is not running nothing is restarted, and no step is due just
// because it is run at each start.
func Differ(now, then *Plan, changed, projects []string, running bool) *Between {
	out := &Between{Steps: []Due{}, Restart: []Due{}, Come: []Due{}, Gone: []Due{}}
	if now == nil {
		now = &Plan{Prints: &Prints{}}
	}
	again := map[string]bool{} // titles of steps
	for _, n := range then.Order.Nodes {
		if step, ok := then.Steps[n.ID]; ok {
			if why := stepDue(now, n.ID, &step, changed); why != "" {
				out.Steps = append(out.Steps, Due{n.ID, why})
				again[n.ID.Title()] = true
			}
		}
	}
	behind := then.servicesBehind(slices.Collect(maps.Keys(again)), then.Prints.Steps)
	for _, n := range then.Order.Nodes {
		svc, ok := then.Services[n.ID]
		_, launched := now.Services[n.ID]
		switch {
		case !ok:
		case !launched:
			out.Come = append(out.Come, Due{n.ID, "it is new"})
		case running:
			why := changesOf(now, then, n.ID, owned(&svc, then, changed, projects))
			if len(why) == 0 && slices.Contains(behind, n.ID.Title()) {
				why = []string{"a step before it is done again"}
			}
			if len(why) > 0 {
				out.Restart = append(out.Restart, Due{n.ID, strings.Join(why, ", and ")})
			}
		}
	}
	out.eachTime(then, running)
	for _, n := range now.Order.Nodes {
		_, is := now.Services[n.ID]
		if _, stays := then.Services[n.ID]; is && !stays {
			out.Gone = append(out.Gone, Due{n.ID, "it is no part of it any more"})
		}
	}
	return out
}

// changesOf tells what changes for a service: what of its own does, if anything, and how it is run.
func changesOf(now, then *Plan, id stack.NodeID, own string) (why []string) {
	old, svc := now.Services[id], then.Services[id]
	if own != "" {
		why = append(why, own+" changes")
	}
	switch {
	case now.Prints.Services[id] == then.Prints.Services[id]:
	case !slices.Equal(old.Command, svc.Command), old.Image != svc.Image, old.Runs != svc.Runs:
		why = append(why, "it is run in another way")
	case svc.Runs == stack.Native:
		why = append(why, "its settings change")
	default:
		why = append(why, "its settings or its container's change")
	}
	return why
}

// eachTime adds the steps before what is started anew that are run whenever that is: nothing tells
// whether they are done.
func (b *Between) eachTime(then *Plan, running bool) {
	leads := map[stack.NodeID]bool{}
	for _, d := range slices.Concat(b.Restart, b.Come) {
		leads[d.ID] = true
	}
	due := map[stack.NodeID]string{}
	for _, d := range b.Steps {
		due[d.ID] = d.Because
	}
	b.Steps = []Due{}
	// each comes before those that wait for it
	for _, n := range slices.Backward(then.Order.Nodes) {
		step, isStep := then.Steps[n.ID]
		if leads[n.ID] {
			for _, e := range n.After {
				leads[e.ID] = leads[e.ID] || then.Steps[e.ID].ID != ""
			}
		}
		if isStep && running && leads[n.ID] && due[n.ID] == "" && eachTime(&step.Work) {
			due[n.ID] = "it is run at each start"
		}
		if isStep && due[n.ID] != "" {
			b.Steps = append(b.Steps, Due{n.ID, due[n.ID]})
			b.Data = b.Data || step.Role.Rank() >= stack.Create.Rank()
		}
	}
	slices.Reverse(b.Steps)
}

// eachTime reports whether a step is never known to be done.
func eachTime(w *memory.Work) bool {
	return w.EveryTime || len(w.Inputs) == 0 && w.Role != stack.Create && w.Role != stack.Seed
}

// stepDue tells why a step is to be done again; empty if it isn't.
func stepDue(now *Plan, id stack.NodeID, step *Step, changed []string) string {
	old, known := now.Steps[id]
	switch {
	case !known:
		return "it is new"
	case !slices.Equal(remembered(&old), remembered(step)):
		return "its command is another"
	}
	for _, in := range step.Inputs {
		if file := below(in, changed); file != "" {
			return file + " changes"
		}
	}
	return ""
}

// remembered is the command by which a step is known.
func remembered(s *Step) []string {
	if s.As != nil {
		return s.As
	}
	return s.Command
}

// below is the first of the files that is a file, or in a folder, of that name.
func below(name string, files []string) string {
	for _, f := range files {
		if f == name || name == "." || strings.HasPrefix(f, name+"/") {
			return f
		}
	}
	return ""
}

// owned is a changed file that a service runs or is built from; empty if none is known to be. What
// reads its files anew by itself has none.
func owned(svc *Service, then *Plan, changed, projects []string) string {
	if svc.Watches {
		return ""
	}
	code := slices.DeleteFunc(slices.Clone(changed), isDocument)
	if svc.Runs == stack.Container {
		if svc.Build != "" {
			return below(path.Clean(svc.Build), code)
		}
		if svc.Container != nil {
			for _, m := range svc.Container.Mounts {
				if m.Type != "bind" || path.IsAbs(m.Source) {
					continue
				}
				if file := below(path.Clean(m.Source), code); file != "" {
					return file
				}
			}
		}
		return ""
	}
	// A file belongs to the innermost of the projects and of the folders of services that it lies
	// in, and a project's common files to each of its services.
	dir := svc.dir
	project := innermost(dir, projects)
	folders := slices.Clone(projects)
	for _, other := range then.Services {
		switch {
		case other.Runs == stack.Native:
			folders = append(folders, other.dir)
		case other.Build != "":
			folders = append(folders, path.Clean(other.Build))
		}
	}
	for _, f := range code {
		if owner := innermost(path.Dir(f), folders); owner == dir || owner == project {
			return f
		}
	}
	return ""
}

// innermost is the longest of the folders that a folder is, or lies in; empty if it lies in none.
func innermost(dir string, folders []string) (best string) {
	for _, f := range folders {
		if below(f, []string{dir}) != "" && (best == "" || len(f) > len(best) || best == ".") {
			best = f
		}
	}
	return best
}

// isDocument reports whether a file is for people alone.
func isDocument(name string) bool {
	base := strings.ToUpper(path.Base(name))
	switch strings.ToLower(path.Ext(name)) {
	case ".md", ".rst", ".adoc":
		return true
	}
	return strings.HasPrefix(base, "LICENSE") || strings.HasPrefix(base, "CHANGELOG") ||
		base == ".GITIGNORE" ||
		strings.HasPrefix(name, ".github/") || strings.HasPrefix(name, ".gitlab/")
}
