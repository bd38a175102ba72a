// Package hide makes what is known of a workspace fit to be shown: no secret is in it. What is one,
// and how a text is hidden, says package value.
package hide

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// hidden stands in the place of a secret.
const hidden = "***"

// isSwitch is a value that turns something on or off, whatever the setting's name has in it.
var isSwitch = expr.New(`^(?i:yes|no|true|false|on|off)$`)

var plainWord = expr.New(`^[a-z]+$`)

// Ordinary reports whether a secret is a word that stands openly everywhere, which many take for a
// first password: masking it wherever it occurs would only spoil what is said. It is the name of a
// service, of an image or of what a server speaks, or a plain word that a setting holds which is no
// secret.
func Ordinary(s *stack.Stack, secret string) bool {
	if protocol.Named(secret) != nil {
		return true
	}
	return slices.ContainsFunc(s.Services, func(v stack.Service) bool {
		if v.Name == secret || protocol.ImageName(v.Image) == secret {
			return true
		}
		for key, value := range v.Env {
			if value == secret && plainWord.MatchString(secret) && !values.IsSecret(key, "") {
				return true
			}
		}
		return false
	})
}

// Stack is a copy of the stack that can be shown: no secret is in its services' environments,
// commands, health checks, labels and build arguments.
func Stack(s *stack.Stack) *stack.Stack {
	secrets := slices.Clone(s.Secrets)
	for _, v := range s.Services {
		for key, value := range v.Env {
			if values.IsSecret(key, "") && len(value) >= 6 {
				secrets = append(secrets, value)
			}
		}
	}
	secrets = slices.DeleteFunc(secrets, func(v string) bool { return Ordinary(s, v) })
	// A longer one first, since a shorter may be a part of it.
	slices.SortFunc(secrets, func(a, b string) int { return len(b) - len(a) })
	var pairs []string
	for _, v := range secrets {
		pairs = append(pairs, v, hidden)
	}
	replace := strings.NewReplacer(pairs...)
	text := func(t string) string { return values.Hide(replace.Replace(t)) }
	list := func(words []string) []string {
		out := slices.Clone(words)
		for i := range out {
			out[i] = text(out[i])
		}
		return out
	}
	table := func(m map[string]string) map[string]string {
		out := maps.Clone(m)
		for k, v := range out {
			if out[k] = text(v); v != "" && values.IsSecret(k, "") && !isSwitch.MatchString(v) {
				out[k] = hidden
			}
		}
		return out
	}
	out := *s
	out.Services = slices.Clone(s.Services)
	for i := range out.Services {
		v := &out.Services[i]
		v.Env, v.Command, v.NativeCommand, v.Expands = table(v.Env), list(v.Command), list(v.NativeCommand),
			list(v.Expands)
		if v.Container == nil {
			continue
		}
		v.Container = hideContainer(v.Container, text)
	}
	out.Claims = slices.Clone(s.Claims)
	for i := range out.Claims {
		out.Claims[i].Says = text(out.Claims[i].Says)
	}
	return &out
}

// hideContainer is a copy of what a container is given that can be shown. All of its texts are
// looked at, whichever there are, by way of JSON.
func hideContainer(c *stack.ContainerSpec, text func(string) string) *stack.ContainerSpec {
	data, err := json.Marshal(c)
	if err != nil {
		return &stack.ContainerSpec{}
	}
	var tree any
	if err := json.Unmarshal(data, &tree); err != nil {
		return &stack.ContainerSpec{}
	}
	var mask func(key string, v any) any
	mask = func(key string, v any) any {
		switch v := v.(type) {
		case string:
			if v != "" && (key == "content" || values.IsSecret(key, "") &&
				!isSwitch.MatchString(v)) {
				return hidden
			}
			return text(v)
		case []any:
			for i := range v {
				v[i] = mask("", v[i])
			}
		case map[string]any:
			for k := range v {
				v[k] = mask(k, v[k])
			}
		}
		return v
	}
	out := &stack.ContainerSpec{}
	if data, err = json.Marshal(mask("", tree)); err == nil {
		err = json.Unmarshal(data, out)
	}
	if err != nil {
		return &stack.ContainerSpec{}
	}
	return out
}
