package view

import (
	"encoding/json"
	"fmt"
	"strings"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/expr"
)

// Compose shows the model of compose files in YAML, each service with the place where it stands,
// and each setting of its environment with what gives it.
func (t *Text) Compose(name string, files []string, models []*compose.Value,
	from map[string]map[string]compose.Given) {
	fmt.Fprintf(t.Out, "# merged from %s\nname: %s\n", strings.Join(files, ", "), name)
	for _, section := range []string{"services", "networks", "volumes", "secrets", "configs"} {
		s := compose.Section(models, section)
		if len(s.Members) == 0 {
			continue
		}
		fmt.Fprintf(t.Out, "%s:\n", section)
		for _, m := range s.Members {
			fmt.Fprintf(t.Out, "  %s:%s  # %s:%d\n", yamlWord(m.Key), yamlEmpty(m.Value),
				m.Value.File, m.Line)
			yaml(t, m.Value, 4, func(key string) string {
				if g, ok := from[m.Key][key]; ok && section == "services" {
					return "  # " + g.String()
				}
				return ""
			})
		}
	}
}

var yamlPlain = expr.New(`^[A-Za-z/_]([A-Za-z0-9/_.@%+=:-]*[A-Za-z0-9/_])?$`)

var yamlReserved = expr.New(`(?i)^(y|n|yes|no|on|off|true|false|null|~|\.nan|[-+]?\.inf)$`)

// yamlWord writes a string so that it is read back as one.
func yamlWord(s string) string {
	if yamlPlain.MatchString(s) && !yamlReserved.MatchString(s) {
		return s
	}
	var quoted strings.Builder
	e := json.NewEncoder(&quoted)
	e.SetEscapeHTML(false) // && is meant to be read
	if e.Encode(s) != nil {
		return `""`
	}
	b := strings.TrimSuffix(quoted.String(), "\n")
	// JSON leaves the second block of control characters as they are.
	var out strings.Builder
	for _, r := range b {
		if r >= 0x7f && r < 0xa0 {
			fmt.Fprintf(&out, `\u%04x`, r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.String()
}

// yamlEmpty is what stands behind a key whose value has no lines of its own.
func yamlEmpty(v *compose.Value) string {
	switch {
	case v.Kind == compose.Mapping && len(v.Members) == 0:
		return " {}"
	case v.Kind == compose.Sequence && len(v.Items) == 0:
		return " []"
	case v.Kind == compose.Null:
		return " null"
	case v.Kind == compose.String:
		return " " + yamlWord(v.Text)
	case v.Scalar():
		return " " + v.Text
	}
	return ""
}

// yaml writes a value's lines. source gives a remark on a setting, for the members of a service's
// environment.
func yaml(t *Text, v *compose.Value, indent int, source func(key string) string) {
	space := strings.Repeat(" ", indent)
	for _, m := range v.Members {
		remark := ""
		if source != nil && indent > 4 {
			remark = source(m.Key)
		}
		fmt.Fprintf(t.Out, "%s%s:%s%s\n", space, yamlWord(m.Key), yamlEmpty(m.Value), remark)
		if indent == 4 && m.Key == "environment" {
			yaml(t, m.Value, indent+2, source)
		} else {
			yaml(t, m.Value, indent+2, nil)
		}
	}
	for _, item := range v.Items {
		if short := yamlEmpty(item); short != "" {
			fmt.Fprintf(t.Out, "%s-%s\n", space, short)
			continue
		}
		// A mapping begins on the line of its dash.
		var inner strings.Builder
		yaml(&Text{Out: &inner}, item, indent+2, nil)
		fmt.Fprintf(t.Out, "%s- %s", space, strings.TrimLeft(inner.String(), " "))
	}
}
