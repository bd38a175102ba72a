package execute

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/testbound"
)

// BenchmarkTwenty starts twenty small containers as a launch does, and by the bare calls of the
// engine's interface in the same order; x-of-bare is how many times as long a launch takes until
// all have begun.
func BenchmarkTwenty(b *testing.B) {
	e := realEngine(b)
	if _, err := tiny(); err != nil {
		b.Fatal(err)
	}
	var text strings.Builder
	text.WriteString("services:\n")
	for i := range 20 {
		fmt.Fprintf(&text, "  s%d: {image: TINY, command: [stay]}\n", i)
	}
	var launched, bare time.Duration
	for b.Loop() {
		k := &keyCase{Case: &casefile.Case{Files: map[string]string{"compose.yaml": text.String()}},
			ids: map[string]string{}, running: true}
		k.open(b, e)
		begin := time.Now()
		done := make(chan error, 1)
		go func() { done <- k.x.Run() }()
		for _, n := range k.x.all() {
			n.await(b.Context(), func(l life) bool { return l.Process != nil || l.Bad || l.Over })
		}
		launched += time.Since(begin)
		if err := testbound.Got(b, "the launch to settle", done); err != nil {
			b.Fatal(err)
		}
		var specs []run.ContainerSpec
		for _, s := range k.x.Plan().Services {
			spec, err := k.x.containers().container(&s, 0)
			if err != nil {
				b.Fatal(err)
			}
			spec.Name += "-bare"
			specs = append(specs, spec)
		}
		k.x.Stop(nil)
		labels := map[string]string{engine.LabelStack: k.x.Plan().ID}
		if err := keeper.RemoveContainers(b.Context(), e, k.x.Plan().ID); err != nil {
			b.Fatal(err)
		}
		begin = time.Now()
		if err := e.EnsureNetwork(b.Context(), networkName(k.x.Plan(), "default"),
			k.x.Plan().Networks["default"], labels); err != nil {
			b.Fatal(err)
		}
		var wait sync.WaitGroup
		for _, spec := range specs {
			wait.Go(func() {
				id, err := e.Create(b.Context(), spec.Spec)
				if err == nil {
					err = e.Start(b.Context(), id)
				}
				if err != nil {
					b.Error(err)
				}
			})
		}
		wait.Wait()
		bare += time.Since(begin)
		k.running = false
		k.clean(b, e)
	}
	b.ReportMetric(launched.Seconds()/bare.Seconds(), "x-of-bare")
	b.ReportMetric(bare.Seconds()/float64(b.N), "s-bare")
}
