package needs

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Facts is what this machine itself has. What it doesn't tell is zero.
type Facts struct {
	Memory, MemoryFree uint64 // bytes
	OpenFiles          uint64 // how many a program that is started here may have open
	// Watches are folders and files that this person's programs may watch, Watchers how many may do
	// so.
	Watches, Watchers Limit
}

// Limit is how much there may be of something, and how much there is.
type Limit struct{ Most, Used int }

// Weight is what an install will bring, roughly.
type Weight struct {
	Lock     string
	Packages int
	Size     int64 // bytes
}

// The least with which a stack is likely to come up and to be worked on.
const (
	lowDisk     = 2 << 30   // bytes free, besides what an install is known to take
	lowMemory   = 512 << 20 // bytes free
	lowFiles    = 1024      // open at the same time
	lowWatches  = 8192      // folders of a front end with its packages
	lowWatchers = 8
	clockDrift  = 30 * time.Second
)

// host asks for what is a matter of the machine itself. What is enough is worth a word only where a
// file asks for it.
func (a *asker) host(services []*stack.Service) {
	here := a.here
	lacks := func(name, wanted, found, remedy, command string) {
		a.needs = append(a.needs, Need{Name: name, Kind: Host, Wanted: wanted, Found: found,
			Level: Optional, Remedy: remedy, Command: command})
	}
	a.memory(services, here)
	if slices.ContainsFunc(services,
		func(s *stack.Service) bool { return s.Runs == stack.Native }) {
		if most := here.OpenFiles; most > 0 && most < lowFiles {
			lacks("open files", fmt.Sprint("at least ", lowFiles),
				fmt.Sprintf("a program may have %d open", most),
				fmt.Sprintf("Raise it in the shell that launches: ulimit -n %d", 4*lowFiles), "")
		}
		if w := here.Watches; w.Most > 0 && w.Most-w.Used < lowWatches {
			lacks("file watches", fmt.Sprint(lowWatches, " free"),
				fmt.Sprintf("%d of %d are in use", w.Used, w.Most),
				"What notices that a file has changed may fail or miss it. Raise the limit "+
					"until the next boot: "+sysctl("fs.inotify.max_user_watches", 524288), "")
		}
		if w := here.Watchers; w.Most > 0 && w.Most-w.Used < lowWatchers {
			lacks("file watchers", fmt.Sprint(lowWatchers, " free"),
				fmt.Sprintf("%d of %d are in use", w.Used, w.Most),
				"What notices that a file has changed may not start. Raise the limit until the "+
					"next boot: "+sysctl("fs.inotify.max_user_instances", 1024), "")
		}
	}
	if off := a.engineIs.Ahead; off.Abs() > clockDrift {
		lacks("clock", "the same time here and on the engine", fmt.Sprintf("they are %s apart",
			off.Abs().Round(time.Second)), "Set both by the network: signatures and sign-ins "+
			"hold for a limited time.", "")
	}
	a.kernel(services)
}

func sysctl(name string, value int) string { return fmt.Sprintf("sudo sysctl %s=%d", name, value) }

// memory compares what the files reserve with what the machine has on which the containers run.
func (a *asker) memory(services []*stack.Service, here Facts) {
	n := Need{Name: "memory", Kind: Host, Level: Optional, Met: true}
	var reserved uint64
	for _, s := range services {
		if s.Runs == stack.Container && s.Container != nil && s.Container.MemoryReservation > 0 {
			reserved += uint64(s.Container.MemoryReservation)
			n.For, n.Because = append(n.For, s.Name), append(n.Because, s.At)
		}
	}
	has, where := here.Memory, "this machine has"
	if a.engineIs.Memory > 0 {
		has, where = a.engineIs.Memory, "the engine's machine has"
	}
	switch {
	case reserved > 0 && has > 0:
		n.Wanted, n.Found = gigabytes(reserved)+", which the files reserve", where+" "+
			""+gigabytes(has)
		if n.Met = reserved <= has; !n.Met {
			n.Remedy = "Launch a part of it, or reserve less in an override file."
		}
	case here.Memory > 0 && here.MemoryFree < lowMemory:
		n.Wanted, n.Met = gigabytes(lowMemory)+" free", false
		n.Found = fmt.Sprintf("%s of %s free", gigabytes(here.MemoryFree), gigabytes(here.Memory))
		n.Remedy = "Close something: a program may be ended in the middle for want of memory."
	default:
		return
	}
	a.needs = append(a.needs, n)
}

// kernel asks for limits of the kernel below which a server may refuse to start. An engine
// elsewhere has one of its own.
func (a *asker) kernel(services []*stack.Service) {
	for _, s := range services {
		if s.Runs != stack.Container || a.engineIs.Remote || a.noEngine != nil {
			continue
		}
		p := protocol.OfImage(s.Image)
		if p == nil || p.Kernel == nil || p.Kernel.Unless(s.Env) {
			continue
		}
		has, known := a.machine.Kernel(p.Kernel.Name)
		if known && has < p.Kernel.Least {
			a.needs = append(a.needs, Need{Name: p.Kernel.Name, Kind: Host,
				Wanted: fmt.Sprint("at least ", p.Kernel.Least),
				Found:  fmt.Sprint(has), Level: Optional, For: []string{s.Name},
				Because: []stack.Place{s.At},
				Remedy: "It may refuse to start. Raise the limit until the next boot: " +
					sysctl(p.Kernel.Name, int(p.Kernel.Least))})
		}
	}
}

// disk compares the free space with what installs and images will take, as far as that can be told
// beforehand.
func (a *asker) disk(services []*stack.Service) {
	free, err := a.machine.DiskFree("")
	if err != nil {
		return
	}
	var parts []string
	var takes uint64
	n := Need{Name: "disk space", Kind: Disk, Level: Optional}
	a.native(services, func(p *stack.Project, names []string) {
		w, ok := a.machine.Weigh(p)
		if !ok {
			return
		}
		takes += uint64(w.Size)
		parts = append(parts, fmt.Sprintf("about %s for the %d packages of %s",
			gigabytes(uint64(w.Size)), w.Packages, w.Lock))
		n.Because = append(n.Because, stack.Place{File: w.Lock, Line: 1})
	})
	images := a.engineIs.Fetches
	if there, err := a.machine.DiskFree(a.engineIs.Keeps); images > 0 && a.engineIs.Keeps != "" &&
		err == nil {
		words := fmt.Sprintf("about %s for images", gigabytes(images))
		if there == free {
			takes, parts = takes+images, append(parts, words)
		} else {
			m := Need{Name: "disk space of the engine", Kind: Disk, Level: Optional, Wanted: words,
				Met: there >= images, Found: gigabytes(there) + " free in " + a.engineIs.Keeps}
			if !m.Met {
				m.Remedy = "Make room: the images do not fit."
			}
			a.needs = append(a.needs, m)
		}
	}
	least := max(takes+takes/5, lowDisk)
	n.Wanted, n.Found, n.Met = gigabytes(least), gigabytes(free)+" free", free >= least
	if len(parts) > 0 {
		n.Wanted += ": " + strings.Join(parts, ", ")
	}
	if !n.Met {
		n.Remedy = (&diagnose.Need{Kind: string(Disk), Found: n.Found}).Explain().Remedy
	}
	a.needs = append(a.needs, n)
}

func gigabytes(bytes uint64) string {
	if bytes < 1<<30 {
		return fmt.Sprintf("%d MB", bytes>>20)
	}
	return fmt.Sprintf("%.1f GB", float64(bytes)/(1<<30))
}
