package diagnose

import "strings"

// Lack is why no container engine can be used.
type Lack string

// The reasons.
const (
	NotInstalled Lack = "not-installed"
	NotStarted   Lack = "not-started"
	NotPermitted Lack = "not-permitted"
	NotReached   Lack = "not-reached"  // the machine that it is on lets nobody in
	NotSpeaking  Lack = "not-speaking" // something answers, but it is no engine
)

// Engine is what is known of a container engine that can't be used.
type Engine struct {
	Lack    Lack
	Address string
	Why     string // what the attempt has said
	System  string // the operating system, as Go names it
	Told    bool   // DOCKER_HOST says where it is
}

func lacks(l Lack, more func(*Engine) bool) func(*Engine) bool {
	return func(e *Engine) bool { return e.Lack == l && (more == nil || more(e)) }
}

func onLinux(e *Engine) bool { return e.System == "linux" }

// Engines are the rules for an engine.
var Engines = []Rule[Engine]{
	says("engine-not-installed-linux", lacks(NotInstalled, onLinux),
		"no container engine is installed",
		"Install one, on Debian and Ubuntu with: sudo apt-get install docker.io. Or run what "+
			"you can natively: nharbor launch --native SERVICE", ""),
	says("engine-not-installed", lacks(NotInstalled, nil), "no container engine is installed",
		"Install a container engine that offers its HTTP API on a socket, start it, and run "+
			"this again.", ""),
	says("engine-not-started-elsewhere", lacks(NotStarted, func(e *Engine) bool { return e.Told }),
		"no container engine answers at {address}, where DOCKER_HOST points",
		"Start that one, or unset DOCKER_HOST to use the engine of this machine.", ""),
	says("engine-not-started-linux", lacks(NotStarted, onLinux),
		notStarted, "Start it: sudo systemctl start docker (without systemd: sudo service "+
			"docker start)", ""),
	says("engine-not-started", lacks(NotStarted, nil),
		notStarted, "Start the engine's application and wait until it says that it is "+
			"running.", ""),
	says("engine-not-permitted", lacks(NotPermitted, nil),
		"the container engine runs, but you may not use its socket {socket}",
		"Join the group that owns the socket: sudo usermod -aG docker \"$USER\", then log in "+
			"again. Members of the group can become root.", ""),
	says("engine-not-reached", lacks(NotReached, nil),
		"the engine at {address} can't be reached by ssh: {why}",
		"Try it by hand, without a password being asked: ssh HOST docker version. Its key and "+
			"its user go into ~/.ssh/config.", ""),
	says("engine-not-speaking", lacks(NotSpeaking, nil),
		"what answers at {address} is no container engine: {why}", "Check DOCKER_HOST.", ""),
}

const notStarted = "the container engine is installed but not started: nothing answers at {address}"

// Explain tells why the engine can't be used, and what to do.
func (e *Engine) Explain() Finding {
	return first(Engines, e, map[string]string{"address": e.Address,
		"socket": strings.TrimPrefix(e.Address, "unix://"), "why": e.Why})
}
