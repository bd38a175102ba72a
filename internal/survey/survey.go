// Package survey reads a workspace and says what it consists of, with evidence for each conclusion.
package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/code"
	"nimbleharbor/internal/command"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/connect"
	"nimbleharbor/internal/corrections"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/ports"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/readme"
	"nimbleharbor/internal/stack"
)

// Options are what a survey is told about the workspace.
type Options struct {
	Root      string           // the workspace's absolute path, for names and for the answer
	Checkouts []stack.Checkout // their paths relative to the root
	Env       dotenv.Lookup    // the shell's variables; nil for none
	ReadCode  bool             // look for the environment variables that the code reads
	// by service, the port that it opened when it was launched last; nil for none
	Seen   map[string]Sight
	System string // the operating system, as Go names it; empty is taken for linux
	// Changed is when a file, relative to the root, was last committed; nil where nobody knows. It
	// is asked where several files contradict each other only.
	Changed func(file string) time.Time
}

// Sight is what a launch has seen of a service's port.
type Sight = ports.Sight

// Survey reads the workspace in fsys. A file that can't be read hides nothing else: its fault is in
// the error (stack.Faults), and the stack holds all the rest. Where nothing at all is recognised
// the error is a *stack.Fault with the code nothing-found.
func Survey(fsys fs.FS, opt Options) (*stack.Stack, error) {
	s := newSurveyor(fsys, opt)
	if err := s.look(); err != nil {
		return s.Stack, err
	}
	if len(s.Stack.Projects) == 0 && len(s.Stack.ComposeFiles) == 0 && len(s.Stack.Services) == 0 &&
		len(s.Faults) == 0 {
		return s.Stack, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNothingFound,
			At: stack.Place{File: opt.Root},
			Text: "nothing that nharbor knows was found here; files looked at: " +
				fmt.Sprint(s.Tree.Files),
			Remedy: fmt.Sprintf("Looked for: compose files (%s), Dockerfiles and package "+
				"manifests (%s).", strings.Join(compose.FileNames, ", "), ecosystem.Usual())}
	}
	if len(s.Faults) > 0 {
		// A settings file is read for itself and for the compose file beside it; its fault is one.
		seen := map[string]bool{}
		s.Faults = slices.DeleteFunc(s.Faults, func(f *stack.Fault) bool {
			twice := seen[f.Error()]
			seen[f.Error()] = true
			return twice
		})
		return s.Stack, s.Faults
	}
	return s.Stack, nil
}

func newSurveyor(fsys fs.FS, opt Options) *surveyor {
	if opt.Env == nil {
		opt.Env = func(string) (string, bool) { return "", false }
	}
	files := reading.Of(fsys)
	f := &facts.Facts{Files: files, Root: opt.Root, Env: opt.Env,
		Documents: map[string]*readme.Document{}, Portless: map[string]stack.Remark{},
		OtherWays: map[string][]claim.Claim[string]{},
		Stack: &stack.Stack{Schema: "nharbor.survey/1", Root: opt.Root, Checkouts: opt.Checkouts,
			Networks: map[string]stack.Network{}, Volumes: map[string]stack.Volume{}}}
	s := &surveyor{Facts: f, passes: passes, opt: opt}
	s.cover, s.connects = &demand.Coverage{Facts: f}, &connect.Connections{Facts: f}
	s.homes = &homes{Facts: f}
	s.composes = &composes{Facts: f, homes: s.homes}
	s.settings = &settingsFiles{Facts: f, cover: s.cover}
	s.ports = &ports.Ports{Facts: f, Cover: s.cover, Connects: s.connects, Sights: opt.Seen}
	s.knows = &knowing{f, s.ports}
	s.natives = &natives{Facts: f, cover: s.cover}
	s.told = &told{Facts: f, cover: s.cover, natives: s.natives, after: map[int]stack.Role{},
		with: map[int]stack.Doer{}}
	s.Mentions = code.Mentions{Files: s.Files}
	s.Commands = command.New(s.Files, s.Stack, func(dir string) bool {
		if s.Tree == nil {
			return false
		}
		_, walked := s.Tree.ByPath[dir]
		return walked
	})
	return s
}

// surveyor leads the passes through the rooms, each of which asks the facts and adds what it
// concludes to them.
type surveyor struct {
	*facts.Facts
	passes []pass
	opt    Options

	composes *composes
	homes    *homes
	settings *settingsFiles
	natives  *natives
	told     *told
	ports    *ports.Ports
	knows    *knowing
	cover    *demand.Coverage
	connects *connect.Connections

	corrections *corrections.Corrections
}

// Compose reads the active compose files of the workspace, as Survey does.
func Compose(fsys fs.FS, opt Options) ([]*compose.Project, error) {
	s := newSurveyor(fsys, opt)
	if err := s.look("settings", "readmes"); err != nil {
		return nil, err
	}
	s.Faults = nil // of settings files, which are not asked for here
	s.composes.compose()
	if len(s.Faults) > 0 {
		return s.composes.composed, s.Faults
	}
	return s.composes.composed, nil
}

// inspect adds remarks that need the whole picture.
func (s *surveyor) inspect() {
	said := slices.ContainsFunc(s.Stack.Remarks,
		func(r stack.Remark) bool { return r.Code == stack.CodeStartMadeUp })
	if len(s.Stack.Services) == 0 && len(s.Stack.Projects) > 0 && !said {
		s.Remark(stack.Warning, stack.CodeNothingToLaunch, s.Stack.Projects[0].Evidence[0].Place(),
			"no way to serve anything was found: no serve script, nothing that a framework "+
				"starts, no compose service", "If you know the command, name it in "+
				corrections.File+": [service.NAME] with command = \"…\" and port = ….")
	}
	s.portsTwice()
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		s.buildFileMissing(svc)
		for _, ref := range svc.EnvFiles {
			s.envFileMissing(svc, ref)
		}
	}
	s.homes.takesWhatIsThere()
	s.homes.mountsWhatIsThere()
	s.homes.bases()
	s.Stack.Remarks = slices.DeleteFunc(s.Stack.Remarks, s.ofUnusedProject)
	for _, c := range s.Stack.Checkouts {
		for _, m := range c.Submodules {
			if !m.Present {
				s.Remark(stack.Problem, stack.CodeSubmoduleMissing,
					stack.Place{File: path.Join(c.Path, ".gitmodules")},
					fmt.Sprintf("the submodule %s is empty", m.Path),
					"Bring it in: git submodule update --init --recursive")
			}
		}
	}
}

// portsTwice says which services want the same port of this machine.
func (s *surveyor) portsTwice() {
	taken := map[int]*stack.Service{}
	for i := range s.Stack.Services {
		svc := &s.Stack.Services[i]
		for _, p := range svc.Ports {
			if p.Host == 0 || svc.Kind == stack.Once {
				continue
			}
			if other := taken[p.Host]; other != nil && other != svc && s.clash(svc, other) {
				s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodePortTwice, p.At,
					fmt.Sprintf("%s and %s both want port %d of this machine",
						other.Name, svc.Name, p.Host), "Change one of the two published ports.")
			}
			taken[p.Host] = svc
		}
	}
}

// clash reports whether two services that want one port are to run together. Package compose
// compares the services of one compose file.
func (s *surveyor) clash(a, b *stack.Service) bool {
	rivals := s.natives.rivals
	if slices.Contains(rivals, a.Name) && slices.Contains(rivals, b.Name) {
		return false
	}
	return b.At.File != a.At.File || a.Source != stack.FromCompose
}

// buildFileMissing says that a service is built from a file that isn't there.
func (s *surveyor) buildFileMissing(svc *stack.Service) {
	if svc.Build == "" || svc.Container == nil || svc.Container.Inline != "" ||
		strings.Contains(svc.Build, "://") {
		return
	}
	file := path.Join(svc.Build, svc.Container.Dockerfile)
	if _, err := fs.Stat(s.Files, file); err == nil || s.homes.isMade(svc, file) {
		return
	}
	s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeBuildFileMissing, svc.At,
		fmt.Sprintf("%s is built from %s, which doesn't exist", svc.Name, file),
		"Correct the build context, or bring in the checkout or submodule that it lies in.")
}

// envFileMissing says that a service wants a settings file that isn't there, and that nothing tells
// how to make.
func (s *surveyor) envFileMissing(svc *stack.Service, ref stack.EnvFileRef) {
	known := slices.ContainsFunc(s.Stack.EnvFiles, func(e stack.EnvFile) bool {
		return e.Path == ref.Path && (e.WantedAt.IsZero() || e.Wants != nil)
	})
	if _, err := fs.Stat(s.Files, ref.Path); !errors.Is(err, fs.ErrNotExist) || !ref.Required ||
		known {
		return
	}
	remedy := "Ask who made the application what belongs in it; if it may be empty: touch " +
		ref.Path
	if svc.Build != "" || protocol.MustHave(svc.Image, svc.Env) != "" {
		remedy = "nharbor fill makes it with what is known to be read; look at what else belongs " +
			"in it."
	}
	s.RemarkOn(stack.AboutService(svc.Name), stack.Problem, stack.CodeEnvFileMissing, ref.At,
		fmt.Sprintf("%s wants the file %s, which doesn't exist and has no template", svc.Name,
			ref.Path), remedy)
}

// ofUnusedProject reports whether a remark is about the lock file of a project that no service
// runs, such as one that only formats code: nobody has to do anything about it.
func (s *surveyor) ofUnusedProject(r stack.Remark) bool {
	if r.Code != stack.CodeLockMissing {
		return false
	}
	return !slices.ContainsFunc(s.Stack.Services, func(v stack.Service) bool {
		return r.About == stack.AboutProject(v.Project, v.Manager)
	})
}
