package survey

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// questions are the workspace's own checks and causes, in the order of their names.
func (s *surveyor) questions() {
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Check)) {
		c := s.corrections.Check[name]
		if s.Stack.Service(c.Service) == nil {
			s.unknown("service", c.Service, c.At)
			continue
		}
		out := stack.OwnCheck{Name: name, Service: c.Service, Method: strings.ToUpper(c.Method),
			Path:    c.Path,
			Headers: c.Headers, Body: c.Body, Status: c.Status, Contains: c.Contains,
			Within: c.Limit.Seconds(), Retries: c.Retries, At: c.At}
		if len(c.JSON) > 0 {
			out.JSON = map[string]string{}
		}
		for k, v := range c.JSON {
			out.JSON[k] = fmt.Sprint(v)
		}
		s.Stack.Checks = append(s.Stack.Checks, out)
	}
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Cause)) {
		c := s.corrections.Cause[name]
		s.Stack.Causes = append(s.Stack.Causes,
			stack.OwnCause{Name: name, Line: c.Line, Says: c.Says, Do: c.Do, At: c.At})
	}
}
