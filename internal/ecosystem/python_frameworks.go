package ecosystem

import (
	"path"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	pythonListens = expr.New(
		`(?:\bport\s*=\s*(?:int\()?(?:os\.(?:environ\.get|getenv)\(\s*["']PORT["']\s*,\s*)?["']?|` +
			`\(\s*["'][^"']*["']\s*,\s*)(\d{2,5})\b`)
	pythonApp = map[string]*expr.Expr{
		"fastapi":   expr.New(`(?m)^(\w+)\s*(?::\s*\w+\s*)?=\s*FastAPI\(`),
		"starlette": expr.New(`(?m)^(\w+)\s*=\s*Starlette\(`),
		"litestar":  expr.New(`(?m)^(\w+)\s*=\s*Litestar\(`),
		"quart":     expr.New(`(?m)^(\w+)\s*=\s*Quart\(`),
		"flask":     expr.New(`(?m)^(\w+)\s*=\s*Flask\(|^def (create_app)\(`),
		"celery":    expr.New(`(?m)^(\w+)\s*=\s*Celery\(`),
	}
	pythonMain = expr.New(`(?m)^if __name__ == `)
	servesHTTP = expr.New(
		`\b(http\.server|HTTPServer|run_app|serve_forever|app\.run|uvicorn\.run|web\.Application|listen\(|serve\()`)
)

// modules lists the source files in which a Python application is usually put together, nearest first.
func (p *pythonProject) modules() []string {
	if p.sources != nil {
		return p.sources
	}
	names := []string{"app.py", "main.py", "server.py", "wsgi.py", "asgi.py", "run.py", "application.py", "api.py",
		"celery.py", "celery_app.py", "worker.py", "tasks.py", "__init__.py"}
	out := []string{}
	for _, dir := range append([]string{"."}, p.Folders...) {
		if asideName.MatchString(dir) || dir != "." && strings.HasPrefix(dir, ".") || dir == "migrations" {
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

// app finds the module and the name of the application that a framework serves.
func (p *pythonProject) app(framework string) (module, name string, at stack.Place) {
	expr := pythonApp[framework]
	for _, file := range p.modules() {
		text := p.text(file)
		m := expr.FindStringSubmatchIndex(text)
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
	return "", "", stack.Place{}
}

func (p *pythonProject) prepareAndServe() {
	proj := &p.out.Project
	named, namedAt := p.portSetting()
	port := func(usual int, at stack.Place) []stack.Port {
		if named > 0 {
			return httpPort(named, namedAt)
		}
		return httpPort(usual, at)
	}
	number := func(ports []stack.Port) string { return itoa(ports[0].Host) }
	migrate := func(at stack.Place, folder string, command []string) {
		s := p.step(stack.Migrate, at, command...)
		if folder != "" {
			s.Inputs = []string{path.Join(p.Path, folder)}
		}
		p.out.step(s)
	}
	if at, ok := p.has("alembic"); ok && p.Has("alembic.ini") {
		folder := p.first("alembic/versions", "migrations/versions", "alembic")
		migrate(at, folder, p.call("alembic", "upgrade", "head"))
	}
	if p.Has("manage.py") {
		proj.Framework = "django"
		at := p.At("manage.py", 1)
		migrate(at, "", p.call("python", "manage.py", "migrate", "--noinput"))
		ports := port(8000, at)
		proj.Serve = &stack.Serve{Command: p.call("python", "manage.py", "runserver", "--noreload", number(ports)),
			Ports: ports, At: at, Source: stack.FromFramework}
		p.out.step(p.step(stack.Test, at, p.call("python", "manage.py", "test")...))
	} else if p.framework(port, number) {
		if at, ok := p.has("flask-migrate"); ok && proj.Framework == "flask" && p.exists("migrations") {
			module, _, _ := p.app("flask")
			migrate(at, "migrations/versions", p.call("flask", "--app", module, "db", "upgrade"))
		}
	} else if script := p.first("app.py", "main.py", "server.py", "run.py"); script != "" {
		ports := port(0, stack.Place{})
		if len(ports) == 0 {
			n, at := p.portByCode(pythonListens, script)
			ports = httpPort(n, at)
		}
		if text := p.text(script); len(ports) > 0 || pythonMain.MatchString(text) || servesHTTP.MatchString(text) {
			proj.Serve = &stack.Serve{Command: p.call("python", script), Ports: ports, At: p.At(script, 1),
				PortBy: stack.PortBy{Env: "PORT"}}
		}
	}
	if at, ok := p.has("celery"); ok {
		if module, _, appAt := p.app("celery"); module != "" {
			if !appAt.IsZero() {
				at = appAt
			}
			proj.Also = append(proj.Also,
				stack.Serve{Name: "worker", Command: p.call("celery", "--app", strings.TrimSuffix(module, ".celery"),
					"worker", "--loglevel", "INFO"), At: at, Source: stack.FromFramework})
		}
	}
	if at, ok := p.has("pytest"); ok {
		p.out.step(p.step(stack.Test, at, p.call("pytest")...))
	}
}

// framework recognises the frameworks other than Django, and reports whether there is one.
func (p *pythonProject) framework(port func(int, stack.Place) []stack.Port, number func([]stack.Port) string) bool {
	proj := &p.out.Project
	for _, fw := range []string{"fastapi", "starlette", "litestar"} {
		if _, uses := p.has(fw); !uses {
			continue
		}
		module, name, at := p.app(fw)
		if module == "" {
			continue
		}
		proj.Framework = fw
		ports := port(8000, at)
		command := p.call("uvicorn", module+":"+name, "--port", number(ports))
		if p.exists("src/" + strings.Split(module, ".")[0]) {
			command = p.call("uvicorn", "--app-dir", "src", module+":"+name, "--port", number(ports))
		}
		proj.Serve = &stack.Serve{Command: command, Ports: ports, At: at, Source: stack.FromFramework}
		return true
	}
	for _, fw := range []string{"flask", "quart"} {
		if _, uses := p.has(fw); !uses {
			continue
		}
		module, _, at := p.app(fw)
		if module == "" {
			if script := p.first("app.py", "main.py", "wsgi.py"); script != "" {
				module, at = strings.TrimSuffix(script, ".py"), p.At(script, 1)
			} else {
				continue
			}
		}
		proj.Framework = fw
		ports := port(5000, at)
		proj.Serve = &stack.Serve{Command: p.call(fw, "--app", module, "run", "--port", number(ports)), Ports: ports,
			At: at, Source: stack.FromFramework}
		return true
	}
	if at, uses := p.has("streamlit"); uses {
		if script := p.first("app.py", "main.py", "streamlit_app.py"); script != "" {
			proj.Framework = "streamlit"
			ports := port(8501, at)
			proj.Serve = &stack.Serve{Command: p.call("streamlit", "run", script, "--server.headless", "true",
				"--server.port", number(ports)), Ports: ports, At: p.At(script, 1), Source: stack.FromFramework}
			return true
		}
	}
	return false
}
