package ecosystem

import (
	"path"
	"regexp"
	"strings"

	"nimbleharbor/internal/stack"
)

var (
	pythonListens = regexp.MustCompile(`(?:\bport\s*=\s*(?:int\()?(?:os\.(?:environ\.get|getenv)\(\s*["']PORT["']\s*,\s*)?["']?|\(\s*["'][^"']*["']\s*,\s*)(\d{2,5})\b`)
	requirement   = regexp.MustCompile(`(?mi)^\s*([a-z0-9][a-z0-9._-]*)`)
)

func readPip(f Folder) (*Finding, error) {
	const manifest = "requirements.txt"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	out := &Finding{Project: stack.Project{Path: f.Path, Ecosystem: "python", Manager: "pip",
		Evidence: []stack.Evidence{{File: f.At(manifest, 0).File, Line: 1, Says: "requirements file of pip"}}}}
	p := &out.Project
	constraint, at := "*", f.At(manifest, 1)
	if v, err := f.Read(".python-version"); f.Has(".python-version") && err == nil {
		if s := strings.TrimSpace(string(v)); s != "" && s[0] >= '0' && s[0] <= '9' {
			constraint, at = "~"+s, f.At(".python-version", 1)
		}
	}
	p.Runtimes = []stack.Runtime{{Tool: "python3", Constraint: constraint, At: at}}

	names := map[string]int{}
	for _, m := range requirement.FindAllSubmatchIndex(data, -1) {
		line, _ := position(data, int64(m[2]))
		names[strings.ToLower(string(data[m[2]:m[3]]))] = line
	}
	// One virtual environment for each project, so that nothing is installed into the machine's own Python.
	install := f.step(stack.Install, f.At(manifest, 1), "sh", "-c",
		"python3 -m venv .venv && .venv/bin/python -m pip install --disable-pip-version-check -r requirements.txt")
	install.Inputs, install.Outputs = f.in(manifest, "constraints.txt", ".python-version"), []string{path.Join(f.Path, ".venv")}
	p.Steps = append(p.Steps, install)

	const python = ".venv/bin/python"
	script := ""
	for _, name := range []string{"app.py", "main.py", "server.py", "wsgi.py"} {
		if f.Has(name) {
			script = name
			break
		}
	}
	module := strings.TrimSuffix(script, ".py")
	var serve *stack.Serve
	switch {
	case f.Has("manage.py"):
		p.Framework = "django"
		at := f.At("manage.py", 1)
		p.Steps = append(p.Steps, f.step(stack.Migrate, at, python, "manage.py", "migrate", "--noinput"),
			f.step(stack.Test, at, python, "manage.py", "test"))
		serve = &stack.Serve{Command: []string{python, "manage.py", "runserver", "--noreload", "8000"}, Ports: httpPort(8000, at), At: at}
	case script == "":
	case names["fastapi"] > 0 || names["uvicorn"] > 0:
		p.Framework = "fastapi"
		port, at := f.portSetting()
		if port == 0 {
			port, at = 8000, f.At(manifest, max(names["fastapi"], names["uvicorn"]))
		}
		serve = &stack.Serve{Command: []string{python, "-m", "uvicorn", module + ":app", "--port", itoa(port)}, Ports: httpPort(port, at), At: f.At(script, 1)}
	case names["flask"] > 0:
		p.Framework = "flask"
		port, at := f.portSetting()
		if port == 0 {
			port, at = 5000, f.At(manifest, names["flask"])
		}
		serve = &stack.Serve{Command: []string{python, "-m", "flask", "--app", module, "run", "--port", itoa(port)}, Ports: httpPort(port, at), At: f.At(script, 1)}
	default:
		port, at := f.portSetting()
		if port == 0 {
			port, at = f.portByCode(pythonListens, script)
		}
		serve = &stack.Serve{Command: []string{python, script}, Ports: httpPort(port, at), At: f.At(script, 1)}
	}
	p.Serve = serve
	if names["pytest"] > 0 {
		p.Steps = append(p.Steps, f.step(stack.Test, f.At(manifest, names["pytest"]), python, "-m", "pytest"))
	}
	return out, nil
}
