package report

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
)

// handedOn is a report of so many services.
func handedOn(count int) *session.Report {
	s := &stack.Stack{}
	o := &order.Order{}
	l := &timeline.Launch{Started: time.Now(), Took: float64(count)}
	r := &session.Report{Name: "fleet", Made: time.Now(), Stack: s, Order: o,
		Needs: &needs.Answer{},
		Check: stack.Check{Launched: true, Answers: true, Counts: stack.Counts{Expected: count}}}
	for i := range count {
		name := fmt.Sprintf("service-%d", i)
		at := stack.Place{File: fmt.Sprintf("services/%d/compose.yaml", i), Line: i}
		v := stack.Service{Name: name, Runs: stack.Container, Image: "saltmarsh/" + name, At: at,
			Ports: []stack.Port{{Host: 4000 + i, Target: 80}}}
		n := order.Node{ID: stack.ServiceNode(name)}
		for k := 1; k <= 3 && i >= k*7; k++ {
			other := fmt.Sprintf("service-%d", i-k*7)
			reason := fmt.Sprintf("services/%d/.env.example:%d points at it", i, k)
			v.After = append(v.After, stack.After{Service: other, Until: stack.Answering,
				Because: stack.Inferred, Reason: reason, At: at})
			n.After = append(n.After, order.Edge{ID: stack.ServiceNode(other),
				Until: stack.Answering, Reason: reason})
			n.Rank = i / 7
		}
		s.Services, o.Nodes = append(s.Services, v), append(o.Nodes, n)
		l.Events = append(l.Events, stack.Event{T: float64(i) / 2, ID: n.ID, State: stack.Starting},
			stack.Event{T: float64(i), ID: n.ID, State: stack.IsUp})
		r.Check.Ports = append(r.Check.Ports,
			stack.PortCheck{Service: name, Address: fmt.Sprintf("127.0.0.1:%d", 4000+i),
				Expected: "http", Verdict: stack.Answers, Speaks: "http", Status: 200})
		s.Remarks = append(s.Remarks,
			stack.Remark{Level: stack.Note, Text: "of " + name + " something is worth a word",
				At: at, Remedy: "Nothing has to be done."})
		r.ByHand = append(r.ByHand, session.ByHand{Title: name,
			Lines: []string{"docker run -d " + v.Image}})
	}
	l.Order = *o
	r.Timeline = timeline.Of(l)
	return r
}

// TestReportIsText takes nothing of a checkout for markup, and leaves out what is empty.
func TestReportIsText(t *testing.T) {
	t.Parallel()
	r := handedOn(3)
	r.Name = "<i>quay|`x`</i>"
	r.Stack.Services[0].Image = `"><script>alert(1)</script>`
	r.Check.Ports[1].Title = "a | b\n## c"
	page, ok, err := Make(r, "r.HTML")
	if !ok || err != nil {
		t.Fatal(ok, err)
	}
	text, _, _ := Make(r, "r.md")
	for _, never := range []string{"<script", "<i>quay", "id=\"failures\"", "<td data-is=\"why"} {
		if strings.Contains(page, never) {
			t.Errorf("the page has %s", never)
		}
	}
	for _, never := range []string{"<script", "<i>", "\n## c", "What went wrong"} {
		if strings.Contains(text, never) {
			t.Errorf("the text has %s", never)
		}
	}
	if _, ok, _ := Make(r, "r.pdf"); ok {
		t.Error("a form that is not known is written")
	}
}

// BenchmarkReport writes the page of 100 services, and tells how long it is.
func BenchmarkReport(b *testing.B) {
	r := handedOn(100)
	size := 0
	for b.Loop() {
		page, _, err := Make(r, "r.html")
		if err != nil {
			b.Fatal(err)
		}
		size = len(page)
	}
	b.ReportMetric(float64(size)/1e6, "MB")
}
