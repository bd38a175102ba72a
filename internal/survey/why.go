package survey

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/address"
	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/ports"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// knowing tells how what was concluded is known.
type knowing struct {
	*facts.Facts
	ports *ports.Ports
}

// testify collects what is known of each service, and of each setting, with who says it: for a
// person who asks why.
func (s *knowing) testify() {
	tell := func(claims []stack.Claim) { s.Stack.Claims = append(s.Stack.Claims, claims...) }
	plain := func(text string) string { return text }
	said := func(says string, at stack.Place) claim.Claim[string] {
		return claim.Claim[string]{Value: says, Witness: s.Witness(at, 0), At: at}
	}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		kind := string(v.Kind) + ", " + map[stack.Way]string{stack.Native: "run natively",
			stack.Container: "in a container"}[v.Runs]
		tell(claim.Judge(claim.OfService, said(kind, v.At)).Told(v.Name, "", plain))
		tell(s.commandClaims(v).Told(v.Name, "", plain))
		tell(s.ports.Claims(v).Told(v.Name, "", strconv.Itoa))
		for _, p := range v.Ports {
			by := claim.Claim[string]{Value: p.Speaks, Witness: s.protocolBy(v, &p), At: p.At}
			tell(claim.Judge(claim.OfProtocol, by).Told(v.Name, "", func(speaks string) string {
				return fmt.Sprintf("%s on %d", speaks, max(p.Host, p.Target))
			}))
		}
		for _, a := range v.After {
			waits := claim.Claim[stack.Until]{Value: a.Until, Witness: s.Witness(a.At, 0),
				At: a.At}
			tell(claim.Judge(claim.OfWaiting, waits).Told(v.Name, "waits for "+a.Service,
				func(u stack.Until) string { return "until it is " + string(u) }))
		}
		if p := s.Stack.Project(v.Project, v.Manager); p != nil && v.Project != "" {
			tell(s.managerClaims(p).Told(v.Name, "",
				func(by string) string { return p.Manager + ", by " + by }))
			tools := map[string][]claim.Claim[string]{}
			for _, r := range p.Runtimes {
				tools[r.Tool] = append(tools[r.Tool], said(r.Tool+" "+r.Constraint, r.At))
			}
			for _, r := range p.Runtimes {
				tell(claim.Judge(claim.OfVersion, tools[r.Tool]...).Told(v.Name,
					"version of "+r.Tool, plain))
				delete(tools, r.Tool)
			}
		}
	}
	s.testifyOfSettings()
}

// managerClaims are what says that a project is taken care of by its manager. Where something names
// that manager the manifest, which alone would only make it likely, says nothing.
func (s *knowing) managerClaims(p *stack.Project) claim.Judged[string] {
	var likely, named []claim.Claim[string]
	for i, e := range p.Evidence {
		c := claim.Claim[string]{Value: e.Says, Witness: s.Witness(e.Place(), 0), At: e.Place()}
		switch {
		case i == 0:
			likely = append(likely, c)
		case e.Manager == p.Manager:
			named = append(named, c)
		}
	}
	if j := claim.Judge(claim.OfManager, named...); len(j.Claims) > 0 {
		return j
	}
	return claim.Judge(claim.OfManager, likely...)
}

// commandClaims are the way in which a service runs, and below it the other ways that somebody has
// written down: those that counted less, and those by which READMEs come to the same program.
func (s *knowing) commandClaims(v *stack.Service) claim.Judged[string] {
	var taken, others []claim.Claim[string]
	if len(v.Command) > 0 {
		by := s.Witness(v.At, 0)
		if v.Source == stack.FromFramework && by != claim.Correction {
			by = claim.Usage
		}
		taken = append(taken, claim.Claim[string]{Value: strings.Join(v.Command, " "), Witness: by,
			At: v.At})
	}
	others = append(others, s.OtherWays[v.Name]...)
	for _, d := range s.Stack.Readme {
		role, _ := ecosystem.Meaning(strings.Fields(d.Command))
		if d.By == demand.Service(v.Name) && role != stack.Install { // which comes with serving it
			others = append(others, claim.Claim[string]{Value: d.Command, Witness: claim.Readme,
				At: d.At})
		}
	}
	j := claim.Judge(claim.OfCommand, taken...)
	for _, c := range claim.Judge(claim.OfCommand, others...).Claims {
		if !slices.ContainsFunc(j.Claims,
			func(o claim.Claim[string]) bool { return o.Value == c.Value }) {
			j.Claims = append(j.Claims, c)
		}
	}
	return j
}

// protocolBy is who says what is spoken on a port.
func (s *knowing) protocolBy(v *stack.Service, p *stack.Port) stack.Witness {
	if v.Runs == stack.Native && s.ports.Seen(v) != nil && s.Witness(p.At, 0) != claim.Readme {
		return claim.Sight
	}
	return spokenBy(s.Facts, v, p)
}

// testifyOfSettings collects what is said of each setting: whether code fails without it, and where
// it has a value.
func (s *knowing) testifyOfSettings() {
	claims := map[string][]claim.Claim[string]{}
	add := func(name, says string, w stack.Witness, at stack.Place) {
		claims[name] = append(claims[name], claim.Claim[string]{Value: says, Witness: w, At: at})
	}
	for _, e := range s.Stack.EnvFiles {
		file := e.Path
		if !e.Present {
			file = e.Template
		}
		if file == "" {
			continue
		}
		d, err := settings.Read(s.Files, file, e.Format)
		if err != nil {
			continue
		}
		for _, entry := range d.Entries {
			add(entry.Key, saysOf(entry.Value), claim.Setting,
				stack.Place{File: file, Line: entry.Line})
		}
	}
	for _, v := range s.Stack.Services {
		for key := range v.Env {
			if at := v.EnvAt[key]; !at.IsZero() {
				add(key, "is set for "+v.Name, claim.Compose, at)
			}
		}
	}
	for _, r := range s.Stack.Reads {
		if r.Must {
			add(r.Name, "is read, and the code fails without it", claim.Code, r.At)
		}
	}
	for _, r := range s.Stack.Reads {
		says := "is read"
		if r.Default {
			says = "is read, and the code has a value of its own"
		}
		if !r.Must {
			add(r.Name, says, claim.Code, r.At)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(claims)) {
		s.Stack.Claims = append(s.Stack.Claims,
			claim.Judge(claim.OfSetting, claims[name]...).Told(name, "",
				func(says string) string { return says })...)
	}
}

// saysOf is what a file's value of a setting says of it.
func saysOf(value string) string {
	switch {
	case value == "":
		return "is empty"
	case values.Placeholder(value):
		return "holds a placeholder"
	}
	return "has a value"
}

// Why lists what is said of the service or the setting of that name, or of the port of that number,
// in the order in which witnesses count.
func Why(s *stack.Stack, name string) []stack.Claim {
	port := address.PortOf(name)
	about := map[string]bool{name: port == 0}
	for _, v := range s.Services {
		if port > 0 && slices.ContainsFunc(v.Ports,
			func(p stack.Port) bool { return p.Host == port || p.Target == port }) {
			about[v.Name] = true
		}
	}
	var out []stack.Claim
	for _, c := range s.Claims {
		if about[c.About] && (port == 0 || c.Of == "port" || c.Of == "protocol" ||
			c.Of == "service") {
			out = append(out, c)
		}
	}
	return out
}
