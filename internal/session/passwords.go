package session

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// passwordRefused is the code of the cause that a server has refused a password.
const passwordRefused = "password-refused"

// toldPasswords says of services that a server has refused where their password stands, and with
// what it disagrees; never a password.
func (m *Mixed) toldPasswords(failures []stack.Failure) {
	for i := range failures {
		name, ok := failures[i].ID.Service()
		if !ok || failures[i].Code != passwordRefused {
			continue
		}
		if text := m.passwords(name); text != "" {
			failures[i].Text += "; " + text
		}
	}
}

// passwords compares the passwords in a service's settings with those that the servers of the stack
// were made with, as far as both are known.
func (m *Mixed) passwords(name string) string {
	p, err := m.Plan()
	v := m.Mix.Stack.Service(name)
	if err != nil || v == nil {
		return ""
	}
	var agrees string
	for _, kv := range p.Services[stack.ServiceNode(name)].Environment {
		key, text, _ := strings.Cut(kv, "=")
		server, password := m.signsInAt(v, key, text)
		if server == nil {
			continue
		}
		known := protocol.OfImage(server.Image)
		for _, k := range slices.Concat(known.SignIn.Password, known.SignIn.RootPassword) {
			made, given := m.Value(server.Name, k)
			at, of := m.placeOf(v, key), m.placeOf(server, k)
			switch {
			case !given || at == "" || of == "":
			case made != password:
				return fmt.Sprintf("%s (%s) has another password than %s of %s (%s)", key, at, k,
					server.Name, of)
			default:
				agrees = fmt.Sprintf("%s (%s) has the password of %s (%s), so that the data of "+
					"%s was "+
					"made with an earlier one", key, at, k, of, server.Name)
			}
		}
	}
	return agrees
}

// signsInAt is the server of the stack at which a setting's value signs in, and with what: an
// address that carries a password, or the password alone where one server alone is meant by the
// key. The server is nil for any other setting.
func (m *Mixed) signsInAt(v *stack.Service, key, text string) (*stack.Service, string) {
	services := m.Mix.Stack.Services
	hasSignIn := func(o *stack.Service) bool {
		known := protocol.OfImage(o.Image)
		return o.Name != v.Name && known != nil && known.SignIn != nil
	}
	if password := value.PasswordOf(text); password != "" {
		for _, a := range address.Find(text) {
			ref, ok := address.Resolve(services, v.Name, v.Runs == stack.Container, a.Host,
				a.Asked())
			if o := m.Mix.Stack.Service(ref.Service); ok && o != nil && hasSignIn(o) {
				return o, password
			}
		}
		return nil, ""
	}
	if !value.IsSecret(key, text) || !strings.Contains(strings.ToUpper(key), "PASS") {
		return nil, ""
	}
	var only *stack.Service
	for i := range services {
		if !hasSignIn(&services[i]) {
			continue
		}
		if only != nil {
			return nil, "" // it may be of either
		}
		only = &services[i]
	}
	return only, text
}

// placeOf is where a service's setting stands, FILE:LINE; empty where that isn't known.
func (m *Mixed) placeOf(v *stack.Service, key string) string {
	if at := v.EnvAt[key]; !at.IsZero() {
		return fmt.Sprintf("%s:%d", at.File, at.Line)
	}
	for _, f := range slices.Backward(v.EnvFiles) {
		d, err := settings.Read(m.Files, f.Path, settings.Env)
		if err != nil {
			continue
		}
		for _, e := range d.Entries {
			if e.Key == key {
				return fmt.Sprintf("%s:%d", f.Path, e.Line)
			}
		}
	}
	return ""
}
