// Package claim decides who counts when several witnesses say something of one thing. A claim is
// what one of them says, as a value of the thing's own type, with the place where it says so. Each
// thing that is concluded has one list of the witnesses that have a say in it (Aspect), in the
// order in which they count; nothing else decides.
//
// All claims are kept: those that lost tell a person why, and two that are said and differ are a
// contradiction.
package claim

import (
	"slices"

	"nimbleharbor/internal/stack"
)

// The witnesses, by the kind of place that they speak from.
const (
	Correction stack.Witness = "correction" // nharbor.toml
	Sight      stack.Witness = "launch"     // what an earlier launch has seen
	Compose    stack.Witness = "compose file"
	Procfile   stack.Witness = "Procfile"
	Setting    stack.Witness = "settings"
	Task       stack.Witness = "task file"
	Manifest   stack.Witness = "manifest"
	Lock       stack.Witness = "lock file"
	Framework  stack.Witness = "framework file"
	Code       stack.Witness = "code"
	Readme     stack.Witness = "README"
	Dockerfile stack.Witness = "Dockerfile"
	Develop    stack.Witness = "dev container"
	Workflow   stack.Witness = "CI"
	History    stack.Witness = "commits"
	Usage      stack.Witness = "what is usual"
)

// Aspect is a thing that is concluded of a subject. A witness that is not in its list has no say in
// it.
type Aspect struct {
	name string
	list []stack.Witness
}

// Witnesses are those that have a say, in the order in which they count.
func (a *Aspect) Witnesses() []stack.Witness { return a.list }

// String is the aspect's name, as a person reads it.
func (a *Aspect) String() string { return a.name }

// forRunning is the order for what runs a service: what is written for just that before what people
// write of it, and that before what only could be called for it.
var forRunning = []stack.Witness{Correction, Compose, Procfile, Manifest, Framework, Dockerfile,
	Readme, Task, Code, Usage}

// What is concluded.
var (
	OfService = &Aspect{"service", forRunning}
	OfCommand = &Aspect{"command", forRunning}
	// Where it listens: what was seen before what is said, and what the program is told before what
	// people write of it.
	OfPort = &Aspect{"port", []stack.Witness{Correction, Sight, Compose, Setting, Procfile, Task,
		Manifest, Framework, Code, Readme, Develop, Dockerfile, Usage}}
	OfProtocol = &Aspect{"protocol", []stack.Witness{Correction, Sight, Compose, Manifest,
		Framework, Code, Readme, Usage}}
	// What it needs: what asks for it by itself before what others use.
	OfVersion = &Aspect{"version", []stack.Witness{Manifest, Framework, Lock, Code, Dockerfile,
		Develop, Workflow}}
	OfManager = &Aspect{"manager", []stack.Witness{Correction, Manifest, Lock, Readme, Workflow,
		History, Usage}}
	OfWaiting = &Aspect{"waits", []stack.Witness{Correction, Compose, Setting, Framework, Procfile,
		Readme, Manifest, Code, Usage}}
	// A setting: what fails without it before what only names it.
	OfSetting = &Aspect{"setting", []stack.Witness{Compose, Code, Setting, Readme}}
)

// Aspects are all of them.
var Aspects = []*Aspect{OfService, OfCommand, OfPort, OfProtocol, OfVersion, OfManager, OfWaiting,
	OfSetting}

// Sure is how one knows what a witness says.
func Sure(w stack.Witness) stack.Sure {
	switch w {
	case Sight:
		return stack.Seen
	case Usage:
		return stack.Usual
	}
	return stack.Said
}

// Claim is what one witness says of a thing.
type Claim[T comparable] struct {
	Value   T
	Witness stack.Witness
	At      stack.Place
}

// Sure is how one knows it.
func (c Claim[T]) Sure() stack.Sure { return Sure(c.Witness) }

// Judged are the claims about one thing, the one that counts first.
type Judged[T comparable] struct {
	of     *Aspect
	Claims []Claim[T]
}

// Judge puts claims in the order in which their witnesses count; of those that count alike the
// first that was made. Those without a say are left out, and what is said twice at one place counts
// once.
func Judge[T comparable](of *Aspect, claims ...Claim[T]) Judged[T] {
	type said struct {
		value T
		at    stack.Place
	}
	j := Judged[T]{of: of}
	known := make(map[said]bool, len(claims)) // a setting can stand in thousands of lines
	for _, c := range claims {
		if slices.Contains(of.list, c.Witness) && !known[said{c.Value, c.At}] {
			known[said{c.Value, c.At}] = true
			j.Claims = append(j.Claims, c)
		}
	}
	slices.SortStableFunc(j.Claims, func(a, b Claim[T]) int {
		return slices.Index(of.list, a.Witness) - slices.Index(of.list, b.Witness)
	})
	return j
}

// Counts is the claim that is concluded; ok is false where nobody with a say has said anything.
func (j Judged[T]) Counts() (c Claim[T], ok bool) {
	if len(j.Claims) == 0 {
		return c, false
	}
	return j.Claims[0], true
}

// Against are the claims that say otherwise than the one that counts.
func (j Judged[T]) Against() (out []Claim[T]) {
	for _, c := range j.Claims {
		if c.Value != j.Claims[0].Value {
			out = append(out, c)
		}
	}
	return out
}

// Told are the claims for a person who asks why: of whom they are, and each value in words. Of, if
// it is not empty, says more closely of what than the aspect's own name does.
func (j Judged[T]) Told(about, of string, says func(T) string) (out []stack.Claim) {
	if of == "" {
		of = j.of.name
	}
	for i, c := range j.Claims {
		out = append(out, stack.Claim{About: about, Of: of, Says: says(c.Value),
			Witness: c.Witness, Sure: c.Sure(),
			At: c.At, Counts: i == 0, Agrees: c.Value == j.Claims[0].Value})
	}
	return out
}
