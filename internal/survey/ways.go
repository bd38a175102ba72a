package survey

import (
	"path"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/facts"
	"nimbleharbor/internal/stack"
)

// tellers are, by witness, who tells of ways to run what no compose file runs.
var tellers = map[stack.Witness]func(*told){
	claim.Manifest:   func(s *told) { s.natives.natives() },
	claim.Task:       (*told).taskServices,
	claim.Code:       (*told).plainServices,
	claim.Readme:     (*told).toldServices,
	claim.Dockerfile: func(s *told) { s.natives.dockerfiles() },
}

// services asks everybody who knows ways to run something, in the order in which they count: what
// is served by then needs nobody else to tell how.
func (s *told) services() {
	for _, w := range claim.OfService.Witnesses() {
		if tell := tellers[w]; tell != nil {
			tell(s)
		}
	}
	s.assets()
	s.toldVerbs()
	s.toldReloads()
}

// wayBy is who says that a service runs as it does. What nothing shows but code in which a
// framework's application is made is only usual: the program around it may do more before it serves.
func wayBy(f *facts.Facts, v *stack.Service) stack.Witness {
	inside := v.Dir() != v.Project
	by := f.Witness(v.At, 0)
	switch {
	case v.Source != stack.FromFramework || by == claim.Correction:
		return by
	case v.Runs != stack.Native:
		return claim.Framework
	case ecosystem.OfCode(path.Ext(v.At.File)) == nil:
		return claim.Framework
	case !inside && ecosystem.IsManifest(path.Base(v.At.File)):
		return claim.Framework
	}
	return claim.Usage
}
