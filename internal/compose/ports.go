package compose

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"nimbleharbor/internal/stack"
)

// PortRange is one short-form port: [[HOST_IP:]PUBLISHED:]TARGET[/PROTOCOL], with equal ranges
// written out by the reader.
type PortRange struct {
	HostIP               string
	FromHost, ToHost     int // 0 if not published at a chosen port
	FromTarget, ToTarget int
	Protocol             string
}

// ParsePort reads the specification's short syntax of ports.
func ParsePort(s string) (PortRange, error) {
	r := PortRange{Protocol: "tcp"}
	rest := s
	if i := strings.LastIndexByte(rest, '/'); i >= 0 {
		r.Protocol = strings.ToLower(rest[i+1:])
		if r.Protocol != "tcp" && r.Protocol != "udp" && r.Protocol != "sctp" {
			return r, fmt.Errorf("%q is no protocol; possible are tcp, udp and sctp", rest[i+1:])
		}
		rest = rest[:i]
	}
	target := rest
	host := ""
	if i := strings.LastIndexByte(rest, ':'); i >= 0 {
		host, target = rest[:i], rest[i+1:]
	}
	var err error
	if r.FromTarget, r.ToTarget, err = parseRange(target); err != nil {
		return r, err
	}
	if host == "" {
		return r, nil
	}
	published := host
	if i := strings.LastIndexByte(host, ':'); i >= 0 {
		r.HostIP, published = strings.Trim(host[:i], "[]"), host[i+1:]
		if _, err := netip.ParseAddr(r.HostIP); err != nil {
			return r, fmt.Errorf("%q is no address of this machine", r.HostIP)
		}
	} else if _, err := netip.ParseAddr(host); err == nil {
		return r, fmt.Errorf("the port behind the address %s is missing", host)
	}
	if published == "" {
		return r, nil
	}
	if r.FromHost, r.ToHost, err = parseRange(published); err != nil {
		return r, err
	}
	if hosts, targets := r.ToHost-r.FromHost, r.ToTarget-r.FromTarget; hosts != targets &&
		targets != 0 {
		return r, fmt.Errorf("the two ranges differ in length: %d and %d ports", hosts+1, targets+1)
	}
	return r, nil
}

func parseRange(s string) (from, to int, err error) {
	a, b, isRange := strings.Cut(s, "-")
	if from, err = portNumber(a); err != nil {
		return
	}
	to = from
	if isRange {
		if to, err = portNumber(b); err != nil {
			return
		}
		if to < from {
			return 0, 0, fmt.Errorf("the range %s ends before it begins", s)
		}
	}
	return
}

func portNumber(s string) (int, error) {
	n, err := strconv.ParseUint(s, 10, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is no port number", s)
	}
	if n < 1 || n > 65535 {
		return 0, fmt.Errorf("%s is no port number: they go from 1 to 65535", s)
	}
	return int(n), nil
}

var portKeys = map[string]rule{
	"target": number, "published": text, "host_ip": text, "protocol": choice("tcp", "udp", "sctp"),
	"mode": choice("host", "ingress"), "name": text, "app_protocol": text,
}

func ports(n *normaliser, where string, v *Value) *Value {
	if v.Kind != Sequence {
		return n.wrong(where, v, "a list")
	}
	out := v.like(Sequence, "")
	long := object(portKeys)
	for i, item := range v.Items {
		at := fmt.Sprintf("%s[%d]", where, i)
		if item.Kind == Mapping {
			p := long(n, at, item)
			if p.Get("target") == nil {
				n.fault(item, stack.CodeComposeValue, at+" has no target",
					"Name the port inside the container: target: 80.")
				continue
			}
			n.longPort(at, p)
			setDefault(p, "mode", String, "ingress")
			setDefault(p, "protocol", String, "tcp")
			out.Items = append(out.Items, p)
			continue
		}
		if !item.Scalar() {
			n.wrong(at, item, "a port like 8080:80, or a mapping with target and published")
			continue
		}
		r, err := ParsePort(item.Text)
		if err != nil {
			n.fault(item, stack.CodeComposePort, fmt.Sprintf("%s: %v", at, err),
				`Write it as "PUBLISHED:TARGET", in quotes.`)
			continue
		}
		for k := 0; k <= r.ToTarget-r.FromTarget; k++ {
			p := item.like(Mapping, "")
			p.Set("mode", item.like(String, "ingress"))
			if r.HostIP != "" {
				p.Set("host_ip", item.like(String, r.HostIP))
			}
			p.Set("target", item.like(Number, strconv.Itoa(r.FromTarget+k)))
			switch {
			case r.FromHost == 0:
			case r.FromTarget == r.ToTarget && r.FromHost != r.ToHost:
				p.Set("published", item.like(String, fmt.Sprintf("%d-%d", r.FromHost, r.ToHost)))
			default:
				p.Set("published", item.like(String, strconv.Itoa(r.FromHost+k)))
			}
			p.Set("protocol", item.like(String, r.Protocol))
			out.Items = append(out.Items, p)
		}
	}
	return out
}

// longPort checks the numbers and the address of a port in the long form.
func (n *normaliser) longPort(where string, p *Value) {
	check := func(key string, err error) {
		if err != nil {
			n.fault(p.Get(key), stack.CodeComposePort, fmt.Sprintf("%s.%s: %v", where, key, err),
				"Write target: 80, and published: \"8080\" or \"8080-8090\".")
		}
	}
	_, err := portNumber(p.Get("target").or(""))
	check("target", err)
	if published := p.Get("published").or(""); published != "" && published != "0" {
		_, _, err := parseRange(published)
		check("published", err)
	}
	if ip := p.Get("host_ip").or(""); ip != "" {
		_, err := netip.ParseAddr(strings.Trim(ip, "[]"))
		if err != nil {
			err = fmt.Errorf("%q is no address of this machine", ip)
		}
		check("host_ip", err)
	}
}

func setDefault(v *Value, key string, kind Kind, text string) {
	if v.Get(key) == nil {
		v.Set(key, v.like(kind, text))
	}
}

var mountKeys = map[string]rule{
	"type": choice("volume", "bind", "tmpfs", "npipe", "cluster",
		"image"), "source": text, "target": text,
	"read_only":   truthOf,
	"consistency": text,
	"bind": object(map[string]rule{"propagation": text, "create_host_path": truthOf,
		"selinux": text, "recursive": text}),
	"volume": object(map[string]rule{"nocopy": truthOf, "subpath": text, "labels": labels}),
	"tmpfs":  object(map[string]rule{"size": byteSize, "mode": scalar}),
	"image":  object(map[string]rule{"subpath": text}),
}

// Mount is a short-form volume: [SOURCE:]TARGET[:MODE].
type Mount struct {
	Type, Source, Target string
	ReadOnly             bool
	Options              []string // of the mode, but ro and rw
}

// ParseMount reads the specification's short syntax of volumes.
func ParseMount(s string) (Mount, error) {
	parts := mountParts(s)
	m := Mount{Type: "volume"}
	switch len(parts) {
	case 1:
		m.Target = parts[0]
	case 2, 3:
		m.Source, m.Target = parts[0], parts[1]
		if m.Source == "" {
			return m, fmt.Errorf("the source before the first colon is empty")
		}
	default:
		return m, fmt.Errorf("%q has more than three parts", s)
	}
	if m.Target == "" {
		return m, fmt.Errorf("the target is empty")
	}
	if strings.HasPrefix(m.Source, ".") || strings.HasPrefix(m.Source, "/") ||
		strings.HasPrefix(m.Source, "~") || drive(m.Source) || strings.ContainsAny(m.Source, `/\`) {
		m.Type = "bind"
	}
	if len(parts) == 3 {
		for _, o := range strings.Split(parts[2], ",") {
			switch o {
			case "ro":
				m.ReadOnly = true
			case "rw", "":
			default:
				m.Options = append(m.Options, o)
			}
		}
	}
	return m, nil
}

// mountParts are what colons part in a mount's short form, but for the one of a drive's letter.
func mountParts(s string) (parts []string) {
	for rest := s; ; {
		skip := 0
		if drive(rest) {
			skip = 2
		}
		i := strings.IndexByte(rest[skip:], ':')
		if i < 0 {
			return append(parts, rest)
		}
		parts = append(parts, rest[:skip+i])
		rest = rest[skip+i+1:]
	}
}

func mounts(n *normaliser, where string, v *Value) *Value {
	if v.Kind != Sequence {
		return n.wrong(where, v, "a list")
	}
	out := v.like(Sequence, "")
	long := object(mountKeys)
	for i, item := range v.Items {
		at := fmt.Sprintf("%s[%d]", where, i)
		m := item
		switch {
		case item.Kind == Mapping:
			m = long(n, at, item)
			setDefault(m, "type", String, "volume")
			if m.Get("target") == nil {
				n.fault(item, stack.CodeComposeValue, at+" has no target",
					"Name the folder inside the container: target: /data.")
				continue
			}
		case item.Scalar():
			short, err := ParseMount(item.Text)
			if err != nil {
				n.fault(item, stack.CodeComposeVolume, fmt.Sprintf("%s: %v", at, err),
					"Write it as SOURCE:TARGET, or SOURCE:TARGET:ro.")
				continue
			}
			m = n.longMount(at, item, short)
		default:
			n.wrong(at, item, "a volume like data:/var/data, or a mapping with source and target")
			continue
		}
		if s := m.Get("source"); s != nil && m.Get("type").Text == "bind" {
			m.Set("source", s.like(String, n.within(s.Text)))
		}
		out.Items = append(out.Items, m)
	}
	return out
}

// longMount is the long form of a short one.
func (n *normaliser) longMount(at string, item *Value, short Mount) *Value {
	m := item.like(Mapping, "")
	m.Set("type", item.like(String, short.Type))
	if short.Source != "" {
		m.Set("source", item.like(String, short.Source))
	}
	m.Set("target", item.like(String, short.Target))
	if short.ReadOnly {
		m.Set("read_only", item.like(Bool, "true"))
	}
	if short.Type == "bind" {
		b := item.like(Mapping, "")
		b.Set("create_host_path", item.like(Bool, "true"))
		m.Set("bind", b)
	}
	for _, o := range short.Options {
		switch o {
		case "z", "Z":
			if b := m.Get("bind"); b != nil {
				b.Set("selinux", item.like(String, o))
			}
		case "nocopy":
			o := item.like(Mapping, "")
			o.Set("nocopy", item.like(Bool, "true"))
			m.Set("volume", o)
		case "shared", "rshared", "slave", "rslave", "private", "rprivate":
			if b := m.Get("bind"); b != nil {
				b.Set("propagation", item.like(String, o))
			}
		case "cached", "delegated", "consistent":
			m.Set("consistency", item.like(String, o))
		default:
			n.fault(item, stack.CodeComposeVolume,
				fmt.Sprintf("%s: %q is no way to mount", at, o),
				"Possible are ro, rw, z, Z, nocopy, and the names of a propagation.")
		}
	}
	return m
}
