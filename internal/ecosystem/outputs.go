package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// builtFolders are the folders that builds leave behind, by ecosystem, and the commands that fill
// them: nil for the project's own script. Only what a build for others makes is meant, not what a
// server for development keeps.
var builtFolders = map[string]struct {
	folders []string
	command map[string][]string // by manager
}{
	"node": {folders: []string{"dist", "build", "out", "www", ".output", "public/build", "_site"}},
	"java": {folders: []string{"target", "build"}, command: map[string][]string{
		"maven": {"--batch-mode", "--quiet", "-DskipTests",
			"package"}, "gradle": {"--console=plain", "assemble"}}},
}

// BuildOfOutput is the step that makes a file or folder of a project, seen from one of its folders;
// nil if no build is known that does.
func BuildOfOutput(p *stack.Project, folder, output string) *stack.Step {
	made := builtFolders[p.Ecosystem]
	if !slices.ContainsFunc(made.folders, func(f string) bool {
		return output == f || strings.HasPrefix(output, f+"/")
	}) {
		return nil
	}
	st := stack.Step{ID: string(stack.Build) + ":" + folder, Role: stack.Build,
		Env: map[string]string{},
		At:  p.Evidence[0].Place(), Outputs: []string{path.Join(folder, output)}}
	if folder != p.Path {
		st.Folder = folder
	}
	if words := made.command[p.Manager]; words != nil {
		program := ManagerNamed(p.Manager).Tools[0].Name
		for _, s := range p.Steps { // the checkout's own copy of it, where there is one
			if s.Role == stack.Build {
				program = s.Command[0]
			}
		}
		st.Command = append([]string{program}, words...)
		return &st
	}
	for _, part := range p.Parts {
		if lines := part.Scripts["build"]; part.Folder == folder && len(lines) > 0 {
			st.Command = []string{p.Manager, "run", "build"}
			st.Expands = []string{"build: " + strings.Join(lines, "; ")}
			return &st
		}
	}
	return nil
}
