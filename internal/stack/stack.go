// Package stack holds Nimble Harbor's words as types: what a workspace consists of, in the shape of
// the JSON contracts. It imports nothing else of the program, and decides nothing.
package stack

import "slices"

// Place is where in a file something was read. File is relative to the workspace and
// slash-separated; Line counts from 1, and 0 means the file as a whole.
type Place struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

// IsZero reports whether the place is unknown.
func (p Place) IsZero() bool { return p.File == "" }

// Stack is what survey found in a workspace. Its JSON form is the contract nharbor.survey/1.
type Stack struct {
	Schema       string         `json:"schema"`
	Root         string         `json:"root"`
	Checkouts    []Checkout     `json:"checkouts"`
	Projects     []Project      `json:"projects"`
	ComposeFiles []ComposeFile  `json:"composeFiles"`
	Services     []Service      `json:"services"`
	EnvFiles     []EnvFile      `json:"envFiles"`
	SignIns      []SignIn       `json:"signIns"`
	Asks         []Ask          `json:"asks,omitempty"`
	Readme       []ReadmeDemand `json:"readme"`
	Remarks      []Remark       `json:"remarks"`

	// Networks and Volumes are what the active compose files ask the engine for, by name.
	Networks map[string]Network `json:"networks,omitempty"`
	Volumes  map[string]Volume  `json:"volumes,omitempty"`

	// Variables are those of the compose files that have no value.
	Variables []Variable `json:"variables,omitempty"`
	// Unplaced is what some file says and nothing here takes up.
	Unplaced []Unplaced `json:"unplaced,omitempty"`
	// Servers are those on this machine that settings point at, and that nothing of the stack
	// offers.
	Servers []Server `json:"servers,omitempty"`
	// Reads are the environment variables that the code reads; nil if it was not asked.
	Reads []Read `json:"-"`
	// Claims are all that was said of services and settings, with who said it; those about one
	// thing stand together.
	Claims []Claim `json:"-"`

	// Checks and Causes are those that the workspace has of its own, in nharbor.toml.
	Checks []OwnCheck `json:"checks,omitempty"`
	Causes []OwnCause `json:"causes,omitempty"`

	// Secrets are values that came into the compose files through variables whose names say that
	// they are secret. They may stand in any text of the services.
	Secrets []string `json:"-"`
}

// Step finds a step by its id; nil if there is none.
func (s *Stack) Step(id string) *Step {
	for i := range s.Projects {
		for k := range s.Projects[i].Steps {
			if st := &s.Projects[i].Steps[k]; st.ID == id {
				return st
			}
		}
	}
	return nil
}

// Service returns the service of that name, or nil.
func (s *Stack) Service(name string) *Service {
	for i := range s.Services {
		if s.Services[i].Name == name {
			return &s.Services[i]
		}
	}
	return nil
}

// Project returns the project at path with that manager (any manager if it is empty), or nil.
func (s *Stack) Project(path, manager string) *Project {
	for i := range s.Projects {
		if s.Projects[i].Path == path && (manager == "" || s.Projects[i].Manager == manager) {
			return &s.Projects[i]
		}
	}
	return nil
}

// Server is a server that a service expects on this machine, beside the stack.
type Server struct {
	Speaks string `json:"speaks"`
	Port   int    `json:"port"`
	For    string `json:"for"` // the service
	Key    string `json:"key"` // of the setting that points at it
	At     Place  `json:"at"`
	// Fixed is true where Key is none of the settings that fill sets, such as an option of the
	// service's command.
	Fixed bool `json:"fixed,omitempty"`
	// MadeBy is a script of the checkout that starts such a server; empty if there is none.
	MadeBy string `json:"madeBy,omitempty"`
	// Needed is true where a step of the service's project fails without it.
	Needed bool `json:"needed,omitempty"`
	// Database and User are what settings sign in with; empty where they name none.
	Database string `json:"database,omitempty"`
	User     string `json:"user,omitempty"`
	Password string `json:"-"`
	// Image is one of such a server, with its version, that something else of the checkout uses, at
	// ImageAt.
	Image   string `json:"image,omitempty"`
	ImageAt Place  `json:"imageAt,omitzero"`
}

// Checkout is one working copy of a repository, its path relative to the workspace.
type Checkout struct {
	Path       string      `json:"path"`
	Branch     string      `json:"branch"`
	Commit     string      `json:"commit"`
	Tag        string      `json:"tag"`
	Submodules []Submodule `json:"submodules"`
	// Address is that of the repository that it is of, without a password; empty where it is of
	// none.
	Address string `json:"address,omitempty"`
	// Pointers counts the files that stand for large ones which are kept elsewhere and have not
	// been fetched.
	Pointers int `json:"pointers,omitempty"`
	// Already is true for one that a clone has found in its place.
	Already bool `json:"already,omitempty"`
}

// Submodule is a repository that a checkout wants inside it.
type Submodule struct {
	Path    string `json:"path"`
	Present bool   `json:"present"`
}

// Project is a folder with a package manifest.
type Project struct {
	Path      string     `json:"path"`
	Ecosystem string     `json:"ecosystem"`
	Manager   string     `json:"manager"`
	Framework string     `json:"framework"`
	Name      string     `json:"name,omitempty"`
	Runtimes  []Runtime  `json:"runtimes"`
	Steps     []Step     `json:"steps"`
	Evidence  []Evidence `json:"evidence"`

	// Serve is how the project is run natively; nil for a library.
	Serve *Serve `json:"serve,omitempty"`
	// Also are its further processes: workers, watchers, and the servers of its members.
	Also []Serve `json:"also,omitempty"`
	// Members are the folders that belong to the project through its manager's own workspace.
	Members []string `json:"members,omitempty"`
	// Bin are folders, relative to the workspace, whose programs its commands may name.
	Bin []string `json:"bin,omitempty"`
	// Targets are the entries of a task file in its folder.
	Targets []Target `json:"targets,omitempty"`
	// Sources are package sources other than the manager's own public one.
	Sources []Source `json:"sources,omitempty"`
	// Compiles are the packages that are compiled while they are installed, with what that takes.
	Compiles []Compile `json:"compiles,omitempty"`
	// Parts are its folders with a manifest, with the packages that each asks for.
	Parts []Part `json:"-"`
	// Prefix is what stands before a command of the project, so that it runs with the project's own
	// packages; nil where Bin does.
	Prefix []string `json:"-"`
	// Alone is what its manager does when it is called without words; nil for what is not known.
	Alone []string `json:"-"`
	// NotHere says why nothing of the project can be built or run on this system; empty if it can.
	NotHere string `json:"notHere,omitempty"`
}

// Part is one folder of a project with a manifest of its own, and the packages that it asks for.
type Part struct {
	Folder string
	Name   string // by which others ask for it
	Uses   map[string]Place
	// Framework is the folder's own.
	Framework string
	// Scripts are the lines of what its manager runs by name; nil for a manager that knows none.
	Scripts map[string][]string
	// Programs are the names of the programs that an install makes of it.
	Programs []string
}

// FrameworkAt is the framework of one of the project's folders; empty for none.
func (p *Project) FrameworkAt(folder string) string {
	for _, part := range p.Parts {
		if part.Folder == folder && part.Framework != "" {
			return part.Framework
		}
	}
	if folder == p.Path {
		return p.Framework
	}
	return ""
}

// Reaches lists the folders of the project's parts that one of them asks for, itself first, through
// others too.
func (p *Project) Reaches(folder string) []string {
	out := []string{folder}
	for i := 0; i < len(out); i++ {
		for _, part := range p.Parts {
			if part.Folder != out[i] {
				continue
			}
			for _, other := range p.Parts {
				if _, asked := part.Uses[other.Name]; asked && other.Name != "" &&
					!slices.Contains(out, other.Folder) {
					out = append(out, other.Folder)
				}
			}
		}
	}
	return out
}

// UsedBy finds the first of the packages that a folder of the project asks for, itself or through
// other parts, and where it is asked for. Away is the number of parts in between.
func (p *Project) UsedBy(folder string,
	packages []string) (name string, at Place, away int, ok bool) {
	seen := map[string]bool{folder: true}
	for level := []string{folder}; len(level) > 0; away++ {
		var next []string
		for _, part := range p.Parts {
			if !slices.Contains(level, part.Folder) {
				continue
			}
			for _, name := range packages {
				if at, ok := part.Uses[name]; ok {
					return name, at, away, true
				}
			}
			for _, other := range p.Parts {
				if _, asked := part.Uses[other.Name]; asked && other.Name != "" &&
					!seen[other.Folder] {
					seen[other.Folder] = true
					next = append(next, other.Folder)
				}
			}
		}
		level = next
	}
	return "", Place{}, 0, false
}

// Target is an entry of a task file, with the help text that stands beside it and the lines it
// runs.
type Target struct {
	Name  string   `json:"name"`
	Help  string   `json:"help,omitempty"`
	Lines []string `json:"lines,omitempty"`
	At    Place    `json:"at"`
	// Program is what calls it.
	Program string `json:"-"`
}

// Source is a place that packages come from. Login is true if it lets in only those who are known
// to it; Variable is the environment variable that the checkout expects the login in.
type Source struct {
	Address  string `json:"address"`
	Login    bool   `json:"login"`
	Variable string `json:"variable,omitempty"`
	At       Place  `json:"at"`
}

// Compile is a package that is compiled on this machine, and a tool or library that this takes.
// Certain is false for a package that often comes ready-made.
type Compile struct {
	Package string `json:"package"`
	Takes   string `json:"takes"`
	Certain bool   `json:"certain"`
	At      Place  `json:"at"`
}

// Runtime is a tool that a project asks for. Constraint is in the notation of semantic version
// ranges.
type Runtime struct {
	Tool       string `json:"tool"`
	Constraint string `json:"constraint"`
	At         Place  `json:"at"`

	// Close is the constraint of the versions that do instead of an exact one; empty where none is
	// named, or none does.
	Close string `json:"close,omitempty"`
	// Hint is true where the file says what others use, a container or a build server. This machine
	// may do without it.
	Hint bool `json:"hint,omitempty"`
	// Brought is true where the project's manager fetches it, if this machine has none that fits.
	Brought bool `json:"brought,omitempty"`
}

// Serve is a command that serves and does not end.
type Serve struct {
	Command []string `json:"command"`
	Ports   []Port   `json:"ports"`
	At      Place    `json:"at"`

	// Expands is what the command leads to, where that stands in the checkout: a script's own line.
	Expands []string `json:"expands,omitempty"`

	// Name is what tells it from the project's other processes; empty for the server itself.
	Name string `json:"name,omitempty"`
	// Folder is where it runs; empty for the project's own folder.
	Folder string `json:"folder,omitempty"`
	// Source is where it is known from; empty stands for a script.
	Source Origin `json:"source,omitempty"`
	// Env is set for it on top of its settings.
	Env map[string]string `json:"env,omitempty"`
	// PortBy is how it is told another port.
	PortBy PortBy `json:"portBy,omitzero"`
	// AfterSteps are the ids of steps of other folders that it needs.
	AfterSteps []string `json:"afterSteps,omitempty"`
	// Watches is true for a process that only makes files anew when others change.
	Watches bool `json:"watches,omitempty"`
}

// Does reports whether a step of the project has that role.
func (p *Project) Does(role Role) bool {
	return slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Role == role })
}

// Wants adds a tool to those that the project runs with, unless it is there in any version.
func (p *Project) Wants(r Runtime) {
	if !slices.ContainsFunc(p.Runtimes, func(o Runtime) bool { return o.Tool == r.Tool }) {
		p.Runtimes = append(p.Runtimes, r)
	}
}

// Way is how a service of the project runs natively by this command.
func (v *Serve) Way(p *Project) NativeWay {
	return NativeWay{NativeCommand: v.Command, Folder: v.Folder, PortBy: v.PortBy, Bin: p.Bin,
		Expands: v.Expands, AfterSteps: v.AfterSteps, Watches: v.Watches}
}

// PortBy tells how a server takes another port than its own: from an environment variable, or from
// words that are added to its command, in which {port} stands for the number.
type PortBy struct {
	Env   string   `json:"env,omitempty"`
	Words []string `json:"words,omitempty"`
}

// Role is what a step is for.
type Role string

// The roles, in the order in which one project's steps follow each other.
const (
	Install  Role = "install"
	Build    Role = "build"
	Generate Role = "generate"
	Create   Role = "create"
	Migrate  Role = "migrate"
	Seed     Role = "seed"
	Test     Role = "test"
)

// Rank is the place of the role in that order, from 0.
func (r Role) Rank() int {
	for i, other := range []Role{Install, Build, Generate, Create, Migrate, Seed, Test} {
		if r == other {
			return i
		}
	}
	return 0
}

// Step is a piece of preparation that ends.
type Step struct {
	ID      string            `json:"id"`
	Role    Role              `json:"role"`
	Command []string          `json:"command"`
	Env     map[string]string `json:"env"`
	At      Place             `json:"at"`
	// Sure is how one knows that it is to be done, and by this command.
	Sure Sure `json:"sure,omitempty"`

	// Folder is where it runs; empty for the project's own folder.
	Folder string `json:"folder,omitempty"`
	// ForOthers is true of what is made for a service of another project alone: what its own
	// project serves doesn't wait for it.
	ForOthers bool `json:"forOthers,omitempty"`
	// AfterSteps are the ids of steps of other folders that it needs.
	AfterSteps []string `json:"afterSteps,omitempty"`
	// Inputs are the files and folders, relative to the workspace, whose content decides whether
	// the step must run again.
	Inputs []string `json:"inputs,omitempty"`
	// As is the command by which it is remembered, where the one that makes a lock file and the one
	// that keeps to it come to the same; nil for Command.
	As []string `json:"-"`
	// EveryTime is true for a step that is run at each launch, whatever was done before.
	EveryTime bool `json:"everyTime,omitempty"`
	// Outputs are what the step leaves behind; one that is missing makes the step run again.
	Outputs []string `json:"outputs,omitempty"`
	// Expands is what the command leads to, where that stands in the checkout: a script's own line.
	Expands []string `json:"expands,omitempty"`
}

// Witness is a kind of source that says something about an application.
type Witness string

// Sure is how a conclusion is known.
type Sure string

// Seen at a launch; said by a file; only usual: nothing says so.
const (
	Seen  Sure = "seen"
	Said  Sure = "said"
	Usual Sure = "usual"
)

// Claim is what one witness says of one thing: of a service or a setting, by name, and of what
// about it.
type Claim struct {
	About   string  `json:"about"`
	Of      string  `json:"of"` // "command", "port", "version of node" and so on
	Says    string  `json:"says"`
	Witness Witness `json:"witness"`
	Sure    Sure    `json:"sure"`
	At      Place   `json:"at"`
	// Counts is true for the claim that is taken, of all about the same thing; Agrees for those
	// that say the same as it.
	Counts bool `json:"counts"`
	Agrees bool `json:"agrees"`
}

// Evidence is a conclusion's reason: what the file says at the line.
type Evidence struct {
	File string `json:"file"`
	Line int    `json:"line"`
	Says string `json:"says"`
	// Manager is the one that it names; empty where it speaks of something else.
	Manager string `json:"-"`
}

// Place is where it was read.
func (e Evidence) Place() Place { return Place{File: e.File, Line: e.Line} }

// ComposeFile is a compose file of the workspace; an active one is part of the launch.
type ComposeFile struct {
	Path   string `json:"path"`
	Active bool   `json:"active"`
}

// EnvFile is a settings file: one that exists, one that a template promises, or both.
type EnvFile struct {
	Path     string `json:"path"`
	Template string `json:"template"`
	Format   string `json:"format"`
	Present  bool   `json:"present"`
	Settings int    `json:"settings"`
	Unfilled int    `json:"unfilled"`
	// Sure is how one knows that something reads it.
	Sure Sure `json:"sure,omitempty"`

	// WantedAt is where a compose file asks for the file, if nothing else makes it known.
	WantedAt Place `json:"wantedAt,omitzero"`
	// Wants is what the code asks for and would find there; nil where a template, or the file, says
	// what is in it.
	Wants []Read `json:"-"`
	// Layers are the files of the same folder that its framework reads with it, from the weakest to
	// the one that wins.
	Layers []string `json:"layers,omitempty"`
}

// Unplaced is something that a file says and that nothing here takes up: a port, a server.
type Unplaced struct {
	What  string `json:"what"` // "port" or "server"
	Value string `json:"value"`
	At    Place  `json:"at"`
}

// Variable is a variable of a compose file that nobody sets and that has no default.
type Variable struct {
	Name string `json:"name"`
	File string `json:"file"` // the settings file that would give it
	At   Place  `json:"at"`
	// Required is true if the compose file can't be read without it; Says is what the file says
	// then.
	Required bool   `json:"required"`
	Says     string `json:"says,omitempty"`
}

// Read is an environment variable that code reads. Project is the folder of its project. Default is
// true where the code has a value for it when it is not set; Must where the code fails then; Named
// where a settings file, a template or a service names it.
type Read struct {
	Name                 string
	Project              string
	At                   Place
	Default, Must, Named bool
}

// SignIn is a user that sample data creates.
type SignIn struct {
	User     string `json:"user"`
	Password string `json:"password,omitempty"`
	At       Place  `json:"at"`

	// Service is the one whose log has said it; empty for what files mention.
	Service string `json:"service,omitempty"`
}

// HostName is a name by which a service wants to be called, on this machine.
type HostName struct {
	Host string `json:"host"`
	Port int    `json:"port"` // of this machine; 0 for all of its ports
	At   Place  `json:"at"`
}

// OwnCause is a cause that a workspace knows by a line of a log: what it says then, and what is to
// be done.
type OwnCause struct {
	Name string `json:"name"`
	Line string `json:"line"` // an expression
	Says string `json:"says"`
	Do   string `json:"do"`
	At   Place  `json:"at"`
}

// Page is an address beyond the first page of a port that a README names.
type Page struct {
	Port int    `json:"port"` // of this machine
	Path string `json:"path"` // with its leading slash
	At   Place  `json:"at"`
}

// Ask is a command that the README has and that asks a person something, such as the first user's
// name. It is for when everything is up.
type Ask struct {
	Command []string          `json:"command"`
	Env     map[string]string `json:"env,omitempty"`
	// Folder is where it runs, for the project whose environment it takes; Service is the one in
	// whose container it runs instead, where it is not empty.
	Folder  string `json:"folder"`
	Project string `json:"project"`
	Manager string `json:"manager,omitempty"`
	Service string `json:"service,omitempty"`
	At      Place  `json:"at"`
}

// ReadmeDemand is a command that the README asks for, and what of ours does it.
type ReadmeDemand struct {
	At      Place  `json:"at"`
	Command string `json:"command"`
	Covered bool   `json:"covered"`
	By      Doer   `json:"by"`
	// Why tells what is wrong with a command that is not covered; empty if nothing is known.
	Why string `json:"why,omitempty"`
	// Aside is true for one that is not on the way to serving: in a section about something else, or
	// behind the place where the instructions serve.
	Aside bool `json:"aside,omitempty"`
}

// Level is how much a remark matters.
type Level string

// The levels of a remark: what will go wrong, what may, and what is good to know.
const (
	Problem Level = "problem"
	Warning Level = "warning"
	Note    Level = "note"
)

// Remark is something survey noticed.
type Remark struct {
	Level  Level  `json:"level"`
	Code   Code   `json:"code"`
	Text   string `json:"text"`
	At     Place  `json:"at"`
	Remedy string `json:"remedy"`
	// About is what it is of; empty where that is the workspace, or nothing that has a name.
	About Subject `json:"about,omitempty"`
}

// Subject is what a remark is of: a service or a project.
type Subject string

// AboutService is the service of that name.
func AboutService(name string) Subject { return Subject("service:" + name) }

// AboutProject is the project of a folder that a manager takes care of.
func AboutProject(folder, manager string) Subject {
	return Subject("project:" + folder + "@" + manager)
}
