package run

import (
	"context"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
)

// ContainerSpec is a container to start, with what is done around its start and its end.
type ContainerSpec struct {
	engine.Spec
	Files     []engine.File // put into it before it starts
	PostStart []stack.Hook  // run in it once it has started
	PreStop   []stack.Hook  // run in it before it is asked to end; their failures change nothing
}

// Container is a running container, or several of the same kind that run and end as one.
type Container struct {
	ID      string // of the first
	engine  *engine.Engine
	preStop []stack.Hook
	all     []*Container // of several; nil for one
	done    chan struct{}
	exit    Exit
}

// stubborn is how long a container may still be there after the engine has stopped it.
const stubborn = 5 * time.Second

// createTime is how long the engine may take to make a container, whose image it has.
const createTime = time.Minute

// hookTime is how long a command may take that runs before a container is asked to end.
const hookTime = time.Minute

// StartContainer makes and starts a container; what it writes on its two outputs goes to two
// writers that output gives. The container is removed when it has ended. ctx covers the start only.
func StartContainer(ctx context.Context, e *engine.Engine, spec ContainerSpec,
	output func() io.WriteCloser) (*Container, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	// The engine may have made a container although the call was given up: then nobody would know
	// its id.
	limit := createTime
	if len(spec.Files) > 0 { // which may go to another machine
		limit = 10 * createTime
	}
	begun, cancel := context.WithTimeout(context.WithoutCancel(ctx), limit)
	defer cancel()
	id, err := e.Create(begun, spec.Spec)
	if err == nil && len(spec.Files) > 0 {
		err = e.Put(begun, id, spec.Files, spec.ReadOnly)
	}
	if err == nil {
		err = e.Start(begun, id)
	}
	if err != nil {
		if id != "" {
			e.Remove(context.WithoutCancel(ctx), id)
		}
		return nil, err
	}
	c := &Container{ID: id, engine: e, preStop: spec.PreStop, done: make(chan struct{})}
	go c.follow(output)
	for _, h := range spec.PostStart {
		if err := c.hook(ctx, h, output); err != nil {
			c.preStop = nil
			c.Stop(spec.StopGrace)
			return nil, fmt.Errorf("its post_start command %q: %w", strings.Join(h.Command, " "),
				err)
		}
	}
	return c, nil
}

// StartContainers starts several of the same kind, which run and end as one: the first that fails
// ends all.
func StartContainers(ctx context.Context, e *engine.Engine, specs []ContainerSpec,
	output func() io.WriteCloser) (*Container, error) {
	if len(specs) == 1 {
		return StartContainer(ctx, e, specs[0], output)
	}
	group := &Container{engine: e, done: make(chan struct{})}
	for _, spec := range specs {
		c, err := StartContainer(ctx, e, spec, output)
		if err != nil {
			group.each(func(c *Container) { c.Stop(spec.StopGrace) })
			return nil, err
		}
		group.all = append(group.all, c)
	}
	group.ID = group.all[0].ID
	go group.together()
	return group, nil
}

// together waits for the end of all, which that of one brings about if it has failed.
func (c *Container) together() {
	var once sync.Once
	c.each(func(one *Container) {
		<-one.Done()
		if exit := one.Exit(); !exit.OK() {
			once.Do(func() {
				c.exit = exit
				for _, other := range c.all {
					go other.Stop(10 * time.Second)
				}
			})
		}
	})
	close(c.done)
}

// each does something with all of several at the same time, and returns when all is done.
func (c *Container) each(do func(*Container)) {
	var wait sync.WaitGroup
	for _, one := range c.all {
		wait.Go(func() { do(one) })
	}
	wait.Wait()
}

// IDs are those of all containers that run as one.
func (c *Container) IDs() []string {
	if c.all == nil {
		return []string{c.ID}
	}
	var out []string
	for _, one := range c.all {
		out = append(out, one.ID)
	}
	return out
}

// hook runs a command in the container; what it writes goes where the container's own output does.
func (c *Container) hook(ctx context.Context, h stack.Hook, output func() io.WriteCloser) error {
	out := output()
	defer out.Close()
	code, err := c.engine.Hook(ctx, c.ID, h, out)
	if err == nil && code != 0 {
		err = fmt.Errorf("it ended with code %d", code)
	}
	return err
}

func (c *Container) follow(output func() io.WriteCloser) {
	ctx := context.Background()
	read := make(chan struct{})
	go func() {
		defer close(read)
		out, errOut := output(), output()
		c.engine.Logs(ctx, c.ID, out, errOut)
		out.Close()
		errOut.Close()
	}()
	code, err := c.engine.Wait(ctx, c.ID)
	select {
	case <-read:
	case <-time.After(2 * time.Second):
	}
	c.exit = Exit{Code: code}
	switch {
	case engine.IsNotFound(err):
		c.exit = Exit{Err: fmt.Errorf("somebody removed its container")}
	case err != nil:
		c.exit = Exit{Err: fmt.Errorf("the engine can't be asked any more: %w", err),
			EngineLost: true}
	default:
		if s, err := c.engine.Inspect(ctx, c.ID); err == nil && s.OutOfMem {
			c.exit.Signal, c.exit.Memory = "the system: out of memory", true
		}
	}
	c.engine.Remove(ctx, c.ID)
	close(c.done)
}

// Engine is the one that it runs on.
func (c *Container) Engine() *engine.Engine { return c.engine }

// Done implements Process.
func (c *Container) Done() <-chan struct{} { return c.done }

// Exit implements Process.
func (c *Container) Exit() Exit { return c.exit }

// Stop implements Process.
func (c *Container) Stop(grace time.Duration) {
	if c.all != nil {
		c.each(func(one *Container) { one.Stop(grace) })
		<-c.done
		return
	}
	if grace > 0 {
		ctx, cancel := context.WithTimeout(context.Background(), hookTime)
		for _, h := range c.preStop {
			c.engine.Hook(ctx, c.ID, h, io.Discard)
		}
		cancel()
	}
	ctx, cancel := context.WithTimeout(context.Background(), grace+30*time.Second)
	defer cancel()
	if err := c.engine.Stop(ctx, c.ID, grace); err != nil {
		c.engine.Remove(ctx, c.ID)
	}
	select {
	case <-c.done:
		return
	case <-time.After(stubborn): // it has not gone, although the engine says so
	}
	c.engine.Remove(ctx, c.ID)
	select {
	case <-c.done:
	case <-ctx.Done():
	}
}
