package diagnose

import (
	"fmt"
	"strings"

	"nimbleharbor/internal/shell"
)

// Need is what is known of something that a machine must have, and has not.
type Need struct {
	Kind    string // "tool", "port", "server", "disk" or "source"
	Name    string
	Wanted  string
	Absent  bool   // a tool that isn't installed
	Broken  string // what a tool said when it did not run
	Found   string // a tool's version, or the free space
	Install string // the system's own command for a tool; empty if it isn't known
	// a tool that lies in the person's home, where this shell does not find it; Install finds it
	Kept string
	// Keeper is the version manager that keeps it, or others of the tool; empty for a folder of the
	// person's own.
	Keeper string
	// the version that the system's own package of the tool has, which does not do either
	Offered  string
	Holder   string // the program that holds a port; empty if it isn't known
	PID      string // of that program
	Stack    string // the workspace of another stack of ours whose service Holder is
	Manager  string // the package manager that a login is for
	Variable string // in which the login is expected
	Key      string // of the setting that points at a server
	MadeBy   string // a script of the checkout that starts such a server; empty if there is none
	Provide  string // what it speaks, where a launch can run one
	Make     string // a command that starts such a server; empty where nobody says how
}

func kindOf(kind string, more func(*Need) bool) func(*Need) bool {
	return func(n *Need) bool { return n.Kind == kind && (more == nil || more(n)) }
}

// Needs are the rules for a need that is not met.
var Needs = []Rule[Need]{
	says("tool-kept", kindOf("tool", func(n *Need) bool { return n.Kept != "" && n.Keeper != "" }),
		"{found}", "{kept} is here, kept by {keeper}, and not loaded in this shell: {install}", ""),
	says("tool-kept-own", kindOf("tool", func(n *Need) bool { return n.Kept != "" }),
		"{found}", "{kept} is here, in a folder that this shell does not look into: {install}", ""),
	says("tool-broken", kindOf("tool", func(n *Need) bool { return n.Broken != "" }),
		"it does not run: {broken}", "Run it by hand to see what is wrong: {name} --version", ""),
	says("tool-absent", kindOf("tool", func(n *Need) bool { return n.Absent && n.Install != "" }),
		"", "Install it: {install}", ""),
	says("tool-absent-kept", kindOf("tool",
		func(n *Need) bool { return n.Absent && n.Keeper != "" }),
		"", "Install {name} {wanted} with {keeper}, which keeps other versions of it here.", ""),
	says("tool-absent-offered", kindOf("tool",
		func(n *Need) bool { return n.Absent && n.Offered != "" }),
		"", "Install {name} {wanted} with a version manager; this system's own package has "+
			"{offered}.", ""),
	says("tool-absent-anywhere", kindOf("tool", func(n *Need) bool { return n.Absent }),
		"", "Install {name} and make sure that this shell finds it.", ""),
	says("tool-version-kept", kindOf("tool", func(n *Need) bool { return n.Keeper != "" }),
		"{found}", "Install {name} {wanted} with {keeper}, which keeps other versions of it "+
			"here; or correct the constraint if it is out of date.", ""),
	says("tool-version", kindOf("tool", nil),
		"{found}", "Install {name} {wanted} beside it, with a version manager, and open a new "+
			"shell; or correct the constraint if it is out of date.", ""),
	says("source-login-variable", kindOf("source", func(n *Need) bool { return n.Variable != "" }),
		"no login for it was found", "Get a login from whoever runs it, and export it as "+
			"{variable}.", ""),
	says("source-login", kindOf("source", nil),
		"no login for it was found", "Get a login from whoever runs it, and put it where "+
			"{manager} looks for it.", ""),
	says("port-held-by-stack", kindOf("port", func(n *Need) bool { return n.Stack != "" }),
		"taken by {holder} of the stack in {stack}",
		"Stop that one: nharbor -C {there} stop. Or move this one to other ports: nharbor "+
			"launch --shift 100", ""),
	says("port-held", kindOf("port", func(n *Need) bool { return n.Holder != "" }),
		"taken by {holder}, process {pid}",
		"Stop process {pid} ({holder}), or move the whole stack to other ports: nharbor launch "+
			"--shift 100", ""),
	says("port-taken", kindOf("port", nil),
		"taken", "Stop what holds it, or move the whole stack to other ports: nharbor launch "+
			"--shift 100", ""),
	says("server-absent-made-fixed", kindOf("server",
		func(n *Need) bool { return n.Make != "" && n.Key == "" }),
		"nothing of this stack offers it, and nothing answers there", "Start one: {make}.", ""),
	says("server-absent-made", kindOf("server",
		func(n *Need) bool { return n.Make != "" && n.MadeBy == "" }),
		"nothing of this stack offers it, and nothing answers there",
		"Start one: {make}. Or let {key} point at one that runs: nharbor fill --set {key}=…", ""),
	says("server-absent-fixed", kindOf("server",
		func(n *Need) bool { return n.Key == "" && n.MadeBy == "" }),
		"nothing of this stack offers it, and nothing answers there", "Start one before the "+
			"launch.", ""),
	says("server-absent-script-fixed", kindOf("server", func(n *Need) bool { return n.Key == "" }),
		"nothing of this stack offers it, and nothing answers there", "Start one; {madeBy} runs "+
			"such an image.", ""),
	says("server-absent-script", kindOf("server", func(n *Need) bool { return n.MadeBy != "" }),
		"nothing of this stack offers it, and nothing answers there",
		"Start one; {madeBy} runs such an image. Or let {key} point at one that runs: nharbor "+
			"fill --set {key}=…", ""),
	says("server-absent", kindOf("server", nil),
		"nothing of this stack offers it, and nothing answers there",
		"Start one, or let {key} point at one that runs: nharbor fill --set {key}=…", ""),
	says("disk-low", kindOf("disk", nil), "{found}", "Make room: packages and images may not fit.",
		""),
}

// Explain tells what was found instead of what is needed, and what to do.
func (n *Need) Explain() Finding {
	out := first(Needs, n, map[string]string{"name": n.Name, "wanted": n.Wanted,
		"broken": n.Broken, "found": n.Found,
		"install": n.Install, "kept": n.Kept, "keeper": n.Keeper, "offered": n.Offered,
		"holder": n.Holder, "pid": n.PID, "manager": n.Manager, "variable": n.Variable,
		"key": n.Key, "stack": n.Stack, "there": shell.Word(n.Stack), "madeBy": n.MadeBy,
		"make": n.Make})
	if n.Provide != "" {
		out.Remedy = fmt.Sprintf("Let the launch run one: nharbor launch --provide %s. Or: %s",
			n.Provide, strings.ToLower(out.Remedy[:1])+out.Remedy[1:])
	}
	return out
}
