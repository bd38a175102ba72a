package judge

import (
	"context"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// knownPages are asked for where a server's first page is not there, and no README names another:
// what programs serve there is for people.
var knownPages = []string{"/docs", "/swagger-ui/index.html", "/swagger", "/api/docs", "/graphql",
	"/admin/", "/health", "/healthz", "/api"}

// pages asks for the pages that READMEs name, and for those that are known where a first page is
// not there.
func (j *judgement) pages(ctx context.Context, services, now []stack.Service) {
	j.out.Pages = pagesOf(services, now)
	var wait sync.WaitGroup
	for i := range j.out.Pages {
		p := &j.out.Pages[i]
		if base := j.portOf(p.Address); base == nil || base.Verdict != stack.Answers {
			continue
		}
		wait.Go(func() { askPage(ctx, p) })
	}
	for _, c := range slices.Clone(j.out.Ports) {
		named := slices.ContainsFunc(j.out.Pages,
			func(p stack.PageCheck) bool { return p.Service == c.Service })
		if c.Verdict != stack.Answers || c.Status != 404 || c.Expected != "http" || named {
			continue
		}
		found := make([]stack.PageCheck, len(knownPages))
		for i, path := range knownPages {
			found[i] = stack.PageCheck{Service: c.Service,
				Address: strings.TrimSuffix(c.URL(), "/") + path}
			wait.Go(func() { askPage(ctx, &found[i]) })
		}
		wait.Wait()
		for _, p := range found {
			if p.Verdict == stack.Answers && p.Status < 300 {
				j.out.Pages = append(j.out.Pages, p)
				break
			}
		}
	}
	wait.Wait()
}

func askPage(ctx context.Context, p *stack.PageCheck) {
	u, err := url.Parse(p.Address)
	if err != nil {
		return
	}
	port, _ := strconv.Atoi(u.Port())
	q := protocol.Question{Port: port, Speaks: "http", Name: u.Hostname(), Path: u.RequestURI()}
	if q.Name == "localhost" {
		q.Name = ""
	}
	c := q.Put(ctx)
	p.Verdict, p.Status, p.Title = c.Verdict, c.Status, c.Title
}

// portOf is the port that an address of a page is on.
func (j *judgement) portOf(address string) *stack.PortCheck {
	u, err := url.Parse(address)
	if err != nil {
		return nil
	}
	for i := range j.out.Ports {
		if _, port, _ := net.SplitHostPort(j.out.Ports[i].Address); port == u.Port() {
			return &j.out.Ports[i]
		}
	}
	return nil
}

// open finds the address that a person would open first: a page with a title before one without,
// and a page that a README names where the first one is not there.
func (j *judgement) open() {
	best := 0
	for _, c := range j.out.Ports {
		rank := 0
		address := c.URL()
		switch {
		case c.Verdict != stack.Answers || c.Status == 0:
			continue
		case c.Status < 400 && c.Title != "":
			rank = 4
		case c.Status < 400:
			rank = 2
		default:
			for _, p := range j.out.Pages {
				if p.Service == c.Service && p.Verdict == stack.Answers && p.Status < 400 {
					address, rank = p.Address, 1
					if p.Title != "" {
						rank = 3
					}
					break
				}
			}
		}
		if rank > best {
			best, j.out.Open = rank, address
		}
	}
}

// mask hides the stack's secrets in what servers have said of themselves. The steward knows them,
// and nobody else has to.
func (j *judgement) mask() {
	if !j.alive {
		return
	}
	var said []*string
	for i := range j.out.Ports {
		c := &j.out.Ports[i]
		said = append(said, &c.Title, &c.Cause)
	}
	for i := range j.out.Pages {
		said = append(said, &j.out.Pages[i].Title)
	}
	for i := range j.out.Services {
		said = append(said, &j.out.Services[i].Cause)
	}
	for i := range j.out.Checks {
		said = append(said, &j.out.Checks[i].Cause)
	}
	var texts []string
	for _, s := range said {
		texts = append(texts, *s)
	}
	for i, masked := range j.Record.Masked(texts) {
		if i < len(said) {
			*said[i] = masked
		}
	}
}

// SignIns are what people sign in with: what services have printed since they were first started,
// which is remembered, and then what the files mention.
func SignIns(root string, s *stack.Stack) []stack.SignIn {
	m := memory.Recall(root)
	if lines, err := logs.Read(root, nil).Next(); err == nil {
		var printed []memory.Printed
		for _, p := range logs.PrintedIn(lines) {
			if s.Service(p.Source) != nil { // steps say what others do with them
				printed = append(printed, memory.Printed{Service: p.Source, User: p.User,
					Password: p.Password})
			}
		}
		m.Print(printed)
	}
	var out []stack.SignIn
	for _, p := range m.Printed() {
		out = append(out, stack.SignIn{User: p.User, Password: p.Password, Service: p.Service})
	}
	return append(out, s.SignIns...)
}

// pagesOf are the addresses beyond first pages that READMEs name, on ports as they are now.
func pagesOf(services, now []stack.Service) []stack.PageCheck {
	var out []stack.PageCheck
	for i, v := range services {
		for _, page := range v.Pages {
			port := page.Port
			for k, p := range v.Ports { // a second copy has moved
				if p.Host == port && i < len(now) && now[i].Name == v.Name &&
					k < len(now[i].Ports) {
					port = now[i].Ports[k].Host
				}
			}
			out = append(out, stack.PageCheck{Service: v.Name, At: page.At,
				Address: fmt.Sprintf("http://localhost:%d%s", port, page.Path)})
		}
	}
	return out
}
