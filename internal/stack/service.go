package stack

import (
	"slices"
	"strings"
)

// Origin is where a service is known from.
type Origin string

// The origins.
const (
	FromCompose    Origin = "compose"
	FromDockerfile Origin = "dockerfile"
	FromProcfile   Origin = "procfile"
	FromScript     Origin = "script"
	FromFramework  Origin = "framework"
	FromReadme     Origin = "readme"
	FromStackFile  Origin = "stackfile"
	// FromProvide is a server that a person has asked for, since nothing of the stack offers one.
	FromProvide Origin = "provide"
)

// Way is how a service runs.
type Way string

// The ways.
const (
	Native    Way = "native"
	Container Way = "container"
)

// Lifetime is what is expected of a service.
type Lifetime string

// The lifetimes: to stay up, and to end with 0.
const (
	Lasting Lifetime = "lasting"
	Once    Lifetime = "once"
)

// Service is something that runs. Command, Env and Ports are those of the way in which it runs now;
// what else the files declare of it, and what each way takes, are parts of their own.
type Service struct {
	Name     string            `json:"name"`
	Source   Origin            `json:"source"`
	Runs     Way               `json:"runs"`
	Kind     Lifetime          `json:"kind"`
	Project  string            `json:"project"`
	Command  []string          `json:"command"`
	Env      map[string]string `json:"env"`
	Image    string            `json:"image"`
	Build    string            `json:"build"`
	Bases    []BaseImage       `json:"bases,omitempty"` // that it is built on
	Profiles []string          `json:"profiles"`
	Ports    []Port            `json:"ports"`
	After    []After           `json:"after"`
	At       Place             `json:"at"`
	// Sure is how one knows that it is served, and by this command.
	Sure Sure `json:"sure,omitempty"`

	// Home is the folder in which the program of its container lives; empty where that isn't known.
	Home string `json:"home,omitempty"`
	// Manager is the package manager whose project the service belongs to, where it has one.
	Manager string `json:"manager,omitempty"`

	FromFiles
	NativeWay
	ContainerWay
	Restarts
}

// FromFiles is where a service's environment is from, as the files declare it.
type FromFiles struct {
	// EnvFiles are the files its environment is read from, later ones winning.
	EnvFiles []EnvFileRef `json:"envFiles,omitempty"`
	// EnvAt tells where each key of Env was read.
	EnvAt map[string]Place `json:"-"`
	// EnvBehind are the keys of Env that a compose file gives and whose values come of variables,
	// at least in part.
	EnvBehind map[string]bool `json:"-"`
	// EnvFrom names, for the keys of Env whose values are those of one variable of the compose
	// file, that variable.
	EnvFrom map[string]string `json:"-"`
	// Remembered is true for a service that runs once and, once it has, not at the next launch.
	Remembered bool `json:"remembered,omitempty"`
}

// NativeWay is how a service runs on the machine itself, where it can.
type NativeWay struct {
	// NativeCommand is what is run; empty for a service that can't run natively.
	NativeCommand []string `json:"nativeCommand,omitempty"`
	// Folder is where it runs natively; empty for its project's folder.
	Folder string `json:"folder,omitempty"`
	// PortBy is how it is told another port when it runs natively.
	PortBy PortBy `json:"portBy,omitzero"`
	// Bin are folders, relative to the workspace, whose programs its native command may name.
	Bin []string `json:"bin,omitempty"`
	// Expands is what its native command leads to, where that stands in the checkout.
	Expands []string `json:"expands,omitempty"`
	// Pages are what READMEs name on its ports, beyond the first page.
	Pages []Page `json:"pages,omitempty"`
	// Names are those by which it wants to be called, beyond localhost.
	Names []HostName `json:"names,omitempty"`
	// AfterSteps are the ids of steps that it needs beyond those of its own folder: of other
	// folders when it runs natively, builds of what its container holds otherwise.
	AfterSteps []string `json:"afterSteps,omitempty"`
	// Watches is true for a process that only makes files anew when others change; it needs no
	// other service.
	Watches bool `json:"watches,omitempty"`
}

// ContainerWay is how a service runs in a container, where it can.
type ContainerWay struct {
	// Address is the service's host name for others in its network; empty while it runs natively.
	Address string `json:"address,omitempty"`
	// Container is what the container needs beyond image, command, environment and ports; nil for a
	// service that can't run in one.
	Container *ContainerSpec `json:"container,omitempty"`
	// ContainerPort is the port inside of its container where that is not the one that it takes
	// natively; 0 if it is.
	ContainerPort int `json:"containerPort,omitempty"`
}

// Restarts tells whether a service is started again when it ends, as the files declare.
type Restarts struct {
	// Restart is true for a service that is started again.
	Restart bool `json:"restart,omitempty"`
	// RestartOnFailure is true where that holds only for an end that is a failure.
	RestartOnFailure bool `json:"restartOnFailure,omitempty"`
	// RestartTimes bounds how often; 0 is without bounds.
	RestartTimes int `json:"restartTimes,omitempty"`
}

// Dir is the folder in which the service runs natively, relative to the workspace.
func (s *Service) Dir() string {
	if s.Folder != "" {
		return s.Folder
	}
	return s.Project
}

// EnvFileRef is an environment file that a service reads.
type EnvFileRef struct {
	Path     string `json:"path"`
	Required bool   `json:"required"`
	At       Place  `json:"at"`
	// Raw is true for a file whose values are taken as they stand: no quotes, no variables.
	Raw bool `json:"raw,omitempty"`
}

// Port is an address a service should answer on. Host is 0 for a port that only other containers
// reach.
type Port struct {
	Host      int    `json:"host"`
	Target    int    `json:"target"`
	Transport string `json:"transport"`
	Speaks    string `json:"speaks"`
	At        Place  `json:"at"`
	Sure      Sure   `json:"sure,omitempty"`

	// HostIP is the address it is bound to; empty for all of them.
	HostIP string `json:"hostIP,omitempty"`
	// HostTo is the last of the ports of this machine that may be taken, where the files give a
	// range; else 0.
	HostTo int `json:"hostTo,omitempty"`
	// Said is the port that is written down, where a launch has seen another one, and -1 where none
	// is; else 0.
	Said int `json:"said,omitempty"`
}

// Until is how far the other must have come before a node may start.
type Until string

// From weak to strong.
const (
	Begun     Until = "begun"
	Answering Until = "answering"
	Finished  Until = "finished"
)

// Strength orders the values of Until; a larger one implies the smaller.
func (u Until) Strength() int {
	switch u {
	case Begun:
		return 1
	case Answering:
		return 2
	case Finished:
		return 3
	}
	return 0
}

// Why an edge is there.
const (
	Declared = "declared"
	Inferred = "inferred"
)

// After says that a service waits for another.
type After struct {
	Service string `json:"service"`
	Until   Until  `json:"until"`
	Because string `json:"because"`
	At      Place  `json:"at"`
	Sure    Sure   `json:"sure,omitempty"`

	Reason   string `json:"reason,omitempty"`
	Optional bool   `json:"optional,omitempty"`
	// AsKnown is true when the files ask only that the other has begun, and Until is stronger
	// because we know how to ask it whether it answers.
	AsKnown bool `json:"-"`
}

// Mounts reports whether a folder of the workspace, or one that holds it, lies in the service's
// container.
func (v *Service) Mounts(dir string) bool {
	return v.Container != nil && slices.ContainsFunc(v.Container.Mounts, func(m Mount) bool {
		return m.Type == "bind" && (m.Source == dir || m.Source == "." ||
			strings.HasPrefix(dir, m.Source+"/"))
	})
}

// Literal reports whether a value of Env stands in a compose file itself, not behind a variable.
func (v *Service) Literal(key string) bool {
	_, given := v.Env[key]
	return given && v.EnvBehind != nil && !v.EnvBehind[key] && !v.EnvAt[key].IsZero()
}

// BaseImage is an image of others that a build begins from, or copies from.
type BaseImage struct {
	Image string `json:"image"`
	At    Place  `json:"at"`
}
