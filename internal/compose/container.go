package compose

import (
	"math"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
)

// The typed form of what a service asks of an engine. All values were checked on the way into the
// long form.

// container decodes a service's mapping. Variables that it takes over as they are come from env.
func (p *Project) container(name string, v *Value, env dotenv.Lookup) *stack.ContainerSpec {
	c := &stack.ContainerSpec{
		WorkingDir: v.Get("working_dir").or(""), User: v.Get("user").or(""),
		Named: v.Get("container_name").or(""), Hostname: v.Get("hostname").or(""),
		Labels: table(v.Get("labels")), LabelFiles: list(v.Get("label_file")),
		Platform: v.Get("platform").or(""), PullPolicy: v.Get("pull_policy").or(""),
		StopSignal: v.Get("stop_signal").or(""), NetworkMode: v.Get("network_mode").or(""),
		PostStart: hooks(v.Get("post_start")), PreStop: hooks(v.Get("pre_stop")),
		VolumesFrom: list(v.Get("volumes_from")), EngineSocket: truth(v.Get("use_api_socket")),
		Links: list(v.Get("links")), ExternalLinks: list(v.Get("external_links")),
		Confinement: confinement(v),
	}
	if e := v.Get("entrypoint"); e != nil && e.Kind == Sequence {
		c.Entrypoint = append([]string{}, list(e)...)
	}
	if d, err := ParseDuration(v.Get("stop_grace_period").or("10s")); err == nil {
		c.StopGrace = d.Seconds()
	}
	c.Replicas = replicas(v)
	for _, d := range v.Get("depends_on").orEmpty().Members {
		if truth(d.Value.Get("restart")) {
			c.RestartWith = append(c.RestartWith, d.Key)
		}
	}
	if h := v.Get("healthcheck"); h != nil {
		c.Health = health(h)
	}
	if b := v.Get("build"); b != nil {
		c.Building = p.building(b, env)
	}
	for _, section := range []string{"secrets", "configs"} {
		for _, g := range v.Get(section).orEmpty().Items {
			h := p.handed(section, g, env)
			c.Handed = append(c.Handed, h)
			if h.File != "" && h.UID+h.GID+h.Mode == "" { // else it is put into the container
				c.Mounts = append(c.Mounts,
					stack.Mount{Type: "bind", Source: h.File, Target: h.Target, ReadOnly: true,
						MustExist: true, At: h.At})
			}
		}
	}
	for _, m := range v.Get("volumes").orEmpty().Items {
		c.Mounts = append(c.Mounts, mounted(m))
	}
	for _, w := range v.Get("develop").Get("watch").orEmpty().Items {
		c.Watch = append(c.Watch, watched(w))
	}
	networks(c, name, v)
	return c
}

// replicas is how often a service is to run; nil if nobody says so.
func replicas(v *Value) *int {
	for _, n := range []*Value{v.Get("scale"), v.Get("deploy").Get("replicas")} {
		if n != nil && n.Kind == Number {
			count := int(whole64(n))
			return &count
		}
	}
	return nil
}

// networks decodes where a service is on the network, and by which names others find it.
func networks(c *stack.ContainerSpec, name string, v *Value) {
	c.Attached = map[string]stack.Attach{}
	for _, n := range v.Get("networks").orEmpty().Members {
		c.Networks = append(c.Networks, n.Key)
		at := n.Value
		c.Attached[n.Key] = stack.Attach{Aliases: list(at.Get("aliases")),
			IPv4: at.Get("ipv4_address").or(""),
			IPv6: at.Get("ipv6_address").or(""), LinkLocal: list(at.Get("link_local_ips")),
			MAC: at.Get("mac_address").or(""), DriverOpts: table(at.Get("driver_opts")),
			Gateway:  int(whole64(at.Get("gw_priority"))),
			Priority: int(whole64(at.Get("priority")))}
		if name := at.Get("interface_name").or(""); name != "" {
			end := c.Attached[n.Key]
			if end.DriverOpts == nil {
				end.DriverOpts = map[string]string{}
			}
			end.DriverOpts["com.docker.network.endpoint.ifname"] = name
			c.Attached[n.Key] = end
		}
		for _, alias := range list(at.Get("aliases")) {
			if !slices.Contains(c.Aliases, alias) {
				c.Aliases = append(c.Aliases, alias)
			}
		}
	}
	// The one of the highest priority is what the container is made with.
	slices.SortStableFunc(c.Networks,
		func(a, b string) int { return c.Attached[b].Priority - c.Attached[a].Priority })
	for _, other := range []string{c.Hostname, c.Named} {
		if other != "" && other != name && !slices.Contains(c.Aliases, other) {
			c.Aliases = append(c.Aliases, other)
		}
	}
	if len(c.Networks) == 0 && c.NetworkMode == "" {
		c.Networks = []string{"default"}
	}
	if mac := v.Get("mac_address").or(""); mac != "" && len(c.Networks) > 0 {
		first := c.Attached[c.Networks[0]]
		if first.MAC == "" {
			first.MAC = mac
		}
		c.Attached[c.Networks[0]] = first
	}
}

func confinement(v *Value) stack.Confinement {
	limits, reserved := v.Get("deploy").Get("resources").Get("limits"), v.Get("deploy").Get("resources").Get(
		"reservations")
	out := stack.Confinement{
		Memory:            whole64(either(v.Get("mem_limit"), limits.Get("memory"))),
		MemoryReservation: whole64(either(v.Get("mem_reservation"), reserved.Get("memory"))),
		MemorySwap:        whole64(v.Get("memswap_limit")),
		MemorySwappiness:  maybe64(v.Get("mem_swappiness")),
		ShmSize:           whole64(v.Get("shm_size")),
		NanoCPUs: nanos(either(v.Get("cpus"),
			limits.Get("cpus"))), CPUShares: whole64(v.Get("cpu_shares")),
		CPUPeriod: micros(v.Get("cpu_period")), CPUQuota: micros(v.Get("cpu_quota")),
		CPURealtimePeriod:  micros(v.Get("cpu_rt_period")),
		CPURealtimeRuntime: micros(v.Get("cpu_rt_runtime")),
		CPUCount:           whole64(v.Get("cpu_count")), CPUPercent: whole64(v.Get("cpu_percent")),
		CPUSet: v.Get("cpuset").or(""), Pids: maybe64(either(v.Get("pids_limit"),
			limits.Get("pids"))),
		NoOOMKill: truth(v.Get("oom_kill_disable")), OOMScore: int(whole64(v.Get("oom_score_adj"))),
		BlockIO: blockIO(v.Get("blkio_config")), Ulimits: limitsOf(v.Get("ulimits")),
		DeviceACL:  list(v.Get("device_cgroup_rules")),
		Privileged: truth(v.Get("privileged")), ReadOnly: truth(v.Get("read_only")),
		CapAdd: list(v.Get("cap_add")), CapDrop: list(v.Get("cap_drop")),
		SecurityOpt: list(v.Get("security_opt")),
		Sysctls:     table(v.Get("sysctls")), GroupAdd: list(v.Get("group_add")),
		PID: v.Get("pid").or(""), IPC: v.Get("ipc").or(""), UTS: v.Get("uts").or(""), UserNS: v.Get(
			"userns_mode").or(""),
		CgroupNS: v.Get("cgroup").or(""), CgroupOf: v.Get("cgroup_parent").or(""),
		Runtime:   v.Get("runtime").or(""),
		Isolation: v.Get("isolation").or(""), StorageOpt: table(v.Get("storage_opt")),
		Annotations: table(v.Get("annotations")), Domainname: v.Get("domainname").or(""),
		DNS: list(v.Get("dns")), DNSOptions: list(v.Get("dns_opt")),
		DNSSearch:  list(v.Get("dns_search")),
		ExtraHosts: list(v.Get("extra_hosts")), TTY: truth(v.Get("tty")),
		OpenInput: truth(v.Get("stdin_open")),
	}
	if i := v.Get("init"); i != nil && i.Kind == Bool {
		on := truth(i)
		out.Init = &on
	}
	for _, d := range v.Get("devices").orEmpty().Items {
		source := d.Get("source").or("")
		if strings.Contains(source, "=") { // vendor.com/class=name: a device by its kind, not by its file
			out.Requests = append(out.Requests, stack.Request{Driver: "cdi", IDs: []string{source}})
			continue
		}
		out.Devices = append(out.Devices,
			stack.Device{Source: source, Target: d.Get("target").or(source),
				Permissions: d.Get("permissions").or("rwm")})
	}
	for _, r := range v.Get("gpus").orEmpty().Items {
		out.Requests = append(out.Requests, request(r, "gpu"))
	}
	for _, r := range reserved.Get("devices").orEmpty().Items {
		out.Requests = append(out.Requests, request(r))
	}
	if l := v.Get("logging"); l != nil {
		out.Logging = &stack.Logging{Driver: l.Get("driver").or(""),
			Options: table(l.Get("options"))}
	}
	for _, t := range v.Get("tmpfs").orEmpty().Items {
		if out.Tmpfs == nil {
			out.Tmpfs = map[string]string{}
		}
		folder, options, _ := strings.Cut(t.Text, ":")
		out.Tmpfs[folder] = options
	}
	return out
}

// request is one of devices by what they can do, all of them where no number is said.
func request(v *Value, more ...string) stack.Request {
	r := stack.Request{Driver: v.Get("driver").or(""), IDs: list(v.Get("device_ids")),
		Options:      table(v.Get("options")),
		Capabilities: append(more, list(v.Get("capabilities"))...)}
	switch count := v.Get("count").or(""); {
	case len(r.IDs) > 0:
	case count == "" || count == "all":
		r.Count = -1
	default:
		r.Count, _ = strconv.Atoi(count)
	}
	return r
}

func blockIO(v *Value) *stack.BlockIO {
	if v == nil {
		return nil
	}
	rates := func(key, number string) (out []stack.Rate) {
		for _, d := range v.Get(key).orEmpty().Items {
			text := d.Get(number).or("0")
			rate, err := strconv.ParseUint(text, 10, 64)
			if err != nil {
				bytes, _ := ParseBytes(text)
				rate = uint64(max(0, bytes))
			}
			out = append(out, stack.Rate{Path: d.Get("path").or(""), Rate: rate})
		}
		return out
	}
	return &stack.BlockIO{Weight: uint16(whole64(v.Get("weight"))),
		Weights: rates("weight_device", "weight"),
		ReadBps: rates("device_read_bps", "rate"), WriteBps: rates("device_write_bps", "rate"),
		ReadIOps: rates("device_read_iops", "rate"), WriteIOps: rates("device_write_iops", "rate")}
}

func limitsOf(v *Value) (out []stack.Ulimit) {
	for _, m := range v.orEmpty().Members {
		soft, hard := m.Value.Get("soft"), m.Value.Get("hard")
		out = append(out, stack.Ulimit{Name: m.Key, Soft: whole64(either(soft, hard)),
			Hard: whole64(either(hard, soft))})
	}
	slices.SortFunc(out, func(a, b stack.Ulimit) int { return strings.Compare(a.Name, b.Name) })
	return out
}

func hooks(v *Value) (out []stack.Hook) {
	for _, h := range v.orEmpty().Items {
		out = append(out, stack.Hook{Command: list(h.Get("command")), User: h.Get("user").or(""),
			WorkingDir: h.Get("working_dir").or(""), Env: table(h.Get("environment")),
			Privileged: truth(h.Get("privileged"))})
	}
	return out
}

// building decodes how an image is built; the context's folder is the service's Build.
func (p *Project) building(b *Value, env dotenv.Lookup) stack.Building {
	out := stack.Building{
		Inline: b.Get("dockerfile_inline").or(""), Dockerfile: b.Get("dockerfile").or(""),
		Target:    b.Get("target").or(""),
		BuildArgs: map[string]string{}, BuildLabels: table(b.Get("labels")),
		BuildNetwork: b.Get("network").or(""),
		BuildHosts:   list(b.Get("extra_hosts")), BuildShm: whole64(b.Get("shm_size")),
		BuildUlimits: limitsOf(b.Get("ulimits")), NoCache: truth(b.Get("no_cache")),
		PullBase:  truth(b.Get("pull")),
		CacheFrom: list(b.Get("cache_from")), CacheTo: list(b.Get("cache_to")),
		Tags:      list(b.Get("tags")),
		Platforms: list(b.Get("platforms")), Contexts: table(b.Get("additional_contexts")),
		SSH:          table(b.Get("ssh")),
		Entitlements: list(b.Get("entitlements")), BuildIsolate: b.Get("isolation").or(""),
		BuildAsRoot: truth(b.Get("privileged")),
	}
	if out.Inline != "" {
		out.Dockerfile = ""
	}
	if context := b.Get("context").or("."); Remote(context) {
		out.Remote = context
	}
	for _, a := range b.Get("args").orEmpty().Members {
		if a.Value.Kind != Null {
			out.BuildArgs[a.Key] = a.Value.Text
		} else if value, set := env(a.Key); set {
			out.BuildArgs[a.Key] = value
		}
	}
	for _, g := range b.Get("secrets").orEmpty().Items {
		h := p.handed("secrets", g, env)
		if h.Target = g.Get("target").or(""); h.Target == "" {
			h.Target = h.Name
		}
		out.BuildHands = append(out.BuildHands, h)
	}
	return out
}

// handed decodes what a service may read of a secret or a config, with where that is from.
func (p *Project) handed(section string, g *Value, env dotenv.Lookup) stack.Handed {
	h := stack.Handed{Name: g.Get("source").or(""), Secret: section == "secrets",
		UID: g.Get("uid").or(""),
		GID: g.Get("gid").or(""), Mode: mode(g.Get("mode")), Target: g.Get("target").or(""),
		At: g.At()}
	if h.Target == "" {
		h.Target = h.Name
		if !h.Secret {
			h.Target = "/" + h.Name
		}
	}
	if !path.IsAbs(h.Target) {
		h.Target = path.Join("/run/secrets", h.Target)
	}
	from := p.Model.Get(section).Get(h.Name)
	h.File, h.External = from.Get("file").or(""), truth(from.Get("external"))
	switch variable := from.Get("environment").or(""); {
	case variable != "":
		set := false
		if h.Content, set = env(variable); !set &&
			!slices.ContainsFunc(p.Unset, func(u stack.Variable) bool {
				return u.Name == variable
			}) {
			p.Unset = append(p.Unset, stack.Variable{Name: variable,
				At: from.Get("environment").At()})
		}
	case h.File == "":
		h.Content = from.Get("content").or("")
	}
	return h
}

// mode is a file's mode in octal digits: the numbers of YAML may be octal themselves, and are read
// as such.
func mode(v *Value) string {
	text := v.or("")
	if text == "" {
		return ""
	}
	if v.Kind == Number && !strings.HasPrefix(text, "0") {
		if n, err := strconv.ParseInt(text, 10, 32); err == nil && n > 0o777 {
			return strconv.FormatInt(n, 8) // a decimal number that is too large for octal digits
		}
	}
	return strings.TrimPrefix(strings.TrimPrefix(text, "0o"), "0O")
}

func watched(w *Value) stack.Watch {
	out := stack.Watch{Action: w.Get("action").or(""), Path: w.Get("path").or("."),
		Target: w.Get("target").or(""),
		Ignore: list(w.Get("ignore")), Include: list(w.Get("include")),
		Initial: truth(w.Get("initial_sync"))}
	if e := w.Get("exec"); e != nil {
		one := &Value{Kind: Sequence, Items: []*Value{e}}
		if h := hooks(one); len(h) == 1 {
			out.Exec = &h[0]
		}
	}
	return out
}

func mounted(m *Value) stack.Mount {
	kind := m.Get("type").or("volume")
	own := m.Get(kind)
	out := stack.Mount{Type: kind, Source: m.Get("source").or(""), Target: m.Get("target").or(""),
		ReadOnly: truth(m.Get("read_only")), At: m.At(), Consistency: m.Get("consistency").or(""),
		Propagation: own.Get("propagation").or(""), Recursive: own.Get("recursive").or(""),
		Relabel: own.Get("selinux").or(""), NoCopy: truth(own.Get("nocopy")),
		Subpath: own.Get("subpath").or(""),
		Labels:  table(own.Get("labels")), Size: whole64(own.Get("size")),
		Mode: mode(own.Get("mode"))}
	if create := own.Get("create_host_path"); kind == "bind" {
		out.MustExist = create != nil && !truth(create)
	}
	return out
}

func (p *Project) network(m Member) stack.Network {
	v := m.Value
	n := stack.Network{Name: v.Get("name").or(""), External: truth(v.Get("external")),
		Internal: truth(v.Get("internal")), Driver: v.Get("driver").or(""),
		Options:    table(v.Get("driver_opts")),
		Attachable: truth(v.Get("attachable")), IPv4: maybe(v.Get("enable_ipv4")),
		IPv6:   maybe(v.Get("enable_ipv6")),
		Labels: table(v.Get("labels")), At: stack.Place{File: v.File, Line: m.Line}}
	if ipam := v.Get("ipam"); ipam != nil {
		n.IPAM = &stack.IPAM{Driver: ipam.Get("driver").or(""), Options: table(ipam.Get("options"))}
		for _, c := range ipam.Get("config").orEmpty().Items {
			n.IPAM.Pools = append(n.IPAM.Pools,
				stack.Pool{Subnet: c.Get("subnet").or(""), Range: c.Get("ip_range").or(""),
					Gateway: c.Get("gateway").or(""), Addresses: table(c.Get("aux_addresses"))})
		}
	}
	return n
}

func (p *Project) volume(m Member) stack.Volume {
	v := m.Value
	return stack.Volume{Name: v.Get("name").or(""), External: truth(v.Get("external")),
		Driver:  v.Get("driver").or(""),
		Options: table(v.Get("driver_opts")), Labels: table(v.Get("labels")),
		At: stack.Place{File: v.File, Line: m.Line}}
}

// table is a mapping of texts; it is never nil, but for a value that is not there.
func table(v *Value) map[string]string {
	if v == nil {
		return nil
	}
	out := make(map[string]string, len(v.Members))
	for _, m := range v.Members {
		out[m.Key] = m.Value.or("")
	}
	return out
}

func either(a, b *Value) *Value {
	if a != nil && a.Kind != Null {
		return a
	}
	return b
}

func whole64(v *Value) int64 {
	n, err := strconv.ParseInt(v.or("0"), 0, 64)
	if err != nil {
		f, _ := strconv.ParseFloat(v.or("0"), 64)
		return int64(f)
	}
	return n
}

func maybe64(v *Value) *int64 {
	if v == nil || v.Kind == Null {
		return nil
	}
	n := whole64(v)
	return &n
}

func maybe(v *Value) *bool {
	if v == nil || v.Kind != Bool {
		return nil
	}
	on := truth(v)
	return &on
}

// nanos is a number of processors in billionths of one.
func nanos(v *Value) int64 {
	f, err := strconv.ParseFloat(v.or("0"), 64)
	if err != nil || f < 0 || f > 1<<20 {
		return 0
	}
	return int64(math.Round(f * 1e9))
}

// micros is a time in microseconds: a number of them, or a duration.
func micros(v *Value) int64 {
	if d, err := ParseDuration(v.or("0")); err == nil && strings.ContainsAny(v.or(""), "smh") {
		return d.Microseconds()
	}
	return whole64(v)
}
