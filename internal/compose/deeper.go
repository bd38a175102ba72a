package compose

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Rules for the keys with structure of their own, each by the chapter of the specification that
// describes it.

// byteSize follows "Specifying byte values": a number and one of b, k, kb, m, mb, g, gb; the
// canonical form is the number of bytes, as a string.
func byteSize(n *normaliser, where string, v *Value) *Value {
	size, err := ParseBytes(v.Text)
	if !v.Scalar() || err != nil {
		n.fault(v, stack.CodeComposeValue, fmt.Sprintf("%s is %q, which is no size", where, v.Text),
			"Write it like 512m, with the units b, k, m and g.")
		return v.like(String, v.Text)
	}
	return v.like(String, strconv.FormatInt(size, 10))
}

var byteValue = expr.New(`(?i)^(\d+(?:\.\d+)?)\s*([bkmgt]?)b?$`)

// ParseBytes reads a byte value of the specification, such as 512m or 1.5gb; a number alone counts
// bytes.
func ParseBytes(s string) (int64, error) {
	m := byteValue.FindStringSubmatch(strings.TrimSpace(s))
	if m == nil {
		return 0, fmt.Errorf("%q is no byte value", s)
	}
	f, ok := new(big.Float).SetString(m[1])
	if !ok {
		return 0, fmt.Errorf("%q is no byte value", s)
	}
	shift := map[string]uint{"": 0, "b": 0, "k": 10, "m": 20, "g": 30,
		"t": 40}[strings.ToLower(m[2])]
	f.Mul(f, new(big.Float).SetInt64(1<<shift))
	i, _ := f.Int64()
	if f.Cmp(new(big.Float).SetInt64(1<<62)) > 0 {
		return 0, fmt.Errorf("%q is larger than any memory", s)
	}
	return i, nil
}

// sizeOrMinusOne is byteSize, or -1 for no limit.
func sizeOrMinusOne(n *normaliser, where string, v *Value) *Value {
	if v.Text == "-1" {
		return v.like(String, "-1")
	}
	return byteSize(n, where, v)
}

// whole is a number without a fraction.
func whole(n *normaliser, where string, v *Value) *Value {
	if _, err := strconv.ParseInt(v.Text, 0, 64); !v.Scalar() || err != nil {
		return n.wrong(where, v, "a whole number")
	}
	return v.like(Number, v.Text)
}

// grant is a secret or a config that a service, or a build, may read.
func grant(root string) rule {
	one := orLong(asMember("source"),
		map[string]rule{"source": text, "target": text, "uid": text, "gid": text, "mode": scalar})
	return func(n *normaliser, where string, v *Value) *Value {
		return listOf(func(n *normaliser, where string, v *Value) *Value {
			out := one(n, where, v)
			if out.Kind == Mapping && out.Get("source") == nil {
				n.fault(v, stack.CodeComposeValue, where+" has no source",
					"Name one that is defined below "+root+": at the top.")
			}
			return out
		})(n, where, v)
	}
}

// ulimits takes one number for both, the soft and the hard limit.
var ulimits = mapOf(func(n *normaliser, where string, v *Value) *Value {
	if v.Kind == Mapping {
		return object(map[string]rule{"soft": whole, "hard": whole})(n, where, v)
	}
	limit := whole(n, where, v)
	out := v.like(Mapping, "")
	out.Set("soft", limit)
	out.Set("hard", limit)
	return out
})

// devices takes SOURCE[:TARGET[:PERMISSIONS]].
var devices = listOf(orLong(func(n *normaliser, where string, v *Value) *Value {
	parts := strings.Split(v.Text, ":")
	out := v.like(Mapping, "")
	if len(parts) > 3 || parts[0] == "" {
		n.fault(v, stack.CodeComposeValue,
			fmt.Sprintf("%s is %q, which is no device", where, v.Text),
			"Write it as /dev/SOURCE:/dev/TARGET:rwm.")
		return out
	}
	target, permissions := parts[0], "rwm"
	if len(parts) > 1 && parts[1] != "" {
		target = parts[1]
	}
	if len(parts) > 2 {
		permissions = parts[2]
	}
	out.Set("source", v.like(String, parts[0]))
	out.Set("target", v.like(String, target))
	out.Set("permissions", v.like(String, permissions))
	return out
}, map[string]rule{"source": text, "target": text, "permissions": text}))

var deviceRequests = listOf(object(map[string]rule{
	"capabilities": listOf(text), "driver": text, "count": scalar, "device_ids": listOf(text),
	"options": pairs,
}))

var resources = map[string]rule{
	"cpus": text, "memory": byteSize, "pids": whole, "devices": deviceRequests,
	"generic_resources": anything,
}

var rollout = object(map[string]rule{
	"parallelism": whole, "delay": duration, "failure_action": text, "monitor": duration,
	"max_failure_ratio": number,
	"order":             choice("stop-first", "start-first"),
})

var deploy = object(map[string]rule{
	"mode": choice("global", "replicated", "replicated-job",
		"global-job"), "replicas": whole, "endpoint_mode": text,
	"labels": labels,
	"placement": object(map[string]rule{"constraints": listOf(text), "preferences": anything,
		"max_replicas_per_node": whole}),
	"resources": object(map[string]rule{"limits": object(resources),
		"reservations": object(resources)}),
	"restart_policy": object(map[string]rule{
		"condition": choice("none", "on-failure", "any"), "delay": duration, "max_attempts": whole,
		"window": duration}),
	"update_config": rollout, "rollback_config": rollout,
})

var logging = object(map[string]rule{"driver": text, "options": mapOf(scalar)})

var weightDevice = object(map[string]rule{"path": text, "weight": whole})
var rateDevice = object(map[string]rule{"path": text, "rate": scalar})

var blkio = object(map[string]rule{
	"weight": whole, "weight_device": listOf(weightDevice), "device_read_bps": listOf(rateDevice),
	"device_write_bps": listOf(rateDevice),
	"device_read_iops": listOf(rateDevice), "device_write_iops": listOf(rateDevice),
})

var develop = object(map[string]rule{"watch": listOf(object(map[string]rule{
	"action": choice("rebuild", "sync", "restart", "sync+restart",
		"sync+exec"), "path": filePath, "target": text,
	"ignore": oneOrMore(text), "include": oneOrMore(text),
	"exec": object(hookKeys), "initial_sync": truthOf,
}))})

var hookKeys = map[string]rule{"command": words, "user": text, "privileged": truthOf,
	"working_dir": text, "environment": pairs}

var hook = listOf(object(hookKeys))

var credentialSpec = object(map[string]rule{"config": text, "file": text, "registry": text})

// gpus takes "all" for every one of them.
func gpus(n *normaliser, where string, v *Value) *Value {
	if v.Scalar() && v.Text == "all" {
		one := v.like(Mapping, "")
		one.Set("count", v.like(String, "all"))
		out := v.like(Sequence, "")
		out.Items = []*Value{one}
		return out
	}
	return deviceRequests(n, where, v)
}

var ipam = object(map[string]rule{
	"driver": text, "options": mapOf(scalar),
	"config": listOf(object(map[string]rule{"subnet": text, "ip_range": text, "gateway": text,
		"aux_addresses": mapOf(text)})),
})

// additionalContexts takes a mapping, or a list of NAME=PATH.
func additionalContexts(n *normaliser, where string, v *Value) *Value {
	out := pairs(n, where, v)
	for i := range out.Members {
		if m := &out.Members[i]; m.Value.Scalar() && !Remote(m.Value.Text) &&
			!strings.HasPrefix(m.Value.Text, "service:") {
			m.Value = m.Value.like(String, n.within(m.Value.Text))
		}
	}
	return out
}

var serviceModels = named(object(map[string]rule{"endpoint_var": text, "model_var": text}))

var provider = object(map[string]rule{"type": text, "options": mapOf(anything)})

// extends takes the name of a service of the same file.
func extends(n *normaliser, where string, v *Value) *Value {
	out := orLong(asMember("service"), map[string]rule{"service": text, "file": text})(n, where, v)
	if out.Kind == Mapping && out.Get("service") == nil {
		n.fault(v, stack.CodeComposeValue, where+" has no service",
			"Name the service whose keys are taken over: service: base.")
	}
	if f := out.Get("file"); f != nil {
		out.Set("file", f.like(String, n.within(f.Text)))
	}
	return out
}

// include takes paths, or mappings with path, project_directory and env_file.
func include(n *normaliser, where string, v *Value) *Value {
	paths := oneOrMore(filePath)
	return listOf(func(n *normaliser, where string, v *Value) *Value {
		if v.Scalar() {
			out := v.like(Mapping, "")
			out.Set("path", paths(n, where, v))
			return out
		}
		out := object(map[string]rule{"path": paths, "project_directory": filePath,
			"env_file": paths})(n, where, v)
		if out.Kind == Mapping && out.Get("path") == nil {
			n.fault(v, stack.CodeComposeValue, where+" has no path",
				"Name the file: path: ./other/compose.yaml.")
		}
		return out
	})(n, where, v)
}
