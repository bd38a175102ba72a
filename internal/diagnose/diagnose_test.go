package diagnose

import (
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// cases hold for each rule something of which it holds, and a part of what is said then. A rule
// without one is not shown to hold ever.
var cases = map[string]struct {
	finding Finding
	says    string
}{
	"stranger-without-stack": {port(Port{Check: stack.PortCheck{Verdict: stack.Answers,
		Owner: &stack.Owner{PID: 7, Command: "quay"}}}),
		"quay, process 7; this stack is not launched"},
	"left-behind": {port(Port{Left: true, Check: stack.PortCheck{Verdict: stack.Answers}}),
		"nharbor stop"},
	"stranger": {port(Port{Alive: true, Launched: true, Foreign: true,
		Check: stack.PortCheck{Verdict: stack.Answers}}), "another program"},
	"hangs-up": {port(Port{Alive: true, Launched: true, Runs: stack.Native, HungUp: true,
		Check: stack.PortCheck{Verdict: stack.Refuses}}), "nharbor logs berth"},
	"not-launched": {port(Port{Check: stack.PortCheck{Verdict: stack.Refuses}}), "not launched"},
	"left-out": {port(Port{Alive: true, Check: stack.PortCheck{Verdict: stack.Refuses}}),
		"not part of this launch"},
	"failed-and-replaced": {port(answering(stack.Failed, "ended with 3")),
		"ended with 3; what answers here is another"},
	"skipped-and-replaced": {port(answering(stack.Skipped, "db failed")),
		"since db failed; what answers"},
	"stopped-and-replaced": {port(answering(stack.Stopped, "")), "nharbor restart berth"},
	"waits": {port(refusing(stack.Native, stack.Waiting, "for db")),
		"it waits for db"},
	"still-starting": {port(refusing(stack.Native, stack.Starting, "")), "still starting"},
	"loopback-only":  {port(within(8080, true)), "loopback address alone"},
	"other-port-inside": {port(within(9090, false)),
		"listens on 9090, not on 8080, where c.yaml:3 leads"},
	"nothing-inside": {port(within(0, false)), "nothing listens inside"},
	"errs-for-a-reason": {port(Port{Alive: true, Launched: true,
		Reason: "the database is not set up", Fix: "Migrate.",
		Check: stack.PortCheck{Verdict: stack.Errs,
			Cause: "status 500"}}), "status 500: the database is not set up Migrate."},
	"tls-or-not": {port(Port{Alive: true, Launched: true,
		Check: stack.PortCheck{Verdict: stack.Stranger,
			Expected: "redis", Speaks: "tls"}}), "redis was expected, and it answers in TLS"},
	"not-spoken-to": {port(Port{Alive: true, Launched: true, Gentle: true,
		Check: stack.PortCheck{Verdict: stack.Answers}}), "is not spoken to"},
	"ipv6-only": {port(Port{Alive: true, Launched: true,
		Check: stack.PortCheck{Verdict: stack.Answers,
			Address: "[::1]:8080"}}), "IPv6 loopback alone"},
	"failed": {port(refusing(stack.Native, stack.Failed, "ended with 3")),
		"failed: ended with 3"},
	"skipped":      {port(refusing(stack.Native, stack.Skipped, "db failed")), "since db failed"},
	"stopped":      {port(refusing(stack.Native, stack.Stopped, "")), "nharbor restart berth"},
	"starts-again": {port(pausing("ended; it starts again")), "it starts again"},
	"loopback-inside": {port(refusing(stack.Container, stack.Running, "")),
		"listen on 0.0.0.0:8080"},
	"does-not-listen": {port(refusing(stack.Native, stack.Running, "")), "does not listen"},
	"silent": {port(Port{Alive: true, Launched: true, Patient: 5,
		Check: stack.PortCheck{Verdict: stack.Silent}}), "within 5 seconds"},
	"errs": {port(Port{Alive: true, Launched: true,
		Check: stack.PortCheck{Verdict: stack.Errs, Cause: "status 500"}}), "nharbor logs berth"},
	"other-protocol": {port(Port{Alive: true, Launched: true,
		At:    stack.Place{File: "c.yaml", Line: 3},
		Check: stack.PortCheck{Verdict: stack.Stranger, Expected: "redis", Speaks: "http"}}),
		"redis was expected, and http answers Correct the port at c.yaml:3"},

	"engine-not-installed-linux": {engine(Engine{Lack: NotInstalled, System: "linux"}),
		"apt-get install docker.io"},
	"engine-not-installed": {engine(Engine{Lack: NotInstalled, System: "darwin"}),
		"Install a container engine"},
	"engine-not-started-elsewhere": {engine(Engine{Lack: NotStarted, Told: true,
		Address: "tcp://quay:1"}), "no container engine answers at tcp://quay:1"},
	"engine-not-started-linux": {engine(Engine{Lack: NotStarted, System: "linux"}),
		"systemctl start docker"},
	"engine-not-started": {engine(Engine{Lack: NotStarted, System: "windows"}),
		"Start the engine's application"},
	"engine-not-permitted": {engine(Engine{Lack: NotPermitted, Address: "unix:///run/x.sock"}),
		"may not use its socket /run/x.sock"},
	"image-disk-full": {image("write /x: no space left on device"), "no room for it"},
	"image-platform": {image("no matching manifest for linux/arm64 in the manifest list"),
		"this kind of machine"},
	"image-login": {image("Head: unauthorized: authentication required"),
		"docker login quay.example"},
	"image-denied": {image("pull access denied for x, repository does not exist or may require " +
		"'docker login'"), "no such image, or none for you"},
	"image-absent": {image("manifest for x:9 not found: manifest unknown"),
		"Check the name and the tag of berth:9"},
	"image-many": {image("toomanyrequests: slow down"), "too many requests"},
	"image-unreachable": {image(`Get "https://quay.example/v2/": dial tcp: lookup quay.example: no such host`),
		"can't be reached"},
	"image-unknown": {image("odd"), "the engine says: odd"},
	"engine-not-reached": {engine(Engine{Lack: NotReached, Address: "ssh://quay",
		Why: "Permission denied"}), "can't be reached by ssh: Permission denied"},
	"engine-not-speaking": {engine(Engine{Lack: NotSpeaking, Address: "a", Why: "status 404"}),
		"no container engine: status 404"},

	"port-held-by-stack": {need(Need{Kind: "port", Holder: "api", Stack: "/w"}),
		"taken by api of the stack in /w"},
	"tool-broken": {need(Need{Kind: "tool", Name: "node", Broken: "no library"}),
		"it does not run: no library Run it by hand"},
	"tool-absent": {need(Need{Kind: "tool", Absent: true, Install: "brew install go"}),
		"Install it: brew install go"},
	"tool-absent-anywhere": {need(Need{Kind: "tool", Name: "just", Absent: true}),
		"Install just and make sure"},
	"tool-kept": {need(Need{Kind: "tool", Kept: "node 22.1.0", Keeper: "nvm", Install: "load it"}),
		"node 22.1.0 is here, kept by nvm, and not loaded in this shell: load it"},
	"tool-kept-own": {need(Need{Kind: "tool", Kept: "uv", Install: "load it"}),
		"in a folder that this shell does not"},
	"tool-absent-kept": {need(Need{Kind: "tool", Name: "node", Wanted: "^22", Absent: true,
		Keeper: "nvm"}), "Install node ^22 with nvm"},
	"tool-absent-offered": {need(Need{Kind: "tool", Name: "node", Wanted: "^22", Absent: true,
		Offered: "18.1"}), "this system's own package has 18.1"},
	"tool-version-kept": {need(Need{Kind: "tool", Name: "node", Wanted: "^22", Found: "20.1.0",
		Keeper: "nvm"}), "with nvm, which keeps other versions of it here; or correct"},
	"tool-version": {need(Need{Kind: "tool", Name: "node", Wanted: "^22", Found: "20.1.0"}),
		"20.1.0 Install node ^22 beside it"},
	"source-login-variable": {need(Need{Kind: "source", Variable: "NPM_TOKEN"}),
		"export it as NPM_TOKEN"},
	"source-login": {need(Need{Kind: "source", Manager: "maven"}), "where maven looks for it"},
	"port-held": {
		need(Need{Kind: "port", Holder: "postgres", PID: "81"}),
		"taken by postgres, process 81",
	},
	"port-taken":          {need(Need{Kind: "port"}), "--shift 100"},
	"server-absent-fixed": {need(Need{Kind: "server"}), "before the launch"},
	"server-absent-script-fixed": {need(Need{Kind: "server", MadeBy: "quay.sh"}),
		"quay.sh runs such an image"},
	"server-absent-script": {need(Need{Kind: "server", Key: "DATABASE_URL", MadeBy: "quay.sh"}),
		"quay.sh runs such"},
	"server-absent-made-fixed": {need(Need{Kind: "server", Make: "docker run x"}),
		"one: docker run x."},
	"server-absent-made": {need(Need{Kind: "server", Make: "run x", Key: "URL"}),
		"run x. Or let URL"},
	"server-absent": {need(Need{Kind: "server", Key: "DATABASE_URL"}), "fill --set DATABASE_URL="},
	"disk-low":      {need(Need{Kind: "disk", Found: "0.1 GB free"}), "Make room"},

	"later-file-wins": {setting(Setting{Later: ".env.local", Line: 4}), ".env.local:4 wins"},
	"password-of-before": {setting(Setting{Key: "PW", Service: "db", Store: "the volume data",
		Changed: true}), "the volume data exists already"},
}

func port(p Port) Finding {
	p.Service, p.Target = "berth", 8080
	f := first(Ports, &p, nil)
	c := p.Explain()
	return Finding{Code: f.Code, Cause: c.Cause, Remedy: c.Remedy}
}

func refusing(runs stack.Way, state stack.State, text string) Port {
	return Port{Alive: true, Launched: true, Runs: runs, State: state, Text: text,
		Check: stack.PortCheck{Verdict: stack.Refuses}}
}

func pausing(text string) Port {
	p := refusing(stack.Native, stack.Starting, text)
	p.Doing = stack.StartsAgain
	return p
}

func answering(state stack.State, text string) Port {
	p := refusing(stack.Native, state, text)
	p.Check.Verdict = stack.Answers
	return p
}

// within is a container's port that refuses, while somebody listens inside on that port, 0 for
// nobody.
func within(port int, loopback bool) Port {
	p := refusing(stack.Container, stack.Quiet, "")
	p.Known, p.At = true, stack.Place{File: "c.yaml", Line: 3}
	if port > 0 {
		p.Inside = []Listening{{port, loopback}}
	}
	return p
}

func engine(e Engine) Finding   { return e.Explain() }
func need(n Need) Finding       { return n.Explain() }
func setting(s Setting) Finding { return s.Explain() }

func TestEveryRuleHasACase(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	check := func(code, cause, remedy string) {
		if seen[code] {
			t.Errorf("the rule %s is there twice", code)
		}
		seen[code] = true
		c, ok := cases[code]
		if !ok {
			t.Errorf("the rule %s has no case", code)
			return
		}
		said := c.finding.Cause + " " + c.finding.Remedy
		if c.finding.Code != code || !strings.Contains(said, c.says) ||
			strings.ContainsAny(said, "{}") {
			t.Errorf("the case of %s meets %s: %q", code, c.finding.Code, said)
		}
		if cause == "" && remedy == "" {
			t.Errorf("the rule %s says nothing", code)
		}
	}
	for _, r := range Ports {
		check(r.Name, r.Then.Cause, r.Then.Remedy)
	}
	for _, r := range Engines {
		check(r.Name, r.Then.Cause, r.Then.Remedy)
	}
	for _, r := range Images {
		check(r.Name, r.Then.Cause, r.Then.Remedy)
	}
	for _, r := range Needs {
		check(r.Name, r.Then.Cause, r.Then.Remedy)
	}
	for _, r := range Settings {
		check(r.Name, r.Then.Cause, r.Then.Remedy)
	}
	if len(seen) != len(cases) {
		t.Errorf("%d rules, and %d cases", len(seen), len(cases))
	}
}

func image(why string) Finding {
	return (&Image{Ref: "berth:9", Registry: "quay.example", Why: why}).Explain()
}

func TestNothingIsSaidWithoutAReason(t *testing.T) {
	t.Parallel()
	fine := Port{Alive: true, Launched: true,
		Check: stack.PortCheck{Verdict: stack.Answers, Title: "x"}}
	if c := fine.Explain(); c != fine.Check {
		t.Errorf("of a port that answers: %+v", c)
	}
	for name, f := range map[string]Finding{"a setting": setting(Setting{Key: "A"}),
		"a password that is kept": setting(Setting{Store: "x"}),
		"an unknown lack":         engine(Engine{}), "an unknown need": need(Need{})} {
		if f != (Finding{}) {
			t.Errorf("of %s: %+v", name, f)
		}
	}
}
