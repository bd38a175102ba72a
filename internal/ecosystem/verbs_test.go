package ecosystem

import (
	"slices"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

func TestCommandsThatAreTheSame(t *testing.T) {
	t.Parallel()
	for command, want := range map[string]string{
		"npm run migrate": "script migrate", "yarn migrate": "script migrate", "yarn run " +
			"migrate": "script migrate",
		"pnpm migrate": "script migrate", "bun run migrate": "script migrate",
		"npm start": "script start", "npm test": "script test", "npm install": "npm " +
			"install", "yarn": "yarn",
		"yarn install --immutable": "yarn install", "node .yarn/releases/yarn-4.cjs run " +
			"dev": "script dev",
		"npx prisma migrate deploy":                "prisma migrate deploy",
		"npm exec -- prisma migrate deploy":        "prisma migrate deploy",
		"pnpm exec prisma migrate deploy":          "prisma migrate deploy",
		"python3 manage.py migrate --noinput":      "python manage.py migrate",
		"./manage.py migrate":                      "python manage.py migrate",
		".venv/bin/python manage.py migrate":       "python manage.py migrate",
		"poetry run alembic upgrade head":          "alembic upgrade head",
		".venv/bin/python -m alembic upgrade head": "alembic upgrade head", "uv run --no-sync " +
			"flask run": "flask run",
		"bundle exec rails db:migrate": "rails db:migrate", "bin/rails db:migrate": "rails " +
			"db:migrate",
		"rake db:migrate":        "rails db:migrate",
		"./mvnw spring-boot:run": "mvn spring-boot:run", "mvn --batch-mode " +
			"spring-boot:run": "mvn spring-boot:run",
		"./gradlew bootRun":          "gradle bootRun",
		"php artisan migrate --seed": "php artisan migrate", "go run ./cmd/api": "go run " +
			"./cmd/api", "": "",
	} {
		if got := Key(strings.Fields(command)); got != want {
			t.Errorf("%q is %q, want %q", command, got, want)
		}
	}
}

func TestMeaning(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		of       string
		does     stack.Role
		commands []string
	}{
		{"node", stack.Install, []string{"npm ci", "yarn", "yarn install --immutable", "pnpm i",
			"bun install"}},
		{"node", SetsUp, []string{"npm install -g nodemon", "npm i --global x",
			"yarn global add x"}},
		{"node", Serves, []string{"npm start", "npm run dev", "yarn dev", "npm run start:local",
			"node server.js", "npx nodemon x.js"}},
		{"node", stack.Test, []string{"npm test", "npm run test", "yarn test", "npx vitest run"}},
		{"node", stack.Build, []string{"npm run build", "npx vite build", "pnpm build"}},
		{"python", stack.Install, []string{"pip install -r requirements.txt", "pip3 install -e .",
			"poetry install", "uv sync",
			"python3 -m venv .venv", "source .venv/bin/activate", "virtualenv env",
			"conda env create -f environment.yml"}},
		{"python", SetsUp, []string{"pip install --upgrade pip", "python3 -m pip install poetry"}},
		{"python", Serves, []string{"python manage.py runserver", "./manage.py runserver 8000",
			"python app.py", "flask run", "poetry run uvicorn app:api"}},
		{"ruby", stack.Install, []string{"bundle", "bundle install", "bin/setup"}},
		{"ruby", Serves, []string{"bin/rails server", "bundle exec rackup", "ruby app.rb"}},
		{"ruby", MakesKey, []string{"rails secret"}},
		{"php", MakesKey, []string{"php artisan key:generate"}},
		{"php", Serves, []string{"php artisan serve", "php -S localhost:8000"}},
		{"java", Serves, []string{"./mvnw spring-boot:run", "gradle bootRun",
			"./gradlew :office:run", "java -jar x.jar"}},
		{"java", stack.Build, []string{"mvn clean package", "./gradlew assemble"}},
		{"java", stack.Test, []string{"mvn verify"}},
		{"dotnet", Serves, []string{"dotnet run --project x"}},
		{"go", stack.Install, []string{"go mod download", "go get ./..."}},
		{"rust", SetsUp, []string{"cargo install sqlx-cli"}},
		{"elixir", stack.Install, []string{"mix deps.get", "mix setup"}},
		{"", "", []string{"npm audit", "yarn", "python manage.py migrate", "echo hello",
			"go fmt ./..."}},
	} {
		for _, command := range c.commands {
			role, e := Meaning(strings.Fields(command))
			name := ""
			if e != nil {
				name = e.Name
			}
			if c.of == "" && command == "yarn" {
				continue
			}
			if role != c.does || name != c.of {
				t.Errorf("%q means %s of %s, want %s of %s", command, role, name, c.does, c.of)
			}
		}
	}
}

// TestEcosystemsAreWhole finds what was forgotten when an ecosystem, a manager or a framework was
// added.
func TestEcosystemsAreWhole(t *testing.T) {
	t.Parallel()
	seen := map[string]bool{}
	for _, e := range All {
		if Named(e.Name) != e || len(e.Manifests) == 0 || len(e.Managers) == 0 ||
			(len(e.Readers) == 0) != (e == tasks) {
			t.Errorf("%s can't be named or recognised", e.Name)
		}
		if e != tasks && (len(e.Endings) == 0 || e.Language == nil) {
			t.Errorf("nothing is known of the code of %s", e.Name)
		}
		for _, ending := range e.Endings {
			if OfCode(ending) != e {
				t.Errorf("code in %s is taken for another's than %s", ending, e.Name)
			}
		}
		for _, m := range e.Managers {
			if ManagerNamed(m.Name) != m || seen[m.Name] {
				t.Errorf("the manager %s is there twice", m.Name)
			}
			seen[m.Name] = true
			if len(m.Obeys) == 0 && !m.Tasks {
				t.Errorf("nobody is asked about what %s goes by", m.Name)
			}
			verbs := slices.Concat(e.Verbs, m.Verbs)
			if m.Tasks || e == dotnet {
				continue
			}
			if !slices.ContainsFunc(verbs,
				func(v Verb) bool { return v.Does == stack.Install || v.Does == stack.Build }) {
				t.Errorf("how one installs with %s is not known", m.Name)
			}
			if (m.node != nil) != (e == node) || (m.python != nil) != (e == python) {
				t.Errorf("how %s does things is not known", m.Name)
			}
		}
		for _, v := range slices.Concat(e.Verbs) {
			for _, w := range v.Words {
				if strings.Contains(w, "  ") || strings.TrimSpace(w) != w {
					t.Errorf("the verb %q is not well written", w)
				}
			}
		}
		for _, f := range e.Frameworks {
			if f.Name == "" || e == node && f.node == nil {
				t.Errorf("a framework of %s has no name, or nothing recognises it", e.Name)
			}
			for _, s := range f.Secrets {
				if f.SecretOf(strings.ReplaceAll(s.Key, "*", "")) == nil || s.Form.Size == 0 ||
					s.Form.As == "" {
					t.Errorf("the secret %s of %s has no form", s.Key, f.Name)
				}
			}
		}
	}
	for _, tool := range Tools() {
		if ToolNamed(tool.Name) != tool {
			t.Errorf("the tool %s is there twice", tool.Name)
		}
	}
}

func TestMade(t *testing.T) {
	t.Parallel()
	beside := func(names ...string) func(string) bool {
		return func(file string) bool { return slices.Contains(names, file) }
	}
	for name, files := range map[string][]string{"node_modules": nil, ".git": nil, "target": nil,
		"vendor": nil, "deps": {"mix.exs"}, ".venv": nil} {
		if !Made(name, beside(files...)) {
			t.Errorf("%s is taken for people's", name)
		}
	}
	for name, files := range map[string][]string{"deps": nil, "_build": {"package.json"},
		"src": nil, "build": nil} {
		if Made(name, beside(files...)) {
			t.Errorf("%s is taken for a tool's", name)
		}
	}
}
