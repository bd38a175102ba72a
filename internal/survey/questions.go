package survey

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/stack"
)

// ownCheck is a question that the workspace asks of its own; see stack.OwnCheck.
type ownCheck struct {
	Service  string            `toml:"service"`
	Method   string            `toml:"method"`
	Path     string            `toml:"path"`
	Headers  map[string]string `toml:"headers"`
	Body     string            `toml:"body"`
	Status   int               `toml:"status"`
	Contains string            `toml:"contains"`
	JSON     map[string]any    `toml:"json"`
	Within   string            `toml:"within"`
	Retries  int               `toml:"retries"`
	at       stack.Place
	within   time.Duration
}

// ownCause is a cause that the workspace knows by a line of a log; see stack.OwnCause.
type ownCause struct {
	Line string `toml:"line"`
	Says string `toml:"says"`
	Do   string `toml:"do"`
	at   stack.Place
}

// wrong tells what is wrong with a check, and gives those of its values that may be left out.
func (c *ownCheck) wrong(name string) (text, remedy string) {
	if c.Method == "" {
		c.Method = "GET"
	}
	if c.Path == "" {
		c.Path = "/"
	}
	var err error
	switch {
	case c.Service == "":
		return fmt.Sprintf("the check %s does not say which service is asked",
			name), `Write service = "NAME".`
	case !strings.HasPrefix(c.Path, "/"):
		return fmt.Sprintf("the path of the check %s does not begin with a slash", name),
			"A check asks its own service alone: write a path, not an address."
	case c.Status != 0 && (c.Status < 100 || c.Status > 599):
		return fmt.Sprintf("%d is no status", c.Status), "A status is a number from 100 to 599."
	case c.Retries < 0 || c.Retries > 100:
		return fmt.Sprintf("%d is no number of retries", c.Retries), "It is a number from 0 to 100."
	case c.Within != "":
		if c.within, err = time.ParseDuration(c.Within); err != nil || c.within <= 0 {
			return fmt.Sprintf("%q is no time",
				c.Within), `Write it with its unit, within = "200ms" or "2s".`
		}
	}
	return "", ""
}

// questions are the workspace's own checks and causes, in the order of their names.
func (s *surveyor) questions() {
	for _, name := range slices.Sorted(maps.Keys(s.corrections.Check)) {
		c := s.corrections.Check[name]
		if s.Stack.Service(c.Service) == nil {
			s.unknown("service", c.Service, c.at)
			continue
		}
		out := stack.OwnCheck{Name: name, Service: c.Service, Method: strings.ToUpper(c.Method),
			Path:    c.Path,
			Headers: c.Headers, Body: c.Body, Status: c.Status, Contains: c.Contains,
			Within: c.within.Seconds(), Retries: c.Retries, At: c.at}
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
			stack.OwnCause{Name: name, Line: c.Line, Says: c.Says, Do: c.Do, At: c.at})
	}
}
