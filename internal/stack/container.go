package stack

// ContainerSpec is what a container needs beyond image, command, environment and ports: all that a
// compose file can ask of an engine. The zero value of a part is what the engine does by itself.
type ContainerSpec struct {
	// Entrypoint is nil for the image's own and empty for none.
	Entrypoint []string `json:"entrypoint"`
	WorkingDir string   `json:"workingDir,omitempty"`
	User       string   `json:"user,omitempty"`
	// Named is what the container itself is to be called, where the files say so.
	Named       string            `json:"containerName,omitempty"`
	Hostname    string            `json:"hostname,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	LabelFiles  []string          `json:"labelFiles,omitempty"`
	Platform    string            `json:"platform,omitempty"`
	PullPolicy  string            `json:"pullPolicy,omitempty"`
	Health      *Health           `json:"health,omitempty"`
	StopGrace   float64           `json:"stopGrace,omitempty"` // seconds
	StopSignal  string            `json:"stopSignal,omitempty"`
	Replicas    *int              `json:"replicas,omitempty"` // nil for one
	PostStart   []Hook            `json:"postStart,omitempty"`
	PreStop     []Hook            `json:"preStop,omitempty"`
	Handed      []Handed          `json:"handed,omitempty"` // secrets and configs
	Watch       []Watch           `json:"watch,omitempty"`
	Mounts      []Mount           `json:"mounts,omitempty"`
	VolumesFrom []string          `json:"volumesFrom,omitempty"`
	// EngineSocket is true for a service that may use the engine itself.
	EngineSocket bool `json:"engineSocket,omitempty"`
	// RestartWith are services at whose restart this one is started again too.
	RestartWith []string `json:"restartWith,omitempty"`

	NetworkMode   string            `json:"networkMode,omitempty"`
	Networks      []string          `json:"networks,omitempty"`
	Attached      map[string]Attach `json:"attached,omitempty"` // by network
	Aliases       []string          `json:"aliases,omitempty"`  // its other names in its networks, all of them
	Links         []string          `json:"links,omitempty"`    // SERVICE:ALIAS
	ExternalLinks []string          `json:"externalLinks,omitempty"`

	Building
	Confinement
}

// Building is how an image is built. Its context is the service's Build, or Remote.
type Building struct {
	Remote       string            `json:"remoteContext,omitempty"`    // an address to fetch the context from
	Dockerfile   string            `json:"dockerfile,omitempty"`       // relative to the context
	Inline       string            `json:"dockerfileInline,omitempty"` // the Dockerfile's text, instead of a file
	Target       string            `json:"target,omitempty"`
	BuildArgs    map[string]string `json:"buildArgs,omitempty"`
	BuildLabels  map[string]string `json:"buildLabels,omitempty"`
	BuildNetwork string            `json:"buildNetwork,omitempty"`
	BuildHosts   []string          `json:"buildHosts,omitempty"` // HOST=ADDRESS
	BuildShm     int64             `json:"buildShm,omitempty"`   // bytes
	BuildUlimits []Ulimit          `json:"buildUlimits,omitempty"`
	NoCache      bool              `json:"noCache,omitempty"`
	PullBase     bool              `json:"pullBase,omitempty"`
	CacheFrom    []string          `json:"cacheFrom,omitempty"`
	CacheTo      []string          `json:"cacheTo,omitempty"`
	Tags         []string          `json:"tags,omitempty"`
	Platforms    []string          `json:"platforms,omitempty"`
	Contexts     map[string]string `json:"contexts,omitempty"` // further ones, by name
	SSH          map[string]string `json:"ssh,omitempty"`
	BuildHands   []Handed          `json:"buildHands,omitempty"` // secrets
	Entitlements []string          `json:"entitlements,omitempty"`
	BuildIsolate string            `json:"buildIsolation,omitempty"`
	BuildAsRoot  bool              `json:"buildPrivileged,omitempty"`
}

// Handed is a secret or a config that a container, or a build, may read.
type Handed struct {
	Name   string `json:"name"`           // below secrets: or configs:
	Secret bool   `json:"secret"`         // else a config
	File   string `json:"file,omitempty"` // where it is from; empty for Content
	Target string `json:"target"`         // its path in the container; of a build its id
	UID    string `json:"uid,omitempty"`
	GID    string `json:"gid,omitempty"`
	Mode   string `json:"mode,omitempty"` // octal
	At     Place  `json:"at"`

	Content  string `json:"content,omitempty"` // what it holds, where no file does
	External bool   `json:"external,omitempty"`
}

// Watch is what is done when files change while a container runs.
type Watch struct {
	Action  string   `json:"action"`           // sync, restart, sync+restart, sync+exec or rebuild
	Path    string   `json:"path"`             // relative to the workspace
	Target  string   `json:"target,omitempty"` // in the container, of sync
	Ignore  []string `json:"ignore,omitempty"` // relative to the path, as in an ignore file
	Include []string `json:"include,omitempty"`
	Exec    *Hook    `json:"exec,omitempty"`
	Initial bool     `json:"initial,omitempty"` // the files are put there at the start too
}

// Hook is a command that runs in a container when it has started, or before it is stopped.
type Hook struct {
	Command    []string          `json:"command"`
	User       string            `json:"user,omitempty"`
	WorkingDir string            `json:"workingDir,omitempty"`
	Env        map[string]string `json:"env,omitempty"`
	Privileged bool              `json:"privileged,omitempty"`
}

// Attach is how a container is in one of its networks.
type Attach struct {
	Aliases    []string          `json:"aliases,omitempty"`
	IPv4       string            `json:"ipv4,omitempty"`
	IPv6       string            `json:"ipv6,omitempty"`
	LinkLocal  []string          `json:"linkLocal,omitempty"`
	MAC        string            `json:"mac,omitempty"`
	DriverOpts map[string]string `json:"driverOpts,omitempty"`
	Gateway    int               `json:"gatewayPriority,omitempty"`
	Priority   int               `json:"priority,omitempty"`
}

// Confinement is what a container may use, see and do. Sizes are in bytes.
type Confinement struct {
	Memory            int64  `json:"memory,omitempty"`
	MemoryReservation int64  `json:"memoryReservation,omitempty"`
	MemorySwap        int64  `json:"memorySwap,omitempty"` // with the memory; -1 without a limit
	MemorySwappiness  *int64 `json:"memorySwappiness,omitempty"`
	ShmSize           int64  `json:"shmSize,omitempty"`

	NanoCPUs           int64  `json:"nanoCPUs,omitempty"` // 1e9 for each
	CPUShares          int64  `json:"cpuShares,omitempty"`
	CPUPeriod          int64  `json:"cpuPeriod,omitempty"` // microseconds, as the next ones
	CPUQuota           int64  `json:"cpuQuota,omitempty"`
	CPURealtimePeriod  int64  `json:"cpuRealtimePeriod,omitempty"`
	CPURealtimeRuntime int64  `json:"cpuRealtimeRuntime,omitempty"`
	CPUCount           int64  `json:"cpuCount,omitempty"`
	CPUPercent         int64  `json:"cpuPercent,omitempty"`
	CPUSet             string `json:"cpuSet,omitempty"`

	Pids      *int64    `json:"pids,omitempty"` // -1 without a limit
	NoOOMKill bool      `json:"noOOMKill,omitempty"`
	OOMScore  int       `json:"oomScore,omitempty"`
	BlockIO   *BlockIO  `json:"blockIO,omitempty"`
	Ulimits   []Ulimit  `json:"ulimits,omitempty"`
	Devices   []Device  `json:"devices,omitempty"`
	DeviceACL []string  `json:"deviceRules,omitempty"`
	Requests  []Request `json:"deviceRequests,omitempty"` // of devices by what they can do

	Privileged  bool              `json:"privileged,omitempty"`
	ReadOnly    bool              `json:"readOnly,omitempty"`
	Init        *bool             `json:"init,omitempty"`
	CapAdd      []string          `json:"capAdd,omitempty"`
	CapDrop     []string          `json:"capDrop,omitempty"`
	SecurityOpt []string          `json:"securityOpt,omitempty"`
	Sysctls     map[string]string `json:"sysctls,omitempty"`
	GroupAdd    []string          `json:"groupAdd,omitempty"`
	PID         string            `json:"pid,omitempty"`
	IPC         string            `json:"ipc,omitempty"`
	UTS         string            `json:"uts,omitempty"`
	UserNS      string            `json:"userns,omitempty"`
	CgroupNS    string            `json:"cgroup,omitempty"`
	CgroupOf    string            `json:"cgroupParent,omitempty"`
	Runtime     string            `json:"runtime,omitempty"`
	Isolation   string            `json:"isolation,omitempty"`
	StorageOpt  map[string]string `json:"storageOpt,omitempty"`
	Annotations map[string]string `json:"annotations,omitempty"`
	Logging     *Logging          `json:"logging,omitempty"`

	Domainname string            `json:"domainname,omitempty"`
	DNS        []string          `json:"dns,omitempty"`
	DNSOptions []string          `json:"dnsOptions,omitempty"`
	DNSSearch  []string          `json:"dnsSearch,omitempty"`
	ExtraHosts []string          `json:"extraHosts,omitempty"` // HOST=ADDRESS
	Tmpfs      map[string]string `json:"tmpfs,omitempty"`      // options by folder
	TTY        bool              `json:"tty,omitempty"`
	OpenInput  bool              `json:"stdinOpen,omitempty"`
}

// Ulimit is a limit of the kernel's on the processes of a container.
type Ulimit struct {
	Name string `json:"name"`
	Soft int64  `json:"soft"`
	Hard int64  `json:"hard"`
}

// Device is one of this machine's inside of a container.
type Device struct {
	Source      string `json:"source"`
	Target      string `json:"target"`
	Permissions string `json:"permissions"`
}

// Request asks for devices by what they can do. Count is -1 for all of them.
type Request struct {
	Driver       string            `json:"driver,omitempty"`
	Count        int               `json:"count,omitempty"`
	IDs          []string          `json:"ids,omitempty"`
	Capabilities []string          `json:"capabilities,omitempty"`
	Options      map[string]string `json:"options,omitempty"`
}

// BlockIO are weights and limits of reading from and writing to disks.
type BlockIO struct {
	Weight    uint16 `json:"weight,omitempty"`
	Weights   []Rate `json:"weights,omitempty"`
	ReadBps   []Rate `json:"readBps,omitempty"` // bytes a second
	WriteBps  []Rate `json:"writeBps,omitempty"`
	ReadIOps  []Rate `json:"readIOps,omitempty"` // operations a second
	WriteIOps []Rate `json:"writeIOps,omitempty"`
}

// Rate is a weight or a limit of one device.
type Rate struct {
	Path string `json:"path"`
	Rate uint64 `json:"rate"`
}

// Logging is where an engine puts what a container writes.
type Logging struct {
	Driver  string            `json:"driver,omitempty"`
	Options map[string]string `json:"options,omitempty"`
}

// Mount is a named volume, a folder of the machine, memory or an image inside a container.
type Mount struct {
	Type     string `json:"type"` // "volume", "bind", "tmpfs", "image", "npipe" or "cluster"
	Source   string `json:"source"`
	Target   string `json:"target"`
	ReadOnly bool   `json:"readOnly,omitempty"`
	At       Place  `json:"at"`

	// MustExist is true for a folder of the machine that is not made where there is none.
	MustExist   bool              `json:"mustExist,omitempty"`
	Propagation string            `json:"propagation,omitempty"`
	Recursive   string            `json:"recursive,omitempty"`
	Relabel     string            `json:"selinux,omitempty"` // z, or Z
	NoCopy      bool              `json:"noCopy,omitempty"`
	Subpath     string            `json:"subpath,omitempty"`
	Labels      map[string]string `json:"labels,omitempty"`
	Size        int64             `json:"size,omitempty"` // of memory, in bytes
	Mode        string            `json:"mode,omitempty"` // of memory, octal
	Consistency string            `json:"consistency,omitempty"`
}

// Health is a command that tells whether a container's service works. Durations are in seconds.
type Health struct {
	Test          []string `json:"test"` // NONE; CMD and words; CMD-SHELL and one line; empty for the image's
	Interval      float64  `json:"interval,omitempty"`
	Timeout       float64  `json:"timeout,omitempty"`
	StartPeriod   float64  `json:"startPeriod,omitempty"`
	StartInterval float64  `json:"startInterval,omitempty"`
	Retries       int      `json:"retries,omitempty"`
}

// Network and Volume are made for the stack, unless External says that they exist already.
type Network struct {
	Name       string            `json:"name,omitempty"`
	External   bool              `json:"external,omitempty"`
	Internal   bool              `json:"internal,omitempty"`
	Driver     string            `json:"driver,omitempty"`
	Options    map[string]string `json:"options,omitempty"`
	Attachable bool              `json:"attachable,omitempty"`
	IPv4       *bool             `json:"ipv4,omitempty"`
	IPv6       *bool             `json:"ipv6,omitempty"`
	Labels     map[string]string `json:"labels,omitempty"`
	IPAM       *IPAM             `json:"ipam,omitempty"`
	At         Place             `json:"at,omitzero"`
}

// IPAM is how the addresses of a network are given out.
type IPAM struct {
	Driver  string            `json:"driver,omitempty"`
	Options map[string]string `json:"options,omitempty"`
	Pools   []Pool            `json:"pools,omitempty"`
}

// Pool is a range of addresses.
type Pool struct {
	Subnet    string            `json:"subnet,omitempty"`
	Range     string            `json:"range,omitempty"`
	Gateway   string            `json:"gateway,omitempty"`
	Addresses map[string]string `json:"addresses,omitempty"` // taken by others, by host name
}

// Volume is storage that outlives containers.
type Volume struct {
	Name     string            `json:"name,omitempty"`
	External bool              `json:"external,omitempty"`
	Driver   string            `json:"driver,omitempty"`
	Options  map[string]string `json:"options,omitempty"`
	Labels   map[string]string `json:"labels,omitempty"`
	At       Place             `json:"at,omitzero"`
}

// Binds are the files and folders of this machine that the container sees.
func (c *ContainerSpec) Binds() []string {
	var out []string
	for _, m := range c.Mounts {
		if m.Type == "bind" {
			out = append(out, m.Source)
		}
	}
	return out
}
