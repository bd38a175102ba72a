package execute

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
)

// Restart stops the services named and those that need them, and starts them again by the new plan:
// with the settings and commands as the files say them now. The steps that lead to them are gone
// through again, which does only what has changed. Services that need them and that somebody has
// stopped stay so; without names all are started. It returns when each has reached a state that
// lasts.
func (x *Executor) Restart(plan *plan.Plan, names []string) error {
	targets, err := x.renewal().targets(plan, names)
	if err != nil {
		return err
	}
	x.Stop(names)
	x.renewal().takeOver(plan, targets)

	var wait sync.WaitGroup
	after := map[stack.NodeID][]order.Edge{}
	for _, o := range plan.Order.Nodes {
		after[o.ID] = o.After
	}
	fresh := map[stack.NodeID]*node{}
	current := x.Plan()
	x.mu.Lock()
	for id := range targets {
		fresh[id] = newNode(current, id)
		x.nodes[id] = fresh[id]
	}
	x.mu.Unlock()
	if err := x.renewal().prepareAgain(x.ctx); err != nil {
		for _, n := range fresh {
			x.end(n, stack.Failed, err.Error())
		}
		return err
	}
	for id, n := range fresh {
		wait.Go(func() { x.node(n, after[id]) })
	}
	wait.Wait()
	return nil
}

// targets are the nodes that a restart concerns: those named, or all, and those that wait for them,
// but for what somebody has stopped. Services that have come or gone are an error.
func (x renewal) targets(plan *plan.Plan, names []string) (map[stack.NodeID]bool, error) {
	var unknown []string
	for _, o := range plan.Order.Nodes {
		if !o.ID.IsStep() && x.at(o.ID) == nil {
			unknown = append(unknown, o.ID.Title())
		}
	}
	targets := x.dependants(names)
	for id := range targets {
		n := x.at(id)
		if _, known := plan.Services[id]; n.svc != nil && !known {
			unknown = append(unknown, id.Title())
			continue
		}
		isNamed := !id.IsStep() && slices.Contains(names, id.Title())
		if n.now().State == stack.Stopped && len(names) > 0 && !isNamed {
			delete(targets, id)
		}
	}
	if len(unknown) > 0 {
		slices.Sort(unknown)
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRestartNotPossible,
			Text: "services have come or gone since the launch: " +
				strings.Join(slices.Compact(unknown), ", "),
			Remedy: "Launch anew: nharbor stop, then nharbor launch"}
	}
	for id := range targets {
		svc, ok := plan.Services[id]
		if ok && svc.Runs == stack.Container && x.on(svc.Name) == nil {
			return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeRestartNotPossible,
				Text: svc.Name + " runs in a container now, and the stack was launched " +
					"without any", Remedy: "Launch anew: nharbor stop, then nharbor launch"}
		}
	}
	return targets, nil
}

// takeOver puts the new plan into the place of the old for the targets and for the steps that lead
// to them, which become targets too.
func (x renewal) takeOver(plan *plan.Plan, targets map[stack.NodeID]bool) {
	steps := map[stack.NodeID]bool{}
	var lead func(id stack.NodeID)
	after := map[stack.NodeID][]order.Edge{}
	for _, o := range plan.Order.Nodes {
		after[o.ID] = o.After
	}
	lead = func(id stack.NodeID) {
		for _, e := range after[id] {
			if _, isStep := plan.Steps[e.ID]; isStep && !steps[e.ID] {
				steps[e.ID] = true
				lead(e.ID)
			}
		}
	}
	for id := range targets {
		lead(id)
	}
	maps.Copy(targets, steps)
	for id := range targets {
		if _, gone := after[id]; !gone && x.at(id).svc == nil {
			delete(targets, id) // a step that the files don't ask for any more
		}
	}
	merged := *x.Plan()
	merged.Order, merged.Networks, merged.Volumes, merged.Inputs, merged.Commits = plan.Order, plan.Networks,
		plan.Volumes, plan.Inputs, plan.Commits
	merged.Services, merged.Steps = maps.Clone(x.Plan().Services), maps.Clone(x.Plan().Steps)
	for id := range targets {
		if svc, ok := plan.Services[id]; ok {
			merged.Services[id] = svc
		}
		if step, ok := plan.Steps[id]; ok {
			merged.Steps[id] = step
		}
	}
	x.mu.Lock()
	x.current = &merged
	for _, o := range merged.Order.Nodes {
		if x.nodes[o.ID] == nil {
			x.nodes[o.ID] = newNode(&merged, o.ID)
			targets[o.ID] = true
		}
	}
	x.mu.Unlock()
	x.logs.Hide(plan.Secrets)
}

// prepareAgain makes networks and volumes that the files ask for now.
func (x renewal) prepareAgain(ctx context.Context) error {
	if len(x.Engines()) == 0 {
		return nil
	}
	if err := x.containers().ensure(ctx); err != nil {
		return fmt.Errorf("preparing the engine: %w", err)
	}
	return nil
}
