package ecosystem

import (
	"io/fs"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	pythonListens = expr.New(
		`(?:\bport\s*=\s*(?:int\()?(?:os\.(?:environ\.get|getenv)\(\s*["']PORT["']\s*,\s*)?["']?|` +
			`\(\s*["'](?:localhost|[\d.:]*)["']\s*,\s*)(\d{2,5})\b`)
	pythonRuns = expr.New(`\.run\([^()]*\bport\s*=\s*(\d{2,5})\b`)
	celeryApp  = expr.New(`(?m)^(\w+)\s*=\s*Celery\(`)
	pythonMain = expr.New(`(?m)^if __name__ == `)
	servesHTTP = expr.New(
		`\b(http\.server|HTTPServer|run_app|serve_forever|app\.run|uvicorn\.run|web\.Application|listen\(|serve\()`)
)

// ListensByCode reports whether a program's text has a call that serves.
func ListensByCode(text string) bool { return servesHTTP.MatchString(text) }

// modules lists the source files in which a Python application is usually put together, nearest
// first.
func (p *pythonProject) modules() []string {
	if p.sources != nil {
		return p.sources
	}
	names := []string{"app.py", "main.py", "server.py", "wsgi.py", "asgi.py", "run.py",
		"application.py", "api.py",
		"celery.py", "celery_app.py", "worker.py", "tasks.py", "__init__.py"}
	out := []string{}
	for _, dir := range append([]string{"."}, p.Folders...) {
		if asideName.MatchString(dir) || dir != "." && strings.HasPrefix(dir, ".") ||
			dir == "migrations" {
			continue
		}
		for _, n := range names {
			if n == "__init__.py" && dir == "." {
				continue
			}
			if full := path.Join(dir, n); p.exists(full) {
				out = append(out, full)
			}
		}
	}
	if name := strings.ReplaceAll(p.out.Project.Name, "-", "_"); name != "" {
		for _, n := range names {
			if full := path.Join("src", name, n); p.exists(full) {
				out = append(out, full)
			}
		}
	}
	p.sources = out
	return out
}

var asideName = expr.New(
	`^(examples?|samples?|tests?|testdata|fixtures?|docs?|e2e|benchmarks?|node_modules|scripts)$`)

// pythonFramework is how a framework of the ecosystem is recognised and served.
type pythonFramework struct {
	pkg  string
	app  *expr.Expr // where code makes the application: one of its groups is the application's name
	port int
	// serve gives the command for an application of a module on a port.
	serve func(p *pythonProject, module, name, port string) []string
	// scripts are files one of which is served where no application is found in the code.
	scripts []string
}

// byUvicorn serves an ASGI application.
func byUvicorn(p *pythonProject, module, name, port string) []string {
	if p.exists("src/" + strings.Split(module, ".")[0]) {
		return p.call("uvicorn", "--app-dir", "src", module+":"+name, "--port", port)
	}
	return p.call("uvicorn", module+":"+name, "--port", port)
}

// byItself serves by the framework's own command.
func byItself(program string) func(p *pythonProject, module, name, port string) []string {
	return func(p *pythonProject, module, _, port string) []string {
		return p.call(program, "--app", module, "run", "--port", port)
	}
}

// frameworksOfPython are so sorted that the one counts that comes first.
func frameworksOfPython() []*Framework {
	asgi := func(name, made string) *Framework {
		return &Framework{Name: name,
			python: &pythonFramework{pkg: name, app: expr.New(made), port: 8000, serve: byUvicorn}}
	}
	wsgi := []string{"app.py", "main.py", "wsgi.py"}
	return []*Framework{
		{Name: "django", Secrets: []Secret{{Key: "*SECRET_KEY",
			Form: Form{Size: 50, As: AsLetters}, Default: true}}},
		asgi("fastapi", `(?m)^`+inBranch+`(\w+)[ \t]*(?::[ \t]*\w+[ \t]*)?=[ \t]*FastAPI\(`),
		asgi("starlette", `(?m)^`+inBranch+`(\w+)[ \t]*=[ \t]*Starlette\(`),
		asgi("litestar", `(?m)^`+inBranch+`(\w+)[ \t]*=[ \t]*Litestar\(`),
		{Name: "flask", python: &pythonFramework{pkg: "flask", port: 5000,
			serve: byItself("flask"), scripts: wsgi,
			app: expr.New(`(?m)^` + inBranch + `(\w+)[ \t]*=[ \t]*Flask\(|^def (create_app)\(` +
				takesNothing)}},
		{Name: "quart", python: &pythonFramework{pkg: "quart", port: 5000,
			serve: byItself("quart"), scripts: wsgi, app: expr.New(`(?m)^(\w+)\s*=\s*Quart\(`)}},
		{Name: "streamlit", python: &pythonFramework{pkg: "streamlit", port: 8501,
			scripts: []string{"app.py", "main.py", "streamlit_app.py"},
			serve: func(p *pythonProject, module, _, port string) []string {
				return p.call("streamlit", "run", module+".py", "--server.headless", "true",
					"--server.port", port)
			}}},
	}
}

// inBranch fits the line above a statement that stands in a branch of the module itself.
const inBranch = `(?:(?:if|elif|else|try)\b[^\n]*:[ \t]*\n[ \t]+)?`

// takesNothing fits the parameters of a function in Python that can be called without any.
const takesNothing = `\s*(?:\*\s*,\s*)?(?:\w+\s*(?::[^=,()]+)?=\s*[^,()]+(?:\([^()]*\))?,?\s*)*` +
	`(?:\*{1,2}\w+\s*(?::\s*\w+\s*)?,?\s*)*\)`

// app finds the module and the name of an application, where the code makes one as form says.
func (p *pythonProject) app(form *expr.Expr) (module, name string, at stack.Place) {
	if form == FrameworkNamed("flask").python.app { // a setting may say which it is
		for _, file := range []string{".flaskenv", ".env", ".env.example"} {
			text := p.text(file)
			if m := flaskApp.FindStringSubmatchIndex(text); m != nil {
				line, _ := position([]byte(text), int64(m[2]))
				module, name, _ = strings.Cut(strings.TrimSuffix(text[m[2]:m[3]], ".py"), ":")
				return strings.ReplaceAll(module, "/", "."), name, p.At(file, line)
			}
		}
	}
	for _, file := range p.modules() {
		text := p.text(file)
		m := form.FindStringSubmatchIndex(text)
		if m == nil {
			continue
		}
		group := 2
		if m[2] < 0 {
			group = 4
		}
		line, _ := position([]byte(text), int64(m[0]))
		module = strings.TrimSuffix(strings.TrimSuffix(file, ".py"), "/__init__")
		module = strings.ReplaceAll(strings.TrimPrefix(module, "src/"), "/", ".")
		return module, text[m[group]:m[group+1]], p.At(file, line)
	}
	return p.oddApp(form)
}

// maxModules is how many files of a package are looked at for an application.
const maxModules = 200

// oddApp finds the one application that the code makes in a module of an unusual name, at the top
// of the module.
func (p *pythonProject) oddApp(form *expr.Expr) (module, name string, at stack.Place) {
	_, _, tasks := p.Targets()
	if slices.ContainsFunc(tasks,
		func(t stack.Target) bool { return slices.Contains(ServeTasks, t.Name) }) {
		return "", "", stack.Place{} // somebody has written how
	}
	looked := 0
	for _, dir := range append([]string{"."}, p.Folders...) {
		if asideName.MatchString(dir) || dir != "." && !p.exists(path.Join(dir, "__init__.py")) {
			continue
		}
		entries, _ := fs.ReadDir(p.FS, path.Join(p.Path, dir))
		for _, e := range entries {
			if path.Ext(e.Name()) != ".py" {
				continue
			}
			if looked++; looked > maxModules {
				return module, name, at
			}
			file := path.Join(dir, e.Name())
			text := p.text(file)
			m := form.FindStringSubmatchIndex(text)
			if m == nil || m[2] < 0 {
				continue
			}
			if module != "" {
				return "", "", stack.Place{} // nobody says which
			}
			line, _ := position([]byte(text), int64(m[0]))
			module = strings.ReplaceAll(strings.TrimSuffix(file, ".py"), "/", ".")
			name, at = text[m[2]:m[3]], p.At(file, line)
		}
	}
	return module, name, at
}

// flaskApp is the setting that tells Flask where its application is made.
var flaskApp = expr.New(`(?m)^(?:export )?FLASK_APP=["']?([\w./]+(?::\w+)?)`)

func (p *pythonProject) prepareAndServe() {
	proj := &p.out.Project
	named, namedAt := p.PortSetting()
	port := func(usual int, at stack.Place) []stack.Port {
		if named > 0 {
			return httpPort(named, namedAt)
		}
		return httpPort(usual, at)
	}
	number := func(ports []stack.Port) string { return itoa(ports[0].Host) }
	if at, ok := p.has("alembic"); ok && p.Has("alembic.ini") {
		folder := p.first("alembic/versions", "migrations/versions", "alembic")
		p.migrate(at, folder, p.call("alembic", "upgrade", "head"))
	}
	if p.djangoManages() {
		proj.Framework = "django"
		at := p.At("manage.py", 1)
		p.migrate(at, "", p.call("python", "manage.py", "migrate", "--noinput"))
		if p.servedAround() {
			return
		}
		p.settingsModuleThere()
		ports := port(8000, at)
		proj.Serve = &stack.Serve{Command: p.call("python", "manage.py", "runserver", "--noreload",
			number(ports)), Ports: ports, At: at, Source: stack.FromFramework}
		p.out.step(p.step(stack.Test, at, p.call("python", "manage.py", "test")...))
	} else if p.framework(port, number) {
		p.flaskMigrates()
	} else if script := p.first("app.py", "main.py", "server.py", "run.py"); script != "" {
		p.serveScript(script, port(0, stack.Place{}))
	} else {
		p.programServes()
	}
	if at, ok := p.has("celery"); ok {
		pythonWorker{p}.works(at)
	}
	if at, ok := p.has("pytest"); ok {
		p.out.step(p.step(stack.Test, at, p.call("pytest")...))
	}
}

// migrate adds a step that migrates, by what lies in a folder; empty for none.
func (p *pythonProject) migrate(at stack.Place, folder string, command []string) {
	s := p.step(stack.Migrate, at, command...)
	if folder != "" {
		s.Inputs = []string{path.Join(p.Path, folder)}
	}
	p.out.step(s)
}

func (p *pythonProject) flaskMigrates() {
	at, ok := p.has("flask-migrate")
	if !ok || p.out.Project.Framework != "flask" || !p.exists("migrations") {
		return
	}
	words := []string{"db", "upgrade"}
	if module, _, _ := p.app(FrameworkNamed("flask").python.app); module != "" {
		words = append([]string{"--app", module}, words...)
	}
	p.migrate(at, "migrations/versions", p.call("flask", words...))
}

// serveScript has a program without a framework serve, if its port, or its code, says that it does.
func (p *pythonProject) serveScript(script string, ports []stack.Port) {
	if len(ports) == 0 {
		n, at := p.portByCode(pythonListens, script)
		ports = httpPort(n, at)
	}
	if text := p.text(script); len(ports) > 0 || pythonMain.MatchString(text) ||
		servesHTTP.MatchString(text) {
		p.out.Project.Serve = &stack.Serve{Command: p.call("python", script), Ports: ports,
			At: p.At(script, 1), PortBy: stack.PortBy{Env: "PORT"}}
	}
}

// programServes has the one program of the package serve whose own file has a call that does.
func (p *pythonProject) programServes() {
	var found *stack.Serve
	programs := p.programs()
	for _, name := range sortedKeys(programs) {
		module, _, _ := strings.Cut(programs[name], ":")
		file := strings.ReplaceAll(module, ".", "/") + ".py"
		if file = p.first(file, "src/"+file); file == "" || !servesHTTP.MatchString(p.text(file)) {
			continue
		}
		if found != nil {
			return // nothing tells which of them is meant
		}
		found = &stack.Serve{Command: slices.Concat(p.run, []string{p.bin + name}),
			Ports: httpPort(p.portByCode(pythonListens, file)), At: p.At(file, 1),
			Source: stack.FromFramework}
	}
	if found != nil {
		p.out.Project.Serve = found
		InstallsItself(&p.out.Project)
	}
}

// namesBroker reports whether code of the project, or a file beside it, names the broker that a
// worker takes its tasks from. Where none does, tasks run where they are called, or nobody knows
// where they wait.
func (p pythonWorker) namesBroker() bool {
	files := append(p.sourcesBelow(".", ".py"), p.named(".env*")...)
	for _, pattern := range []string{"*.yml", "*.yaml", "*.toml", "*.cfg", "*.ini", "Procfile*"} {
		files = append(files, p.named(pattern)...)
	}
	return slices.ContainsFunc(files,
		func(file string) bool { return brokerNamed.MatchString(p.text(file)) })
}

var brokerNamed = expr.New(`(?i)broker(_?url|_transport)?["']?\s*[=:\],)]|\b(rediss?|amqps?|` +
	`sqs)://`)

// pythonWorker finds who works on the tasks that a project puts off.
type pythonWorker struct{ *pythonProject }

// works adds the worker of the module in which an application of it is made.
func (p pythonWorker) works(at stack.Place) {
	module, _, appAt := p.app(celeryApp)
	module = strings.TrimSuffix(module, ".celery")
	if said, saidAt := p.saidOfWorker(); said != "" {
		module, appAt = said, saidAt
	}
	if module == "" || !p.namesBroker() {
		return
	}
	if !appAt.IsZero() {
		at = appAt
	}
	p.out.Project.Also = append(p.out.Project.Also, stack.Serve{Name: "worker",
		Command: p.call("celery", "--app", module, "worker", "--loglevel=INFO"), At: at,
		Source: stack.FromFramework})
}

// DjangoSettings is the file of the module of settings that a manage.py chooses, relative to it;
// empty if it chooses none.
func DjangoSettings(text string) string {
	m := djangoSettings.FindStringSubmatch(text)
	if m == nil {
		return ""
	}
	return strings.ReplaceAll(m[1], ".", "/") + ".py"
}

var djangoSettings = expr.New(`DJANGO_SETTINGS_MODULE["']\s*(?:,|\]\s*=)\s*["']([\w.]+)["']`)

// settingsModuleThere says that the module of settings isn't there that manage.py chooses, unless a
// settings file chooses another.
func (p *pythonProject) settingsModuleThere() {
	file := DjangoSettings(p.text("manage.py"))
	dir, name := path.Split(file)
	top, _, _ := strings.Cut(file, "/")
	if file == "" || !p.exists(top) || p.exists(file) ||
		p.exists(strings.TrimSuffix(file, ".py")) ||
		strings.Contains(p.text(".env")+p.text(".env.example"), "DJANGO_SETTINGS_MODULE") {
		return
	}
	remedy := "Ask who made the application what belongs in it."
	entries, _ := fs.ReadDir(p.FS, path.Join(p.Path, dir))
	for _, e := range entries {
		if sampleModule.MatchString(e.Name()) {
			remedy = "Make it as " + path.Join(p.Path, dir, e.Name()) + " shows: cp " +
				path.Join(p.Path, dir, e.Name()) + " " + path.Join(p.Path, dir, name)
			break
		}
	}
	p.out.remark(stack.Problem, stack.CodeSettingsModuleMissing, p.At("manage.py", 1),
		"manage.py goes by the settings in "+path.Join(p.Path, file)+", which isn't there", remedy)
}

var sampleModule = expr.New(`(?i)(^|[._-])(examples?|samples?|templates?|dist)([._-]|$)`)

// servedAround reports whether the program of the project around serves what this manage.py
// prepares: the code that makes its application sets Django up.
func (p *pythonProject) servedAround() bool {
	w := p.out.Within
	if w == nil || w.Project.Serve == nil {
		return false
	}
	data, err := fs.ReadFile(p.FS, w.Project.Serve.At.File)
	return err == nil && setsDjangoUp.Match(data)
}

var setsDjangoUp = expr.New(`\bdjango\.setup\(\)|\bget_[aw]sgi_application\(`)

// saidOfWorker is the application that a file of code at the project's top says, to people, that
// its worker is started with.
func (p pythonWorker) saidOfWorker() (app string, at stack.Place) {
	for _, name := range p.named("*.py") {
		text := p.text(name)
		if m := startsWorker.FindStringSubmatchIndex(text); m != nil {
			line, _ := position([]byte(text), int64(m[2]))
			return text[m[2]:m[3]], p.At(name, line)
		}
	}
	return "", at
}

var startsWorker = expr.New(`\bcelery\s+(?:-A|--app)[ =]([\w.]+(?::\w+)?)\s[^\n]*\bworker\b`)

// djangoManages reports whether the folder's manage.py is Django's: one that imports other things,
// and knows nothing of Django, is a program of its own.
func (p *pythonProject) djangoManages() bool {
	if !p.Has("manage.py") {
		return false
	}
	text := p.text("manage.py")
	_, wanted := p.has("django")
	return wanted || !pythonImport.MatchString(text) ||
		strings.Contains(strings.ToLower(text), "django")
}

var pythonImport = expr.New(`(?m)^\s*(?:from|import)\s`)

// framework recognises the frameworks other than Django, and reports whether there is one.
func (p *pythonProject) framework(port func(int, stack.Place) []stack.Port,
	number func([]stack.Port) string) bool {
	for _, fw := range python.Frameworks {
		known := fw.python
		if known == nil {
			continue
		}
		asked, uses := p.has(known.pkg)
		if !uses {
			continue
		}
		module, name, at := "", "", stack.Place{}
		if known.app != nil {
			module, name, at = p.app(known.app)
		}
		if module == "" {
			script := p.first(known.scripts...)
			if script == "" {
				continue
			}
			module, at = strings.TrimSuffix(script, ".py"), p.At(script, 1)
		}
		p.out.Project.Framework = fw.Name
		usual := known.port
		file := strings.ReplaceAll(module, ".", "/") + ".py"
		if own, ownAt := p.portByCode(pythonRuns, p.first(file, "src/"+file)); own > 0 {
			usual, at = own, ownAt // what it takes when it is run by itself
		}
		ports := port(usual, at)
		if known.app == nil {
			ports = port(known.port, asked)
		}
		p.out.Project.Serve = &stack.Serve{Command: known.serve(p, module, name, number(ports)),
			Ports: ports, At: at, Source: stack.FromFramework}
		if known.pkg == "flask" && flaskWithoutApp.MatchString(p.text("requirements.txt")) {
			p.out.Project.Serve.Command = p.call("flask", "run", "--port", number(ports))
			p.out.Project.Serve.Env = map[string]string{"FLASK_APP": module}
		}
		p.servesItself(module)
		return true
	}
	return false
}

// flaskWithoutApp is a list that keeps to a version of Flask that is told its application by a
// variable alone: the option came with 2.2.
var flaskWithoutApp = expr.New(`(?mi)^flask\s*(==|<=?|~=)\s*([01]\b|2\.[01]\b)`)

// servesItself puts the package's own program in the place of the framework's, where it starts in
// the very module that makes the application: what it does before it serves, nobody else does. The
// port that it has of its own is the usual one.
func (p *pythonProject) servesItself(module string) {
	serve := p.out.Project.Serve
	for _, name := range sortedKeys(p.programs()) {
		if of, _, _ := strings.Cut(p.programs()[name], ":"); of != module {
			continue
		}
		serve.Command = slices.Concat(p.run, []string{p.bin + name})
		if port, at := p.portByCode(optionPort, p.packageFiles(module)...); port > 0 {
			serve.Ports = httpPort(port, at)
		}
		InstallsItself(&p.out.Project)
		return
	}
}

// packageFiles are the source files of the package that a module belongs to.
func (p *pythonProject) packageFiles(module string) []string {
	top, _, _ := strings.Cut(module, ".")
	return p.sourcesBelow(p.first("src/"+top, top), ".py")
}

// optionPort is a port that a program takes where its option gives none.
var optionPort = expr.New(`["']--port["'][^)]*\bdefault\s*=\s*["']?(\d{2,5})`)
