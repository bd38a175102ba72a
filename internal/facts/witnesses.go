package facts

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/stack"
)

// Witness tells which kind of witness speaks from a place. A port (0 for none) that its line does
// not name is only usual.
func (f *Facts) Witness(at stack.Place, port int) stack.Witness {
	p := &witnessed{Facts: f, at: at, name: path.Base(at.File), port: port}
	if r := rule.First(witnesses, p); r != nil {
		return r.Then
	}
	return claim.Framework
}

// witnessed is a place, and the port that it is to say something of; 0 for none.
type witnessed struct {
	*Facts
	at   stack.Place
	name string
	port int
}

// witnesses tell by a place who speaks there. A file that does not name the port says no more than
// what is usual with it, unless it is a compose file or a correction.
var witnesses = []rule.Rule[*witnessed, stack.Witness]{
	speaks(claim.Usage, func(p *witnessed) bool { return p.at.File == "" }),
	speaks(claim.Correction, func(p *witnessed) bool { return p.name == corrections.File }),
	speaks(claim.Compose, (*witnessed).isCompose),
	speaks(claim.Usage, func(p *witnessed) bool {
		return p.port > 0 && !p.lineNames(p.at, strconv.Itoa(p.port))
	}),
	speaks(claim.Procfile, func(p *witnessed) bool {
		return strings.HasPrefix(p.name, "Procfile")
	}),
	speaks(claim.Dockerfile, func(p *witnessed) bool {
		return strings.HasPrefix(p.name, "Dockerfile") || strings.HasPrefix(p.name, "Containerfile")
	}),
	speaks(claim.Readme, func(p *witnessed) bool {
		return slices.Contains(p.Instructions, p.at.File)
	}),
	speaks(claim.Develop, func(p *witnessed) bool {
		return strings.Contains(p.at.File, "devcontainer")
	}),
	speaks(claim.Workflow, func(p *witnessed) bool {
		return strings.Contains(p.at.File, ".github/") || strings.Contains(p.name, "gitlab-ci")
	}),
	speaks(claim.Setting, func(p *witnessed) bool {
		return strings.HasPrefix(p.name, ".env") || slices.ContainsFunc(p.Stack.EnvFiles,
			func(e stack.EnvFile) bool { return e.Path == p.at.File || e.Template == p.at.File })
	}),
	speaks(claim.Task, func(p *witnessed) bool { return ecosystem.IsTaskFile(p.name) }),
	speaks(claim.Manifest, func(p *witnessed) bool { return ecosystem.IsManifest(p.name) }),
	speaks(claim.Lock, func(p *witnessed) bool { return ecosystem.IsLock(p.name) }),
	speaks(claim.Code, func(p *witnessed) bool {
		return ecosystem.OfCode(path.Ext(p.name)) != nil && !strings.Contains(p.name, ".config.")
	}),
}

func speaks(w stack.Witness, when func(*witnessed) bool) rule.Rule[*witnessed, stack.Witness] {
	return rule.Rule[*witnessed, stack.Witness]{Name: string(w), When: when, Then: w}
}

// isCompose reports whether a place lies in a compose file, by its name or since one of its
// services is known from there.
func (p *witnessed) isCompose() bool {
	return compose.IsFileName(p.name) || slices.ContainsFunc(p.Stack.ComposeFiles,
		func(f stack.ComposeFile) bool { return f.Path == p.at.File }) ||
		slices.ContainsFunc(p.Stack.Services, func(v stack.Service) bool {
			return v.Source == stack.FromCompose && v.At.File == p.at.File
		})
}

// lineNames reports whether the line at a place has the text in it; of a task whether one of its
// lines has.
func (p *witnessed) lineNames(at stack.Place, text string) bool {
	lines := p.ReadmeOf(at.File).Lines
	if at.Line > 0 && at.Line <= len(lines) && strings.Contains(lines[at.Line-1], text) {
		return true
	}
	for i := range p.Stack.Projects {
		for _, t := range p.Stack.Projects[i].Targets {
			if t.At == at && strings.Contains(strings.Join(t.Lines, "\n"), text) {
				return true
			}
		}
	}
	return false
}
