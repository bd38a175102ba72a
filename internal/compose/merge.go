package compose

// merge lays over on top of base, both normalised, by the specification's chapter "Merge":
// mappings are merged, lists appended, single values replaced; command, entrypoint and a health
// check's test are replaced as a whole; ports and volumes that mean the same place replace each other.
func merge(where string, base, over *Value) *Value {
	switch {
	case over.tag == "!reset":
		return nil
	case base == nil, over.tag == "!override", over.Kind != base.Kind:
		return over
	case over.Kind == Mapping:
		out := base.shallow()
		for _, m := range over.Members {
			merged := merge(keyKind(where, m.Key), out.Get(m.Key), m.Value)
			if merged == nil {
				out.Remove(m.Key)
				continue
			}
			out.Set(m.Key, merged)
		}
		return out
	case over.Kind == Sequence:
		return mergeLists(where, base, over)
	}
	return over
}

// keyKind gives the path of a key with names of the person's choice left out, as far as merging needs it.
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
	out := *base
	out.Items = append([]*Value(nil), base.Items...)
next:
	for _, item := range over.Items {
		for i, old := range out.Items {
			if id := same(item); id != "" && id == same(old) {
				out.Items[i] = item
				continue next
			}
		}
		out.Items = append(out.Items, item)
	}
	return &out
}

// identity gives what makes two items of a list the same one.
func identity(where string) func(*Value) string {
	switch where {
	case "service.ports":
		return func(v *Value) string {
			return v.Get("host_ip").or("") + "/" + v.Get("target").or("") + "/" + v.Get("published").or("") + "/" +
				v.Get("protocol").or("")
		}
	case "service.volumes":
		return func(v *Value) string { return v.Get("target").or("") }
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
