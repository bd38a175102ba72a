package compose

import "strings"

// merge lays over on top of base, both normalised, by the specification's chapter "Merge": mappings
// are merged, lists appended, single values replaced; command, entrypoint and a health check's test
// are replaced as a whole; items of lists that mean the same thing, such as the same place in a
// container, replace each other.
func merge(where string, base, over *Value) *Value {
	switch {
	case over.tag() == "!reset":
		return nil
	case base == nil, over.tag() == "!override", over.Kind != base.Kind:
		return over
	case where == "service.logging" && over.Get("driver").or("") != "" &&
		over.Get("driver").or("") != base.Get("driver").or(""):
		return over // the options are those of the other driver
	case over.Kind == Mapping:
		out := base.shallow()
		for _, m := range over.Members {
			merged := merge(keyKind(where, m.Key), out.Get(m.Key), m.Value)
			if merged == nil {
				out.Remove(m.Key)
				continue
			}
			out.Set(m.Key, merged)
			// it stands where it was replaced
			if at := &out.Members[out.find(m.Key)]; merged == m.Value {
				at.Line, at.Column = m.Line, m.Column
			}
		}
		return out
	case over.Kind == Sequence:
		return mergeLists(where, base, over)
	}
	return over
}

// keyKind gives the path of a key with names of the person's choice left out, as far as merging
// needs it.
func keyKind(where, key string) string {
	switch where {
	case "":
		return key
	case "services":
		return "service"
	}
	return where + "." + key
}

func mergeLists(where string, base, over *Value) *Value {
	switch where {
	case "service.command", "service.entrypoint", "service.healthcheck.test":
		return over
	}
	same := identity(where)
	news := map[string][]*Value{}
	for _, item := range over.Items {
		if id := same(item); id != "" {
			news[id] = append(news[id], item)
		}
	}
	out := *base
	out.Items = make([]*Value, 0, len(base.Items)+len(over.Items))
	put := map[string]bool{}
	for _, old := range base.Items { // what replaces another stands in its place
		id := same(old)
		switch {
		case id == "" || len(news[id]) == 0:
			out.Items = append(out.Items, old)
		case !put[id]:
			out.Items = append(out.Items, news[id]...)
			put[id] = true
		}
	}
	for _, item := range over.Items {
		if id := same(item); id == "" || !put[id] {
			out.Items = append(out.Items, item)
		}
	}
	return &out
}

// identity gives what makes two items of a list the same one.
func identity(where string) func(*Value) string {
	switch where {
	case "service.ports":
		return func(v *Value) string {
			return v.Get("host_ip").or("") + "/" + v.Get("target").or("") + "/" +
				v.Get("published").or("") + "/" + v.Get("protocol").or("")
		}
	case "service.volumes", "service.devices":
		return func(v *Value) string { return v.Get("target").or("") }
	case "service.secrets", "service.configs", "service.build.secrets":
		return func(v *Value) string { return v.Get("target").or(v.Get("source").or("")) }
	case "service.extra_hosts", "service.build.extra_hosts":
		return func(v *Value) string {
			host, _, _ := strings.Cut(v.Text, "=")
			return host
		}
	case "service.env_file":
		return func(v *Value) string { return v.Get("path").or("") }
	}
	return func(v *Value) string {
		if v.Scalar() {
			return v.Text
		}
		return ""
	}
}

func (v *Value) or(otherwise string) string {
	if v == nil || v.Kind == Null {
		return otherwise
	}
	return v.Text
}
