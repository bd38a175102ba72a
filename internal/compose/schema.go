package compose

import "nimbleharbor/internal/stack"

// The keys of the Compose Specification, each with the rule that reads it.

var topLevel map[string]rule

func init() {
	topLevel = map[string]rule{
		"version":  scalar,
		"name":     text,
		"services": mapOf(object(serviceKeys)),
		"networks": mapOf(object(networkKeys)),
		"volumes":  mapOf(object(volumeKeys)),
		"secrets":  mapOf(object(fileKeys)),
		"configs":  mapOf(object(fileKeys)),
		"include":  include,
		"models":   anything,
	}
}

var networkKeys = map[string]rule{
	"name": text, "driver": text, "driver_opts": mapOf(scalar), "attachable": truthOf, "enable_ipv4": truthOf,
	"enable_ipv6": truthOf,
	"external":    external, "internal": truthOf, "labels": pairs, "ipam": ipam,
}

var volumeKeys = map[string]rule{
	"name": text, "driver": text, "driver_opts": mapOf(scalar), "external": external, "labels": pairs,
}

var fileKeys = map[string]rule{
	"name": text, "file": filePath, "environment": text, "content": text, "external": external, "labels": pairs,
	"driver": text, "driver_opts": mapOf(scalar), "template_driver": text,
}

// external is true or false; old files gave a mapping with the name.
func external(n *normaliser, where string, v *Value) *Value {
	if v.Kind == Mapping {
		return v.like(Bool, "true")
	}
	return truthOf(n, where, v)
}

var buildKeys = map[string]rule{
	"context": text, "dockerfile": text, "dockerfile_inline": text, "args": pairs, "target": text, "ssh": pairs,
	"cache_from": listOf(text),
	"cache_to":   listOf(text), "additional_contexts": additionalContexts, "extra_hosts": extraHosts, "isolation": text,
	"labels": pairs, "network": text,
	"no_cache": truthOf, "pull": truthOf, "shm_size": byteSize, "secrets": grant("secrets"), "tags": listOf(text),
	"platforms":  listOf(text),
	"privileged": truthOf, "ulimits": ulimits, "entitlements": listOf(text), "provenance": scalar, "sbom": scalar,
}

var serviceKeys = map[string]rule{
	"annotations": pairs, "attach": truthOf, "blkio_config": blkio, "build": build, "cap_add": listOf(text),
	"cap_drop": listOf(text),
	"cgroup":   text, "cgroup_parent": text, "command": words, "configs": grant("configs"), "container_name": text,
	"cpu_count":   number,
	"cpu_percent": number, "cpu_period": scalar, "cpu_quota": scalar, "cpu_rt_period": scalar, "cpu_rt_runtime": scalar,
	"cpu_shares": number,
	"cpus":       number, "cpuset": text, "credential_spec": credentialSpec, "depends_on": dependsOn, "deploy": deploy,
	"develop":             develop,
	"device_cgroup_rules": listOf(text), "devices": devices, "dns": oneOrMore(text), "dns_opt": listOf(text),
	"dns_search": oneOrMore(text),
	"domainname": text, "driver_opts": mapOf(scalar), "entrypoint": words, "env_file": envFiles, "environment": pairs,
	"expose": listOf(text), "extends": extends, "external_links": listOf(text), "extra_hosts": extraHosts, "gpus": gpus,
	"group_add": listOf(text), "healthcheck": object(healthKeys), "hostname": text, "image": text, "init": truthOf,
	"ipc": text, "isolation": text,
	"label_file": oneOrMore(text), "labels": pairs, "links": listOf(text), "logging": logging, "mac_address": text,
	"mem_limit":       byteSize,
	"mem_reservation": byteSize, "mem_swappiness": number, "memswap_limit": sizeOrMinusOne, "models": serviceModels,
	"network_mode": text,
	"networks":     named(object(attachKeys)), "oom_kill_disable": truthOf, "oom_score_adj": number, "pid": text,
	"pids_limit": number,
	"platform":   text, "ports": ports, "post_start": hook, "pre_stop": hook, "privileged": truthOf,
	"profiles": listOf(text),
	"provider": provider, "pull_policy": text, "read_only": truthOf, "restart": text, "runtime": text, "scale": whole,
	"secrets":      grant("secrets"),
	"security_opt": listOf(text), "shm_size": byteSize, "stdin_open": truthOf, "stop_grace_period": duration,
	"stop_signal": text,
	"storage_opt": mapOf(scalar), "sysctls": pairs, "tmpfs": oneOrMore(text), "tty": truthOf, "ulimits": ulimits,
	"use_api_socket": truthOf,
	"user":           text, "userns_mode": text, "uts": text, "volumes": mounts, "volumes_from": listOf(text),
	"working_dir": text,
}

var attachKeys = map[string]rule{
	"aliases": listOf(text), "interface_name": text, "ipv4_address": text, "ipv6_address": text,
	"link_local_ips": listOf(text),
	"mac_address":    text, "driver_opts": mapOf(scalar), "gw_priority": number, "priority": number,
}

var healthKeys = map[string]rule{
	"test": healthTest, "interval": duration, "timeout": duration, "start_period": duration, "start_interval": duration,
	"retries": number, "disable": truthOf,
}

// actedOn are the service keys that a launch obeys. Any other is read, and named in a remark.
var actedOn = map[string]bool{
	"build": true, "command": true, "depends_on": true, "entrypoint": true, "env_file": true, "environment": true,
	"extra_hosts": true,
	"healthcheck": true, "hostname": true, "image": true, "init": true, "labels": true, "networks": true,
	"network_mode": true,
	"ports":        true,
	"privileged":   true, "profiles": true, "read_only": true, "restart": true, "stop_grace_period": true,
	"stop_signal": true,
	"user":        true, "volumes": true, "working_dir": true,
	// Without effect on a launch by their nature.
	"expose": true, "attach": true, "extends": true,
}

var actedOnBuild = map[string]bool{"context": true, "dockerfile": true, "dockerfile_inline": true, "args": true,
	"target": true}

func envFiles(n *normaliser, where string, v *Value) *Value {
	return oneOrMore(func(n *normaliser, where string, v *Value) *Value {
		out := orLong(asMember("path", "required", "true"), map[string]rule{"path": text, "required": truthOf,
			"format": text})(n, where, v)
		if p := out.Get("path"); p != nil {
			out.Set("path", p.like(String, n.within(p.Text)))
			setDefault(out, "required", Bool, "true")
		} else if out.Kind == Mapping {
			n.fault(v, stack.CodeComposeValue, where+" has no path", "Name the file: path: ./app.env.")
		}
		return out
	})(n, where, v)
}

// extraHosts takes HOST:ADDRESS or HOST=ADDRESS in a list, or a mapping, for a list of HOST=ADDRESS.
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
