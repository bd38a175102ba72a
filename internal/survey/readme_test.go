package survey

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

// harbour is an application in which a README's commands have something to be compared with.
var harbour = fstest.MapFS{
	"compose.yaml": {Data: []byte(
		"services:\n  db:\n    image: postgres:16\n    ports: [\"5432:5432\"]\n    environment: " +
			"{POSTGRES_DB: tides, " +
			"POSTGRES_PASSWORD: x}\n  cache: {image: \"docker.io/library/redis:7\"}\n  setup:\n " +
			"   image: saltmarsh/setup:1\n    command: npm run load\n  board: {build: board}\n")},
	"board/Dockerfile":   {Data: []byte("FROM scratch\n")},
	"board/package.json": {Data: []byte(`{"scripts": {"start": "node x.js", "migrate": "m"}}`)},
	"web/package.json": {Data: []byte(
		`{"scripts": {"dev": "vite", "build": "vite build", "db:migrate": "knex migrate:latest", "seed": "knex ` +
			`seed:run", "test": "vitest"}, "devDependencies": {"vite": "6"}}`)},
	"web/Makefile": {Data: []byte(
		"all: deps\n\tnpm run dev\ndeps:\n\tnpm install\n\t@echo done\nship:\n\tscp x host:\n")},
	"web/.env.example":     {Data: []byte("PORT=3000\n")},
	"api/requirements.txt": {Data: []byte("django\n")}, "api/manage.py": {Data: []byte("")},
	"alone/Dockerfile": {Data: []byte("FROM scratch\nEXPOSE 80\n")},
}

func TestCoverage(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ cwd, command, want string }{
		{".", "git clone x", "clone"}, {".", "git submodule update --init", "clone"}, {".",
			"git commit -m x", ""},
		{"web", "cp .env.example .env", "fill"}, {".", "cp web/.env.example web/.env",
			"fill"}, {"web", "cp a b", ""},
		{"web", "export PORT=1", "fill"}, {"web", "export OTHER=1", ""},
		{".", "brew install node", "needs"}, {".", "sudo apt-get install postgresql", "service:db"},
		{".", "npm install -g pnpm", ""}, {".", "pip install --upgrade pip", "needs"},
		{".", "corepack enable", "needs"},
		{".", "docker compose up -d", "launch"}, {".", "docker-compose up db", "service:db"},
		{".", "docker compose up nobody", ""}, {".", "docker compose -f compose.yaml up --build",
			"launch"},
		{".", "docker compose down", "stop"}, {".", "docker compose down -v", ""},
		{".", "docker compose logs -f", "logs"},
		{".", "docker compose ps", "check"}, {".", "docker compose run --rm setup",
			"service:setup"},
		{".", "docker compose exec board npm run load", "service:setup"}, {".",
			"docker compose exec db psql", ""},
		{".", "docker compose run", ""},
		{"board", "docker build -t board .", "service:board"}, {".", "docker run -d postgres:15",
			"service:db"},
		{".", "docker run redis", "service:cache"}, {".", "docker run mongo", ""},
		{".", "docker volume create x", ""},
		{".", "createdb tides", "service:db"}, {".", "psql -c 'select 1'", ""}, {".",
			"redis-server", "service:cache"},
		{"web", "npm install", "step:install:web"}, {"web", "npm ci", "step:install:web"},
		{"web", "yarn", "step:install:web"}, {".", "cd web && npm install", "step:install:web"},
		{"web", "npm run db:migrate", "step:migrate:web"}, {"web", "npx knex migrate:latest",
			"step:migrate:web"},
		{"web", "npm run seed", "step:seed:web"}, {".", "npm run seed", "step:seed:web"},
		{"web", "npm run dev", "service:web"}, {"web", "npm start", "service:web"},
		{"web", "npm test", ""}, {"web", "npm run nothing", ""}, {"web", "npm run build", ""},
		{"web", "make", "service:web"}, {"web", "make deps", "step:install:web"}, {"web",
			"make ship", ""},
		{"web", "make nothing", ""},
		{"board", "npm install", "service:board"}, {"board", "npm start", "service:board"},
		{"board", "npm run migrate", ""},
		{"api", "python -m venv .venv", "step:install:api"}, {"api", "source .venv/bin/activate",
			"step:install:api"},
		{"api", "pip install -r requirements.txt", "step:install:api"},
		{"api", "python manage.py migrate", "step:migrate:api"}, {"api", "./manage.py runserver",
			"service:api"},
		{"api", "python manage.py loaddata x", ""}, {"api", "python manage.py test", ""},
		{".", "curl http://localhost:3000/", "check"}, {".", "curl https://tides.example/", ""},
		{"tide-board/web", "npm ci", "step:install:web"}, {".", "openssl rand -hex 16", ""}, {".",
			"", ""},
	} {
		fsys := fstest.MapFS{"README.md": {Data: []byte("```sh\ncd " + c.cwd + "\n" + c.command +
			"\n```\n")}}
		for name, f := range harbour {
			fsys[name] = f
		}
		s, err := Survey(fsys, Options{Root: "/home/ida/tide-board"})
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, d := range s.Readme {
			if got = string(d.By); d.Covered != (d.By != "") {
				t.Errorf("%+v", d)
			}
		}
		if got != c.want {
			t.Errorf("in %s %q is done by %q, want %q", c.cwd, c.command, got, c.want)
		}
	}
}

func TestSignIns(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ file, text, want string }{
		"mail and password": {"README.md", "## Login\nUse `ida@quay.example` / `oyster-1`.",
			"ida@quay.example oyster-1 2"},
		"a usual name": {"README.md", "Default credentials: admin / whelk-2", "admin whelk-2 1"},
		"labelled":     {"README.md", "Username: clerk, password: limpet-3", "clerk limpet-3 1"},
		"bold labels": {"README.md", "**Email:** `ida@quay.example` **Password:** `cockle-4`",
			"ida@quay.example cockle-4 1"},
		"two lines": {"README.md", "## Sign in\n- user: guest\n- password: mussel-5\n",
			"guest mussel-5 2"},
		"a table": {"README.md",
			"| Role | User | Password |\n|---|---|---|\n| a | olaf | scallop-6 |\n", "olaf " +
				"scallop-6 3"},
		"a grid": {"README.rst", "+------+----------+\n| User | Password " +
			"|\n+======+==========+\n| olaf | whelk-7  |\n+------+----------+\n", "olaf whelk-7 4"},
		"a table in AsciiDoc": {"README.adoc", "|===\n|User |Password\n\n|olaf |whelk-8\n|===\n",
			"olaf whelk-8 4"},
		"one with its rows together": {"README.adoc",
			"|===\n|User |Password\n|olaf |whelk-8\n|===\n", "olaf whelk-8 3"},
		"a table of other things": {"README.md", "| Key | Value |\n|---|---|\n| user | x |\n", ""},
		"not about it":            {"README.md", "Mail me: ida@quay.example / thanks", ""},
		"a placeholder":           {"README.md", "username: <you>, password: <yours>", ""},
		"code": {"README.md",
			"## Login\nuser: process.env.USER\npassword: process.env.PASS", ""},
		"a seed in Ruby": {"db/seeds.rb",
			"User.create!(email: 'ida@quay.example', password: 'winkle-7')",
			"ida@quay.example winkle-7 1"},
		"a seed in JavaScript": {"prisma/seed.js",
			"  email: 'ida@quay.example',\n  password: 'winkle-8',\n",
			"ida@quay.example winkle-8 1"},
		"a seed in Python": {"app/seed.py",
			"User.objects.create_superuser('harbourmaster', 'h@quay.example', " +
				"'winkle-9')", "harbourmaster winkle-9 1"},
		"a hash is no password": {"db/seeds.rb",
			"User.create!(email: 'ida@quay.example', password: hash('x'))", ""},
		"a fixture": {"fixtures/users.json",
			"[{\"username\": \"olaf\", \"password\": \"winkle-10\"}]", "olaf winkle-10 1"},
		"a list of users": {"db/seeds/users.csv",
			"id;username;password\n1;olaf;\"winkle-14\"\n2;ida;whelk-15\n",
			"olaf winkle-14 2|ida whelk-15 3"},
		"computed, not written": {"db/seeds.js", "user: boat.username, password: boat.password,\n",
			""},
		"users of tests": {"tests/e2e/fixtures.js",
			"username: 'ida', password: 'winkle-16'\n", ""},
		"a file is no password": {"README.md", "## Login\nuser: ida, password: config.ini\n", ""},
		"never a settings file": {".env", "ADMIN_USER=ida\nADMIN_PASSWORD=hidden-11\n", ""},
		"a compose file's literal": {"compose.yaml",
			"services:\n  ui:\n    image: x\n    environment:\n      UI_ADMIN_EMAIL: " +
				"ida@quay.example\n     " +
				" UI_ADMIN_PASSWORD: whelk-12\n", "ida@quay.example whelk-12 5"},
		"a compose file's setting": {"compose.yaml",
			"services:\n  ui:\n    image: x\n    environment:\n      UI_ADMIN_USER: ida\n      " +
				"UI_ADMIN_PASSWORD: ${PW:-hidden-13}\n", ""},
	} {
		s, err := Survey(fstest.MapFS{c.file: {Data: []byte(c.text)},
			"package.json": {Data: []byte("{}")}}, Options{Root: "/w"})
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var got []string
		for _, i := range s.SignIns {
			got = append(got, fmt.Sprintf("%s %s %d", i.User, i.Password, i.At.Line))
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %q, want %q", name, strings.Join(got, "|"), c.want)
		}
	}
}

// TestManySignIns keeps the list short.
func TestManySignIns(t *testing.T) {
	t.Parallel()
	var text strings.Builder
	for i := range 100 {
		fmt.Fprintf(&text, "User.create!(email: 'u%d@quay.example', password: 'p-%d')\n", i, i)
	}
	s, err := Survey(fstest.MapFS{"db/seeds.rb": {Data: []byte(text.String())},
		"package.json": {Data: []byte("{}")}}, Options{Root: "/w"})
	if err != nil || len(s.SignIns) != maxSignIns {
		t.Errorf("%d sign-ins, %v", len(s.SignIns), err)
	}
}
