package claim

import (
	"slices"
	"strconv"
	"testing"

	"nimbleharbor/internal/stack"
)

var everyWitness = []stack.Witness{Correction, Sight, Compose, Procfile, Setting, Task, Manifest,
	Lock, Framework, Code, Readme, Dockerfile, Develop, Workflow, History, Usage}

// TestEveryWitnessHasAPlace holds the lists of witnesses to name each of them once, and none that
// speaks of nothing.
func TestEveryWitnessHasAPlace(t *testing.T) {
	t.Parallel()
	heard := map[stack.Witness]bool{}
	for _, of := range Aspects {
		for i, w := range of.list {
			if !slices.Contains(everyWitness, w) {
				t.Errorf("%s counts %q, which is no witness", of, w)
			}
			if heard[w] = true; slices.Contains(of.list[:i], w) {
				t.Errorf("%s counts %q twice", of, w)
			}
		}
		if i := slices.Index(of.list, Correction); i > 0 {
			t.Errorf("%s counts something before what a person has corrected", of)
		}
		if i := slices.Index(of.list, Usage); i >= 0 && i != len(of.list)-1 {
			t.Errorf("%s counts what is usual before something that is said", of)
		}
	}
	for _, w := range everyWitness {
		if !heard[w] {
			t.Errorf("nobody hears %q", w)
		}
	}
}

// TestJudge puts claims in the order of their witnesses, and drops those of whom nobody asks.
func TestJudge(t *testing.T) {
	t.Parallel()
	at := stack.Place{File: "vite.config.ts", Line: 3}
	j := Judge(OfPort, Claim[int]{1, Usage, stack.Place{}}, Claim[int]{2, Lock, stack.Place{}},
		Claim[int]{3, Readme, stack.Place{}}, Claim[int]{4, Sight, stack.Place{}}, Claim[int]{4,
			Framework, at}, Claim[int]{4, Framework, at})
	var got []string
	for _, c := range j.Told("web", "", strconv.Itoa) {
		text := c.Says + " " + string(c.Sure)
		if c.Counts {
			text += " counts"
		}
		if c.Agrees {
			text += " agrees"
		}
		if c.About != "web" || c.Of != "port" {
			t.Errorf("%+v", c)
		}
		got = append(got, text)
	}
	want := []string{"4 seen counts agrees", "4 said agrees", "3 said", "1 usual"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if c, ok := j.Counts(); !ok || c.Value != 4 || len(j.Against()) != 2 {
		t.Errorf("%+v counts, against it %v", c, j.Against())
	}
	if _, ok := Judge[int](OfPort).Counts(); ok {
		t.Error("nobody said anything, and yet something counts")
	}
}
