package survey

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

func TestDemands(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ text, want string }{
		"a shell block":          {"```sh\nnpm ci\n./tool x\n```", "2 . npm ci|3 . ./tool x"},
		"a block of no language": {"```\nnpm ci\nsome output\n```", "2 . npm ci"},
		"another language":       {"```js\nnpm ci\n```", ""},
		"an indented block":      {"Then:\n\n    npm ci\n    done.\n", "3 . npm ci"},
		"prompts make the rest output": {"```console\n$ npm ci\nadded 3 packages\n> npm start\n```",
			"2 . npm ci|4 . npm start"},
		"a prompt with user and folder": {"```console\nida@quay:~/app$ npm ci\n```", "2 . npm ci"},
		"a virtual environment's prompt": {"```console\n(venv) $ pip install -r x.txt\n```",
			"2 . pip install -r x.txt"},
		"comments are left out": {"```sh\n# npm old\nnpm ci # fast\necho hello\n```", "3 . npm ci"},
		"a line goes on": {"```sh\ndocker run \\\n  -p 80:80 \\\n  web\n```",
			"2 . docker run -p 80:80 web"},
		"cd holds for the block": {"```sh\ncd web\nnpm ci\ncd ../api\nnpm start\n```\n```sh\nnpm test\n```",
			"3 web npm ci|5 api npm start|8 . npm test"},
		"cd for one line": {"```sh\ncd web && npm ci\nnpm start\n```",
			"2 . cd web && npm ci|3 . npm start"},
		"entries that are commands": {"1. python -m venv venv\n2. pip install -r x.txt\n3. flask run\n\n- npm start\n",
			"1 . python -m venv venv|2 . pip install -r x.txt|3 . flask run|5 . npm start"},
		"entries that are prose": {"- npm is used\n- go to the folder\n- run npm install\n- make sure that it runs\n" +
			"- python is needed\n- npm install, then look\n- cargo run?\n", ""},
		"a command that reads a file": {"Fill it: `mysql -u root quay < quay.sql`", "1 . mysql -u root quay < " +
			"quay.sql"},
		"a folder entered in a sentence": {"`cd web && npm i`, but not `cd web`", "1 . cd web && npm i"},
		"a list's block":                 {"1. First:\n\n   ```sh\n   npm ci\n   ```\n", "4 . npm ci"},
		"a span in a sentence": {"Run `npm run dev` or look at `package.json`, or call `$ make all`.",
			"1 . npm run dev|1 . make all"},
		"a span that is no command":        {"The `npm` tool and `node: 20`, `git@host`, `cd web`.", ""},
		"a variable before the command":    {"```sh\nPORT=3000 npm start\n```", "2 . PORT=3000 npm start"},
		"html and tables hold no commands": {"<pre>npm ci</pre>\n\n| a |\n|---|\n| npm ci |\n", ""},
		"carriage returns":                 {"```sh\r\nnpm ci\r\n```\r\n", "2 . npm ci"},
		"an open block":                    {"```sh\nnpm ci\n", "2 . npm ci"},
		"placeholders are no spans":        {"Run `npm run <script>`.", ""},
		"folders that a shell alone knows": {"```sh\ncd $HOME/x\nnpm ci\ncd -\nnpm start\n```",
			"3 . npm ci|5 . npm start"},
		"what a clone has made is the checkout": {
			"```sh\ngit clone https://q.example/board.git\ncd board\nnpm ci\n```" +
				"\n```sh\ncd board/web\nnpm start\n```", "2 . git clone https://q.example/board.git|4 . npm ci|" +
				"8 web npm start"},
		"lines that && joins":  {"```sh\nnpm ci &&\nnpm start\n```", "2 . npm ci && npm start"},
		"a text for a command": {"```sh\npsql <<SQL\nSELECT 1;\nSQL\nnpm ci\n```", "2 . psql <<SQL|5 . npm ci"},
		"names, failures, a shell's settings": {
			"```sh\nPORT\nnpm ERR! EACCES\nset -e\n{\n}\nDone now\nWait...\ncurl" +
				"\nnpm ci\n```", "10 . npm ci"},
		"a span that names what follows":     {"### `npm run`\n\n```sh\nnpm run dev\n```", "4 . npm run dev"},
		"only looking round":                 {"```sh\nls\npwd\ncat README.md\nmkdir x && cd x\n```", ""},
		"a line longer than anybody's":       {"```sh\nnpm " + strings.Repeat("x", 500) + "\n```", ""},
		"a label in a shell block":           {"```sh\nNote: this takes long\nnpm ci\n```", "3 . npm ci"},
		"underlined headings and quotes":     {"Start\n=====\n\n> ```sh\n> npm ci\n> ```\n", "5 . npm ci"},
		"the same command twice stays twice": {"`npm ci now` and `npm ci now`", "1 . npm ci now|1 . npm ci now"},
	} {
		var got []string
		for _, d := range demandsOf("README.md", []byte(c.text)) {
			got = append(got, fmt.Sprintf("%d %s %s", d.at.Line, d.cwd, d.command))
		}
		if strings.Join(got, "|") != c.want {
			t.Errorf("%s: %q, want %q", name, strings.Join(got, "|"), c.want)
		}
	}
	if got := demandsOf("docs/setup.rst", []byte("Setup\n=====\n\n.. code::\n\n    npm ci\n    Done.\n")); len(
		got) != 1 || got[0].at.Line != 6 || got[0].cwd != "." {
		t.Errorf("of a text that is no Markdown: %+v", got)
	}
	prose := "Run\n===\n\n.. warning::\n\n    make the tide table public with care\n\n" +
		"1. Then::\n\n      npm run tides\n\n   make it known\n\n   $ npm start\n"
	if got := demandsOf("README.rst", []byte(prose)); len(got) != 2 || got[0].command != "npm run tides" ||
		got[1].command != "npm start" {
		t.Errorf("of prose that is indented: %+v", got)
	}
}

// harbour is an application in which a README's commands have something to be compared with.
var harbour = fstest.MapFS{
	"compose.yaml": {Data: []byte(
		"services:\n  db:\n    image: postgres:16\n    ports: [\"5432:5432\"]\n    environment: {POSTGRES_DB: tides, " +
			"POSTGRES_PASSWORD: x}\n  cache: {image: \"docker.io/library/redis:7\"}\n  setup:\n    image: " +
			"saltmarsh/setup:1\n    command: npm run load\n  board: {build: board}\n",
	)},
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
		{".", "git clone x", "clone"}, {".", "git submodule update --init", "clone"}, {".", "git commit -m x", ""},
		{"web", "cp .env.example .env", "fill"}, {".", "cp web/.env.example web/.env", "fill"}, {"web", "cp a b", ""},
		{"web", "export PORT=1", "fill"}, {"web", "export OTHER=1", ""},
		{".", "brew install node", "needs"}, {".", "sudo apt-get install postgresql", "service:db"},
		{".", "npm install -g pnpm", ""}, {".", "pip install --upgrade pip", "needs"},
		{".", "corepack enable", "needs"},
		{".", "docker compose up -d", "launch"}, {".", "docker-compose up db", "service:db"},
		{".", "docker compose up nobody", ""}, {".", "docker compose -f compose.yaml up --build", "launch"},
		{".", "docker compose down", "stop"}, {".", "docker compose down -v", ""},
		{".", "docker compose logs -f", "logs"},
		{".", "docker compose ps", "check"}, {".", "docker compose run --rm setup", "service:setup"},
		{".", "docker compose exec board npm run load", "service:setup"}, {".", "docker compose exec db psql", ""},
		{".", "docker compose run", ""},
		{"board", "docker build -t board .", "service:board"}, {".", "docker run -d postgres:15", "service:db"},
		{".", "docker run redis", "service:cache"}, {".", "docker run mongo", ""},
		{".", "docker volume create x", ""},
		{".", "createdb tides", "service:db"}, {".", "psql -c 'select 1'", ""}, {".", "redis-server", "service:cache"},
		{"web", "npm install", "step:install:web"}, {"web", "npm ci", "step:install:web"},
		{"web", "yarn", ""}, {".", "cd web && npm install", "step:install:web"},
		{"web", "npm run db:migrate", "step:migrate:web"}, {"web", "npx knex migrate:latest", "step:migrate:web"},
		{"web", "npm run seed", "step:seed:web"}, {".", "npm run seed", "step:seed:web"},
		{"web", "npm run dev", "service:web"}, {"web", "npm start", "service:web"},
		{"web", "npm test", ""}, {"web", "npm run nothing", ""}, {"web", "npm run build", ""},
		{"web", "make", "service:web"}, {"web", "make deps", "step:install:web"}, {"web", "make ship", ""},
		{"web", "make nothing", ""},
		{"board", "npm install", "service:board"}, {"board", "npm start", "service:board"},
		{"board", "npm run migrate", ""},
		{"api", "python -m venv .venv", "step:install:api"}, {"api", "source .venv/bin/activate", "step:install:api"},
		{"api", "pip install -r requirements.txt", "step:install:api"},
		{"api", "python manage.py migrate", "step:migrate:api"}, {"api", "./manage.py runserver", "service:api"},
		{"api", "python manage.py loaddata x", ""}, {"api", "python manage.py test", ""},
		{".", "curl http://localhost:3000/", "check"}, {".", "curl https://tides.example/", ""},
		{"tide-board/web", "npm ci", "step:install:web"}, {".", "openssl rand -hex 16", ""}, {".", "", ""},
	} {
		fsys := fstest.MapFS{"README.md": {Data: []byte("```sh\ncd " + c.cwd + "\n" + c.command + "\n```\n")}}
		for name, f := range harbour {
			fsys[name] = f
		}
		s, err := Survey(fsys, Options{Root: "/home/ida/tide-board"})
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, d := range s.Readme {
			if got = d.By; d.Covered != (d.By != "") {
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
			"| Role | User | Password |\n|---|---|---|\n| a | olaf | scallop-6 |\n", "olaf scallop-6 3"},
		"a table of other things": {"README.md", "| Key | Value |\n|---|---|\n| user | x |\n", ""},
		"not about it":            {"README.md", "Mail me: ida@quay.example / thanks", ""},
		"a placeholder":           {"README.md", "username: <you>, password: <yours>", ""},
		"code":                    {"README.md", "## Login\nuser: process.env.USER\npassword: process.env.PASS", ""},
		"a seed in Ruby": {"db/seeds.rb", "User.create!(email: 'ida@quay.example', password: 'winkle-7')",
			"ida@quay.example winkle-7 1"},
		"a seed in JavaScript": {"prisma/seed.js", "  email: 'ida@quay.example',\n  password: 'winkle-8',\n",
			"ida@quay.example winkle-8 1"},
		"a seed in Python": {"app/seed.py",
			"User.objects.create_superuser('harbourmaster', 'h@quay.example', 'winkle-9')", "harbourmaster winkle-9 1"},
		"a hash is no password": {"db/seeds.rb", "User.create!(email: 'ida@quay.example', password: hash('x'))", ""},
		"a fixture": {"fixtures/users.json", "[{\"username\": \"olaf\", \"password\": \"winkle-10\"}]",
			"olaf winkle-10 1"},
		"a list of users": {"db/seeds/users.csv", "id;username;password\n1;olaf;\"winkle-14\"\n2;ida;whelk-15\n",
			"olaf winkle-14 2|ida whelk-15 3"},
		"computed, not written": {"db/seeds.js", "user: boat.username, password: boat.password,\n", ""},
		"users of tests":        {"tests/e2e/fixtures.js", "username: 'ida', password: 'winkle-16'\n", ""},
		"a file is no password": {"README.md", "## Login\nuser: ida, password: config.ini\n", ""},
		"never a settings file": {".env", "ADMIN_USER=ida\nADMIN_PASSWORD=hidden-11\n", ""},
		"a compose file's literal": {"compose.yaml",
			"services:\n  ui:\n    image: x\n    environment:\n      UI_ADMIN_EMAIL: ida@quay.example\n     " +
				" UI_ADMIN_PASSWORD: whelk-12\n", "ida@quay.example whelk-12 5"},
		"a compose file's setting": {"compose.yaml",
			"services:\n  ui:\n    image: x\n    environment:\n      UI_ADMIN_USER: ida\n      UI_ADMIN_PASSWORD: " +
				"${PW:-hidden-13}\n", ""},
	} {
		s, err := Survey(fstest.MapFS{c.file: {Data: []byte(c.text)}, "package.json": {Data: []byte("{}")}},
			Options{Root: "/w"})
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
	s, err := Survey(fstest.MapFS{"db/seeds.rb": {Data: []byte(text.String())}, "package.json": {Data: []byte("{}")}},
		Options{Root: "/w"})
	if err != nil || len(s.SignIns) != maxSignIns {
		t.Errorf("%d sign-ins, %v", len(s.SignIns), err)
	}
}
