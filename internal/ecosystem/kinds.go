package ecosystem

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Ecosystem is all that the package managers of one language have in common.
type Ecosystem struct {
	Name string
	// Readers recognise projects of its managers; none for task files, which ReadTasks reads.
	Readers []Reader
	// Managers are its package managers: where several could be meant, the earlier one is.
	Managers   []*Manager
	Frameworks []*Framework

	// Manifests are the names of files, or patterns of them, that make a folder a project.
	Manifests []string
	// Made are folders that its tools fill and people don't. MadeBeside are names that people use
	// too: they count only where one of the manifests lies beside.
	Made, MadeBeside []string

	// Endings are those of files of code, which is written in Language.
	Endings  []string
	Language *Language
	// SettingsAbove is true where programs look for .env in the folders above, too.
	SettingsAbove bool
	// Given are variables that its tools set for a program, so that no settings file has to.
	Given []string

	// Compiled is true where programs have to be built before anybody can call them by name.
	Compiled bool
	// ByDriver is true where a driver among the packages means that a server of its kind is there:
	// no framework comes with a store of its own.
	ByDriver bool
	// Tools are the programs of the language itself, and those that its packages are compiled with.
	Tools []Tool
	// VersionManagers are programs that install one version of them beside another.
	VersionManagers []string
	// Logins are files in a person's home folder in which logins at package sources are kept.
	Logins []string
	// Public are the hosts of package sources that let everybody in.
	Public []string

	Verbs []Verb
	// Aliases are other ways to begin a command, by what they stand for.
	Aliases map[string]string
	// Wrappers are words in front of a command that only say with which tools it runs.
	Wrappers []string

	// Proxies are settings of its frameworks in which a front end names the server that it hands
	// calls on to.
	Proxies []Proxy
}

// Manager is all that is known of one package manager beyond what its ecosystem says.
type Manager struct {
	Name string
	// Locks are its lock files, the one first that it makes.
	Locks []string
	// Weight tells roughly what the packages of its lock file take; nil where nobody can say.
	Weight *Weight
	// Tools are its own programs; none for a manager that comes with the language.
	Tools []Tool
	// Inputs are files that an install depends on besides manifest and lock file.
	Inputs []string
	// Obeys are files by which it is told to run or to load something of the checkout, or what to
	// fetch from where, as patterns of paths below the folder that it is called in. What scripts it
	// runs by their names is told by Scripts.
	Obeys []string
	// Hooks are the manifest's scripts that an install runs.
	Hooks   []string
	Verbs   []Verb
	Aliases map[string]string
	// Wrappers are as in Ecosystem.
	Wrappers []string
	// Scripts tells how it runs the manifest's scripts by their names; nil if it runs none.
	Scripts *Scripts
	// Lists is true for a manager whose file at the top lists all projects that belong together.
	Lists bool
	// Tasks is true for a program that only runs what a file of tasks says.
	Tasks bool

	node   *nodeManager
	python *pythonManager
}

// Scripts tells how a manager runs scripts of the manifest: behind the word Run or, where Bare is
// true, by the name alone unless that is one of its Own verbs. Short are the names that may stand
// alone anyway. Member are the words behind which the member stands, by name or folder, whose
// script is meant. Programs is true where Run runs programs as well, which then are wrapped by it.
type Scripts struct {
	Run        string
	Bare       bool
	Programs   bool
	Own, Short []string
	Member     []string
}

// Framework is what others have to know of a framework. How it is recognised is told where its
// ecosystem is read.
type Framework struct {
	Name string
	// Layers are the settings files that it reads in work on a project, later ones winning; nil for
	// the usual ones.
	Layers []string
	// Config are its own configuration files for work on the project, by their paths in its folder.
	// The addresses in them count as settings do.
	Config []string
	// Public are beginnings of the names of settings that reach the browser.
	Public []string
	// Browser is true where what it serves runs in a browser, and API where it serves an API
	// besides.
	Browser, API bool
	// Documents is true for a site of documents, which is no part of an application.
	Documents bool
	// Screen is true for a program that needs a screen or a phone and serves nobody.
	Screen bool
	// Secrets are made up in its own form.
	Secrets []Secret

	node   *nodeFramework
	python *pythonFramework
}

// Secret is the form of a secret that a framework's own command would make. Key is its name; one
// that ends in * is the beginning of names, and one that begins with * their end. Command are words
// by which comments refer to that command.
type Secret struct {
	Key, Command string
	Form         Form
	// Default is true for a form that gives way to what a comment asks for.
	Default bool
}

// Form is a form of random secrets: so many bytes, or letters and digits, written as As says.
type Form struct {
	Size   int
	As     string // AsHex, AsBase64 or AsLetters
	Prefix string
}

// The ways to write a secret.
const (
	AsHex     = "hex"
	AsBase64  = "base64"
	AsLetters = "letters"
)

// fits reports whether the form is that of a key.
func (s *Secret) fits(key string) bool {
	if begin, ok := strings.CutSuffix(s.Key, "*"); ok {
		return strings.HasPrefix(key, begin)
	}
	if end, ok := strings.CutPrefix(s.Key, "*"); ok {
		return strings.HasSuffix(key, end)
	}
	return s.Key == key
}

// SecretOf gives the form in which the framework wants the secret of that key; nil if it wants
// none.
func (f *Framework) SecretOf(key string) *Secret {
	for i := range f.Secrets {
		if s := &f.Secrets[i]; s.Key != "" && s.fits(key) {
			return s
		}
	}
	return nil
}

// SecretBy gives the secret whose framework's own command a comment in lower case names, whichever
// framework it is; or nil.
func SecretBy(comment string) *Secret {
	for _, f := range Frameworks() {
		for i := range f.Secrets {
			if s := &f.Secrets[i]; s.Command != "" && strings.Contains(comment, s.Command) {
				return s
			}
		}
	}
	return nil
}

// Proxy is a settings file in which Form finds addresses: its group 1.
type Proxy struct {
	File string
	Form *expr.Expr
}

// Tool is a program, or something else that is installed like one, of which needs wants to know the
// version.
type Tool struct {
	Name string
	// Family is true where Name is only the beginning of the names of many.
	Family bool
	// Program is what is run to find out, if it isn't the name, and Ask with which words, if they
	// aren't --version.
	Program string
	Ask     []string
	// Find picks the answer out of what the program says, for the name that was asked for; empty is
	// none. Nil: a version number.
	Find func(said, name string) string
	// Headers are patterns of files one of which must lie here; then no program is run.
	Headers []string
	// HeadersOf gives such patterns for the one of a family that is asked for.
	HeadersOf func(name string) []string
	// Packages names the package that brings it, by the system's own way of installing; Package
	// does so for a family.
	Packages map[string]string
	Package  func(system, name string) string
	// Meta is true where the package only leads to others, and has a version of its own.
	Meta bool
	// Fetcher is a program that stands in its place where it is not installed itself: called, it
	// fetches the version that the project names.
	Fetcher string
	// By are commands that install it by another tool, where the system has no package; the first
	// whose tool is here.
	By []string
	// Called are its names in files that list tools with versions, and in workflows. Images are
	// container images of it.
	Called, Images []string
}

// All are the ecosystems that are known, in the order in which a folder's projects are listed.
var All []*Ecosystem

// The readers of each look at the frameworks and managers of their own, which a plain variable
// could not express.
func init() {
	All = []*Ecosystem{
		node.readBy(readNode), python.readBy(readPython), ruby.readBy(readRuby),
		php.readBy(readComposer),
		java.readBy(readMaven, readGradle), dotnet.readBy(readDotnet), golang.readBy(readGo),
		rust.readBy(readCargo),
		elixir.readBy(readMix), tasks,
	}
}

func (e *Ecosystem) readBy(readers ...Reader) *Ecosystem {
	e.Readers = readers
	return e
}

// Named gives the ecosystem of that name, or nil.
func Named(name string) *Ecosystem {
	for _, e := range All {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// Managers lists all package managers.
func Managers() (out []*Manager) {
	for _, e := range All {
		out = append(out, e.Managers...)
	}
	return out
}

// ManagerNamed gives the manager of that name, or one of which nothing is known.
func ManagerNamed(name string) *Manager {
	for _, m := range Managers() {
		if m.Name == name {
			return m
		}
	}
	return &Manager{Name: name}
}

// ManagerOf gives the manager that a program belongs to, or one of which nothing is known.
func ManagerOf(program string) *Manager {
	for _, m := range Managers() {
		if m.Name == program || slices.ContainsFunc(m.Tools,
			func(t Tool) bool { return t.Name == program }) {
			return m
		}
	}
	return &Manager{Name: program}
}

// manager gives the ecosystem's manager of that name, or nil.
func (e *Ecosystem) manager(name string) *Manager {
	for _, m := range e.Managers {
		if m.Name == name {
			return m
		}
	}
	return nil
}

// Frameworks lists all frameworks.
var Frameworks = once(func() (out []*Framework) {
	for _, e := range All {
		out = append(out, e.Frameworks...)
	}
	return out
})

// FrameworkNamed gives the framework of that name, or one of which nothing is known.
func FrameworkNamed(name string) *Framework {
	for _, f := range Frameworks() {
		if f.Name == name {
			return f
		}
	}
	return &Framework{Name: name}
}

// usualLayers are the settings files of a project whose framework has no ways of its own.
var usualLayers = []string{".env", ".env.local"}

// SettingsFiles are the settings files that are read in work on a project, later ones winning.
func (f *Framework) SettingsFiles() []string {
	if f.Layers == nil {
		return usualLayers
	}
	return f.Layers
}

// Local reports whether the framework by itself reads .env.local on top of .env.
func (f *Framework) Local() bool { return slices.Contains(f.Layers, ".env.local") }

// Public reports whether a setting of that name reaches the browser, by the beginning that a
// framework wants for it.
func Public(key string) bool {
	return slices.ContainsFunc(Frameworks(), func(f *Framework) bool {
		return slices.ContainsFunc(f.Public,
			func(p string) bool { return strings.HasPrefix(key, p) })
	})
}

// Plain is the name of a setting without the beginning by which it reaches the browser.
func Plain(key string) string {
	for _, f := range Frameworks() {
		for _, p := range f.Public {
			if rest, ok := strings.CutPrefix(key, p); ok && len(p) > 2 && rest != "" {
				return rest
			}
		}
	}
	return key
}

// Verb tells what a command is for, as people write it.
type Verb struct {
	Does stack.Role
	// Words are the beginnings of commands in the notation of fits.
	Words []string
}

// What verbs do besides the roles of steps.
const (
	Serves   stack.Role = "serve" // stays up and answers
	SetsUp   stack.Role = "tool"  // puts a tool on this machine
	MakesKey stack.Role = "key"   // makes a secret of the application
)

// everywhere are the folders that are never entered, whatever lies beside them.
var everywhere = []string{".git", ".nharbor", ".hg", ".svn", ".idea", ".vscode", ".cache",
	".terraform"}

// Made reports whether a folder of that name is filled by tools. Beside tells whether a file lies
// in the folder above it.
func Made(name string, beside func(file string) bool) bool {
	made := madeNames()
	ecosystems, known := made[name]
	return known && (ecosystems == nil || slices.ContainsFunc(ecosystems,
		func(e *Ecosystem) bool { return slices.ContainsFunc(e.Manifests, beside) }))
}

var madeNames = once(func() map[string][]*Ecosystem {
	out := map[string][]*Ecosystem{}
	for _, e := range All {
		for _, name := range e.MadeBeside {
			out[name] = append(out[name], e)
		}
	}
	for _, name := range everywhere {
		out[name] = nil
	}
	for _, e := range All {
		for _, name := range e.Made {
			out[name] = nil
		}
	}
	return out
})

// code holds, by the ending of a file's name, the ecosystem whose code it is.
var code = once(func() map[string]*Ecosystem {
	out := map[string]*Ecosystem{}
	for _, e := range All {
		for _, ending := range e.Endings {
			out[ending] = e
		}
	}
	return out
})

// OfCode gives the ecosystem whose code a file with this ending holds, or nil.
func OfCode(ending string) *Ecosystem { return code()[ending] }

// given are variables that a shell or a host of applications sets.
var given = []string{"PATH", "HOME", "USER", "SHELL", "TERM", "LANG", "PWD", "TZ", "CI", "TMPDIR",
	"TEMP", "EDITOR",
	"HOSTNAME", "PORT", "HOST", "DEBUG", "VERCEL", "VERCEL_URL", "NETLIFY", "GITHUB_ACTIONS",
	"APP_ENV", "WEB_CONCURRENCY",
	"PIDFILE", "LOGNAME", "TMP", "COLUMNS", "LINES", "NO_COLOR", "COLORTERM", "ZONEINFO", "DISPLAY",
	"SYSTEMROOT", "WINDIR", "APPDATA", "LOCALAPPDATA", "PROGRAMFILES", "PROGRAMDATA",
	"USERPROFILE", "COMSPEC", "PATHEXT", "HOMEDRIVE", "HOMEPATH", "USERNAME", "COMPUTERNAME",
	"XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME",
	"XDG_RUNTIME_DIR", "GOOS", "GOARCH", "GOPATH", "GOPROXY", "GOGC", "GODEBUG", "PGPASSFILE",
	"SSH_AUTH_SOCK", "HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "http_proxy", "https_proxy",
	"no_proxy",
	// what a supervisor of services tells those that it starts
	"NOTIFY_SOCKET", "WATCHDOG_USEC", "WATCHDOG_PID", "LISTEN_PID", "LISTEN_FDS", "LISTEN_FDNAMES",
	"INVOCATION_ID",
	"JOURNAL_STREAM", "CREDENTIALS_DIRECTORY", "RUNTIME_DIRECTORY", "STATE_DIRECTORY",
	"CACHE_DIRECTORY", "LOGS_DIRECTORY", "CONFIGURATION_DIRECTORY"}

// Given reports whether a variable of that name is set by the system, the shell or a tool, so that
// no settings file has to.
func Given(name string) bool {
	return givenNames()[name] || slices.ContainsFunc(hostPrefixes, func(p string) bool {
		return strings.HasPrefix(name, p)
	}) || strings.IndexByte("ACDGHOPQRS", name[0]) >= 0 && ofRequest.MatchString(name)
}

// hostPrefixes begin the variables that a system, a server for programs or a tool sets for all that
// it runs.
var hostPrefixes = []string{"NPM_", "XDG_", "KUBERNETES_", "WERKZEUG_", "UWSGI_", "GUNICORN_",
	"FCGI_", "SSL_CLIENT_", "PYTHON", "JUPYTER_", "NODE_DEBUG", "CARGO_"}

// ofRequest are the variables that a web server sets for a program, by RFC 3875 and by those after
// it.
var ofRequest = expr.New(`^(AUTH_TYPE|CONTENT_(LENGTH|TYPE)|GATEWAY_INTERFACE|PATH_(INFO|TRANSLATED)|QUERY_STRING|` +
	`REMOTE_(ADDR|HOST|IDENT|USER|PORT)|REQUEST_(METHOD|URI|TIME|SCHEME)|SCRIPT_(NAME|FILENAME)|DOCUMENT_ROOT|HTTPS|` +
	`SERVER_(NAME|PROTOCOL|SOFTWARE|ADDR)|PHP_(SELF|AUTH_\w+)|(ORIG|REDIRECT)_(PATH_INFO|URL|STATUS|REMOTE_USER)|` +
	`HTTP_(USER_AGENT|ACCEPT\w*|HOST|REFERER|COOKIE|X_\w+|AUTHORIZATION|SCHEME|HTTPS\w*|CLIENT_IP|VIA|FORWARDED\w*|` +
	`ORIGIN|CONNECTION|IF_\w+|CF_\w+|CDN_\w+|CLOUDFRONT\w*|CLIENT_\w+))$`)

var givenNames = once(func() map[string]bool {
	out := map[string]bool{}
	for _, name := range given {
		out[name] = true
	}
	for _, e := range All {
		for _, name := range e.Given {
			out[name] = true
		}
	}
	return out
})

// Logins lists the files in a person's home folder in which logins at package sources are kept.
func Logins() []string {
	out := []string{".netrc"}
	for _, e := range All {
		out = append(out, e.Logins...)
	}
	return out
}

// IsLock reports whether a file of this name is the lock file of some manager.
func IsLock(name string) bool {
	return slices.ContainsFunc(Managers(),
		func(m *Manager) bool { return slices.Contains(m.Locks, name) })
}

// IsTaskFile reports whether a file of this name holds tasks that are called by name.
func IsTaskFile(name string) bool { return slices.Contains(tasks.Manifests, name) }
