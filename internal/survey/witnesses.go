package survey

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/stack"
)

// witnessAt tells which kind of witness speaks from a place. A port that its line does not name is
// only usual.
func (s *ports) witnessAt(at stack.Place, port int) stack.Witness {
	name := path.Base(at.File)
	switch {
	case at.File == "":
		return claim.Usage
	case name == corrections.File:
		return claim.Correction
	case slices.ContainsFunc(s.Stack.ComposeFiles,
		func(f stack.ComposeFile) bool { return f.Path == at.File }),
		slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
			return v.Source == stack.FromCompose && v.At.File == at.File
		}), compose.IsFileName(name):
		return claim.Compose
	}
	if port > 0 && !s.lineNames(at, strconv.Itoa(port)) {
		return claim.Usage
	}
	switch {
	case strings.HasPrefix(name, "Procfile"):
		return claim.Procfile
	case strings.HasPrefix(name, "Dockerfile"), strings.HasPrefix(name, "Containerfile"):
		return claim.Dockerfile
	case slices.Contains(s.Instructions, at.File):
		return claim.Readme
	case strings.Contains(at.File, "devcontainer"):
		return claim.Develop
	case strings.Contains(at.File, ".github/"), strings.Contains(name, "gitlab-ci"):
		return claim.Workflow
	case slices.ContainsFunc(s.Stack.EnvFiles,
		func(e stack.EnvFile) bool { return e.Path == at.File || e.Template == at.File }),
		strings.HasPrefix(name, ".env"):
		return claim.Setting
	case ecosystem.IsTaskFile(name):
		return claim.Task
	case ecosystem.IsManifest(name):
		return claim.Manifest
	case ecosystem.IsLock(name):
		return claim.Lock
	case ecosystem.OfCode(path.Ext(name)) != nil && !strings.Contains(name, ".config."):
		return claim.Code
	}
	return claim.Framework
}

// lineNames reports whether the line at a place has the text in it; of a task whether one of its
// lines has.
func (s *ports) lineNames(at stack.Place, text string) bool {
	lines := s.ReadmeOf(at.File).Lines
	if at.Line > 0 && at.Line <= len(lines) && strings.Contains(lines[at.Line-1], text) {
		return true
	}
	for i := range s.Stack.Projects {
		for _, t := range s.Stack.Projects[i].Targets {
			if t.At == at && strings.Contains(strings.Join(t.Lines, "\n"), text) {
				return true
			}
		}
	}
	return false
}
