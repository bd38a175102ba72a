package stack

import (
	"slices"
	"testing"
)

// TestTitles reads ids as a person does.
func TestTitles(t *testing.T) {
	t.Parallel()
	for id, want := range map[NodeID]string{"service:web": "web", "step:install:.": "install",
		"step:build:web":     "build web",
		"step:install:.@npm": "install by npm", "step:install:web@npm": "install web by npm",
		"step:seed:.@pip+load.sh": "seed load.sh by pip", "step:seed:.+load.sh": "seed load.sh"} {
		if got := id.Title(); got != want {
			t.Errorf("%s is called %q, want %q", id, got, want)
		}
	}
}

// TestParts follows which parts of a project ask for which others.
func TestParts(t *testing.T) {
	t.Parallel()
	at := Place{File: "x", Line: 1}
	p := &Project{Path: ".", Framework: "top", Parts: []Part{
		{Folder: "desk", Name: "desk", Uses: map[string]Place{"@h/ledger": at, "vite": at},
			Framework: "vite"},
		{Folder: "ledger", Name: "@h/ledger", Uses: map[string]Place{"@h/env": at, "pg": at}},
		{Folder: "env", Name: "@h/env", Uses: map[string]Place{"@h/ledger": at}},
		{Folder: "alone", Name: "alone", Uses: nil},
	}}
	if got := p.Reaches("desk"); !slices.Equal(got, []string{"desk", "ledger", "env"}) {
		t.Errorf("desk reaches %v", got)
	}
	if got := p.Reaches("alone"); !slices.Equal(got, []string{"alone"}) {
		t.Errorf("alone reaches %v", got)
	}
	if _, _, away, ok := p.UsedBy("desk", []string{"pg"}); !ok || away != 1 {
		t.Errorf("desk uses pg: %v, %d away", ok, away)
	}
	for folder, want := range map[string]string{"desk": "vite", "ledger": "", ".": "top",
		"nowhere": ""} {
		if got := p.FrameworkAt(folder); got != want {
			t.Errorf("%s has the framework %q, want %q", folder, got, want)
		}
	}
}
