package compose

import (
	"fmt"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// The keys of the Compose Specification, each with the rule that reads it.

var topLevel map[string]rule

func init() {
	topLevel = map[string]rule{
		"version":  scalar,
		"name":     text,
		"services": calledRightly("service", mapOf(object(serviceKeys))),
		"networks": calledRightly("network", mapOf(elsewhere(networkKeys))),
		"volumes":  calledRightly("volume", mapOf(elsewhere(volumeKeys))),
		"secrets":  calledRightly("secret", mapOf(elsewhere(fileKeys))),
		"configs":  calledRightly("config", mapOf(elsewhere(fileKeys))),
		"include":  include,
		"models":   anything,
	}
}

var networkKeys = map[string]rule{
	"name": text, "driver": text, "driver_opts": mapOf(scalar), "attachable": truthOf,
	"enable_ipv4": truthOf,
	"enable_ipv6": truthOf,
	"external":    external, "internal": truthOf, "labels": labels, "ipam": ipam,
}

var volumeKeys = map[string]rule{
	"name": text, "driver": text, "driver_opts": mapOf(scalar), "external": external,
	"labels": labels,
}

var fileKeys = map[string]rule{
	"name": text, "file": filePath, "environment": text, "content": text, "external": external,
	"labels": labels,
	"driver": text, "driver_opts": mapOf(scalar), "template_driver": text,
}

// external is true or false; old files gave a mapping with the name, which elsewhere takes over.
func external(n *normaliser, where string, v *Value) *Value {
	if v.Kind == Mapping {
		object(map[string]rule{"name": text})(n, where, v)
		return v.like(Bool, "true")
	}
	return truthOf(n, where, v)
}

// elsewhere is something that may be made by others, under another name.
func elsewhere(keys map[string]rule) rule {
	known := object(keys)
	return func(n *normaliser, where string, v *Value) *Value {
		out := known(n, where, v)
		if old := v.Get("external").Get("name"); old != nil && old.Scalar() &&
			out.Get("name") == nil {
			out.Set("name", old.like(String, old.Text))
		}
		return out
	}
}

// plainName is what services, networks and the like may be called.
var plainName = expr.New(`^[a-zA-Z0-9._-]+$`)

// calledRightly refuses names that the specification does not allow.
func calledRightly(what string, r rule) rule {
	return func(n *normaliser, where string, v *Value) *Value {
		out := r(n, where, v)
		for _, m := range out.Members {
			if !plainName.MatchString(m.Key) && out.Kind == Mapping {
				n.fault(&Value{File: v.File, Line: m.Line, Column: m.Column},
					stack.CodeComposeValue, fmt.Sprintf("%q is no name of a %s", m.Key, what),
					"Use letters, digits, dots, dashes and underscores alone.")
			}
		}
		return out
	}
}

var buildKeys = map[string]rule{
	"context": text, "dockerfile": text, "dockerfile_inline": text, "args": pairs, "target": text,
	"ssh":        pairs,
	"cache_from": listOf(text),
	"cache_to":   listOf(text), "additional_contexts": additionalContexts,
	"extra_hosts": extraHosts, "isolation": text,
	"labels": labels, "network": text,
	"no_cache": truthOf, "pull": truthOf, "shm_size": byteSize, "secrets": grant("secrets"),
	"tags":       listOf(text),
	"platforms":  listOf(text),
	"privileged": truthOf, "ulimits": ulimits, "entitlements": listOf(text), "provenance": scalar,
	"sbom": scalar,
}

var serviceKeys = map[string]rule{
	"annotations": labels, "attach": truthOf, "blkio_config": blkio, "build": build,
	"cap_add":  listOf(text),
	"cap_drop": listOf(text),
	"cgroup":   text, "cgroup_parent": text, "command": words, "configs": grant("configs"),
	"container_name": text,
	"cpu_count":      number,
	"cpu_percent":    number, "cpu_period": scalar, "cpu_quota": scalar, "cpu_rt_period": scalar,
	"cpu_rt_runtime": scalar,
	"cpu_shares":     number,
	"cpus":           number, "cpuset": text, "credential_spec": credentialSpec,
	"depends_on": dependsOn, "deploy": deploy,
	"develop":             develop,
	"device_cgroup_rules": listOf(text), "devices": devices, "dns": oneOrMore(text),
	"dns_opt":    listOf(text),
	"dns_search": oneOrMore(text),
	"domainname": text, "driver_opts": mapOf(scalar), "entrypoint": words, "env_file": envFiles,
	"environment": pairs,
	"expose":      listOf(text), "extends": extends, "external_links": listOf(text),
	"extra_hosts": extraHosts, "gpus": gpus,
	"group_add": listOf(text), "healthcheck": object(healthKeys), "hostname": text, "image": text,
	"init": truthOf,
	"ipc":  text, "isolation": text,
	"label_file": oneOrMore(filePath), "labels": labels, "links": listOf(text), "logging": logging,
	"mac_address":     text,
	"mem_limit":       byteSize,
	"mem_reservation": byteSize, "mem_swappiness": number, "memswap_limit": sizeOrMinusOne,
	"models":       serviceModels,
	"network_mode": text,
	"networks":     named(object(attachKeys)), "oom_kill_disable": truthOf,
	"oom_score_adj": number, "pid": text,
	"pids_limit": number,
	"platform":   text, "ports": ports, "post_start": hook, "pre_stop": hook, "privileged": truthOf,
	"profiles": listOf(text),
	"provider": provider, "pull_policy": pullPolicy, "read_only": truthOf, "restart": restart,
	"runtime":      text,
	"scale":        whole,
	"secrets":      grant("secrets"),
	"security_opt": listOf(text), "shm_size": byteSize, "stdin_open": truthOf,
	"stop_grace_period": duration,
	"stop_signal":       text,
	"storage_opt":       mapOf(scalar), "sysctls": pairs, "tmpfs": oneOrMore(text), "tty": truthOf,
	"ulimits":        ulimits,
	"use_api_socket": truthOf,
	"user":           text, "userns_mode": text, "uts": text, "volumes": mounts,
	"volumes_from": listOf(text),
	"working_dir":  text,
}

var attachKeys = map[string]rule{
	"aliases": listOf(text), "interface_name": text, "ipv4_address": text, "ipv6_address": text,
	"link_local_ips": listOf(text),
	"mac_address":    text, "driver_opts": mapOf(scalar), "gw_priority": number, "priority": number,
}

var healthKeys = map[string]rule{
	"test": healthTest, "interval": duration, "timeout": duration, "start_period": duration,
	"start_interval": duration,
	"retries":        number, "disable": truthOf,
}

func envFiles(n *normaliser, where string, v *Value) *Value {
	return oneOrMore(func(n *normaliser, where string, v *Value) *Value {
		out := orLong(asMember("path"), map[string]rule{"path": text, "required": truthOf,
			"format": choice("raw")})(n, where, v)
		if p := out.Get("path"); p != nil {
			out.Set("path", p.like(String, n.within(p.Text)))
		} else if out.Kind == Mapping {
			n.fault(v, stack.CodeComposeValue, where+" has no path",
				"Name the file: path: ./app.env.")
		}
		return out
	})(n, where, v)
}

// restart says when the engine starts a container again by itself.
func restart(n *normaliser, where string, v *Value) *Value {
	v = text(n, where, v)
	policy, times, counted := strings.Cut(v.Text, ":")
	if _, err := strconv.ParseUint(times, 10, 31); counted &&
		(err != nil || policy != "on-failure") {
		policy = "" // only a failure can be counted
		counted = false
	}
	switch policy {
	case "no", "false":
		return v.like(String, "no")
	case "always", "unless-stopped", "on-failure":
		return v
	}
	n.fault(v, stack.CodeComposeValue,
		fmt.Sprintf("%s is %q; possible are no, always, unless-stopped, on-failure and "+
			"on-failure:TIMES", where, v.Text), "Write one of these.")
	return v
}

// pullPolicy says when an image is fetched.
func pullPolicy(n *normaliser, where string, v *Value) *Value {
	v = text(n, where, v)
	switch v.Text {
	case "always", "never", "missing", "if_not_present", "build", "daily", "weekly", "refresh":
		return v
	}
	if every, ok := strings.CutPrefix(v.Text, "every_"); ok && pullEvery.MatchString(every) {
		return v
	}
	n.fault(v, stack.CodeComposeValue,
		fmt.Sprintf("%s is %q; possible are always, never, missing, build, daily, "+
			"weekly and every_DURATION", where, v.Text), "Write one of these.")
	return v
}

// pullEvery is a duration that may count weeks and days too.
var pullEvery = expr.New(`^(\d+w)?(\d+d)?(\d+h)?(\d+m)?(\d+s)?$`)

// extraHosts takes HOST:ADDRESS or HOST=ADDRESS in a list, or a mapping, for a list of
// HOST=ADDRESS.
func extraHosts(n *normaliser, where string, v *Value) *Value {
	out := v.like(Sequence, "")
	switch v.Kind {
	case Mapping:
		for _, m := range v.Members {
			for _, address := range oneOrMore(text)(n, where, m.Value).Items {
				out.Items = append(out.Items, address.like(String, m.Key+"="+address.Text))
			}
		}
	case Sequence:
		for _, item := range listOf(text)(n, where, v).Items {
			host := []byte(item.Text)
			for i, c := range host {
				if c == ':' || c == '=' {
					host[i] = '='
					break
				}
			}
			out.Items = append(out.Items, item.like(String, string(host)))
		}
	default:
		return n.wrong(where, v, "a mapping, or a list of HOST=ADDRESS")
	}
	return out
}
