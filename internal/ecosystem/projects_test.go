package ecosystem

import (
	"testing"
)

// TestProjects shows what is concluded of projects as people have them: how they are installed,
// prepared and served in work on them. The cases of the survey show the same for whole workspaces.
func TestProjects(t *testing.T) {
	t.Parallel()
	type files map[string]string
	const (
		composerPHP = `"require": {"php": "^8.2"`
		sdkWeb      = `<Project Sdk="Microsoft.NET.Sdk.Web"><PropertyGroup><TargetFramework>net8.0</TargetFramework>` +
			`</PropertyGroup></Project>`
		spring = `<project><artifactId>a</artifactId><build><plugins><plugin>` +
			`<artifactId>spring-boot-maven-plugin</artifactId></plugin></plugins></build></project>`
	)
	for name, c := range map[string]struct {
		files files
		want  string
	}{
		"laravel": {files{"composer.json": `{` + composerPHP + `, "laravel/framework": "^11"}}`,
			"composer.lock": "{}", "artisan": "", "database/migrations/1.php": ""},
			"composer laravel; install composer install --no-interaction; migrate php artisan " +
				"migrate --force " +
				"--no-interaction; test php artisan test; serves php artisan serve --port 8000 " +
				"on 8000"},
		"symfony": {files{"composer.json": `{` + composerPHP +
			`, "symfony/framework-bundle": "7.*", ` +
			`"doctrine/doctrine-migrations-bundle": "^3"}}`, "composer.lock": "{}",
			"bin/console": "", "public/index.php": "", "migrations/V1.php": ""},
			"composer symfony; install composer install --no-interaction; create php bin/console " +
				"doctrine:database:create --if-not-exists --no-interaction; migrate php " +
				"bin/console " +
				"doctrine:migrations:migrate --no-interaction --allow-no-migration; serves php " +
				"-S 127.0.0.1:8000 -t public on 8000"},
		"php with nothing but a front page": {files{"composer.json": `{"require": {"slim/slim": "^4"}}`,
			"public/index.php": "<?php"}, "composer slim; install composer install " +
			"--no-interaction; serves php -S 127.0.0.1:8000 -t public on 8000"},
		"a library of PHP": {files{"composer.json": `{"type": "library", "require": {"php": "^8.1"}}`, "src/A.php": ""},
			"composer; install composer install --no-interaction"},
		"asp.net": {files{"Office.csproj": sdkWeb,
			"Program.cs": "WebApplication.CreateBuilder(args);",
			"Properties/launchSettings.json": `{"profiles": {"http": {"commandName": "Project", ` +
				`"applicationUrl": "http://localhost:5123"}}}`},
			"dotnet aspnet; install dotnet restore Office.csproj; build dotnet build " +
				"Office.csproj --no-restore; serves " +
				"dotnet run --no-restore --project Office.csproj on 5123 by -- --urls " +
				"http://localhost:{port}"},
		"a console program of .net": {files{"Job.csproj": `<Project Sdk="Microsoft.NET.Sdk">` +
			`<PropertyGroup><OutputType>` +
			`Exe</OutputType><TargetFramework>net8.0</TargetFramework></PropertyGroup></Project>`},
			"dotnet; install dotnet restore Job.csproj; build dotnet build Job.csproj " +
				"--no-restore"},
		"spring by maven": {files{"pom.xml": spring, "mvnw": "",
			"src/main/resources/application.yml": "server:\n  port: 8095\n"},
			"maven spring-boot; build ./mvnw --batch-mode --quiet compile; test ./mvnw " +
				"--batch-mode test; serves ./mvnw " +
				"--batch-mode spring-boot:run on 8095 by SERVER_PORT"},
		"spring by gradle": {files{"build.gradle": "plugins {\n id 'org.springframework.boot' " +
			"version '3.4.0'\n}\n", "settings.gradle": "", "gradlew": "",
			"src/main/resources/application.properties": "server.port=8096\n"},
			"gradle spring-boot; build ./gradlew --console=plain classes; test ./gradlew " +
				"--console=plain test; serves " +
				"./gradlew --console=plain bootRun on 8096 by SERVER_PORT"},
		"quarkus": {files{"pom.xml": `<project><build><plugins><plugin><artifactId>quarkus-maven-plugin</artifactId>` +
			`</plugin></plugins></build></project>`},
			"maven quarkus; build mvn --batch-mode --quiet compile; test mvn --batch-mode test; " +
				"serves mvn --batch-mode " +
				"quarkus:dev -Dquarkus.console.enabled=false on 8080 by QUARKUS_HTTP_PORT"},
		"android": {files{"build.gradle": "plugins {\n id 'com.android.application'\n}\n",
			"gradlew": ""}, "gradle; not here"},
		"rails": {files{"Gemfile": "gem 'rails', '~> 8.0'\ngem 'sqlite3'\n", "Gemfile.lock": "",
			"config.ru": "", "config/application.rb": "", "db/migrate/1_a.rb": "",
			"db/seeds.rb": "User.create!(name: 'a')\n"},
			"bundler rails; install bundle install; create bundle exec rails db:create; migrate " +
				"bundle exec rails " +
				"db:migrate; seed bundle exec rails db:seed; serves bundle exec rails server " +
				"--binding 127.0.0.1 --port 3000 on 3000"},
		"sinatra": {files{"Gemfile": "gem 'sinatra'\ngem 'puma'\n", "config.ru": "run App\n"},
			"bundler sinatra; install bundle install; serves bundle exec rackup --host " +
				"127.0.0.1 --port 9292 on 9292"},
		"a gem": {files{"Gemfile": "gemspec\n", "tide.gemspec": ""},
			"bundler; install bundle install"},
		"phoenix": {files{"mix.exs": "defp deps do\n[{:phoenix, \"~> 1.7\"}, {:ecto_sql, \"~> " +
			"3.0\"}]\nend\n",
			"mix.lock": "", "config/dev.exs": "http: [ip: {127, 0, 0, 1}, port: 4105]\n",
			"priv/repo/migrations/1.exs": "", "priv/repo/seeds.exs": "Repo.insert!(%A{})\n"},
			"mix phoenix; install mix deps.get --check-locked; create mix ecto.create --quiet; " +
				"migrate mix ecto.migrate; " +
				"seed mix run priv/repo/seeds.exs; test mix test; serves mix phx.server on 4105 " +
				"by PORT"},
		"axum": {files{"Cargo.toml": "[package]\nname = \"quay\"\n[dependencies]\naxum = " +
			"\"0.8\"\n", "Cargo.lock": "", "src/main.rs": "TcpListener::bind(\"127.0.0.1:3107\")"},
			"cargo axum; install cargo fetch --locked; build cargo build; test cargo test; " +
				"serves cargo run on 3107 by PORT"},
		"a library of rust": {files{"Cargo.toml": "[package]\nname = \"tide\"\n", "src/lib.rs": ""},
			"cargo; install cargo fetch; build cargo build; test cargo test"},
		"django": {files{"requirements.txt": "django\n",
			"manage.py": "os.environ.setdefault(\"DJANGO_SETTINGS_MODULE\", " +
				"\"a.settings\")\n"}, "pip django; install sh -c python3 -m venv .venv && " +
			".venv/bin/python -m pip install " +
			"--disable-pip-version-check -r requirements.txt; migrate .venv/bin/python " +
			"manage.py migrate --noinput; test " +
			".venv/bin/python manage.py test; serves .venv/bin/python manage.py runserver " +
			"--noreload 8000 on 8000"},
		"flask by its setting": {files{"requirements.txt": "flask\nflask-migrate\n",
			".flaskenv": "FLASK_APP=counter/run.py\n",
			"app.py":    "app = Flask(__name__)\n", "migrations/versions/a.py": ""},
			"pip flask; install sh -c python3 -m venv .venv && .venv/bin/python -m pip install " +
				"--disable-pip-version-check -r requirements.txt; migrate .venv/bin/python -m " +
				"flask --app counter.run db " +
				"upgrade; serves .venv/bin/python -m flask --app counter.run run --port 5000 on " +
				"5000"},
		"fastapi with a queue": {files{"pyproject.toml": "[project]\nname = " +
			"\"office\"\ndependencies = [\"fastapi\", " +
			"\"uvicorn\", \"celery\"]\n", "uv.lock": "", "office/main.py": "from fastapi import " +
			"FastAPI\napp = FastAPI()\n", "office/worker.py": "queue = Celery(\"office\", " +
			"broker=queue())\n"},
			"uv fastapi; install uv sync --frozen; serves uv run --no-sync uvicorn " +
				"office.main:app --port 8000 on 8000; " +
				"worker serves uv run --no-sync celery --app office.worker worker --loglevel=INFO"},
		"streamlit": {files{"requirements.txt": "streamlit\n",
			"app.py": "import streamlit as st\n"},
			"pip streamlit; install sh -c python3 -m venv .venv && .venv/bin/python -m pip " +
				"install " +
				"--disable-pip-version-check -r requirements.txt; serves .venv/bin/python -m " +
				"streamlit run app.py --server.headless true --server.port 8501 on 8501"},
		"nest": {files{"package.json": `{"scripts": {"start": "nest start", "start:dev": "nest start --watch", ` +
			`"start:prod": "node dist/main", "build": "nest build"}, "dependencies": {"@nestjs/core": "10"}}`,
			"package-lock.json": "{}", "src/main.ts": "await app.listen(process.env.PORT ?? " +
				"3108);\n"}, "npm nest; install npm ci; serves npm run start:dev on 3108 by PORT"},
		"express with a build": {files{"package.json": `{"scripts": ` +
			`{"start": "node dist/server.js", "build": "tsc"}, ` +
			`"dependencies": {"express": "4"}}`, "package-lock.json": "{}",
			"src/server.ts": "app.listen(3109)\n"},
			"npm express; install npm ci; build npm run build; serves npm run start on 3109 by " +
				"PORT"},
		"knex": {files{"package.json": `{"scripts": {"dev": "nodemon server.js"}, "dependencies": {"knex": "3", ` +
			`"express": "4"}}`, "package-lock.json": "{}", "knexfile.js": "", "migrations/1.js": "",
			"server.js": "app.listen(3110)\n"},
			"npm express; install npm ci; migrate npm exec -- knex migrate:latest; serves npm " +
				"run dev on 3110 by PORT"},
		"prisma": {files{"package.json": `{"scripts": {"dev": "next dev"}, "dependencies": {"next": "15", ` +
			`"@prisma/client": "6"}, "devDependencies": {"prisma": "6"}}`,
			"package-lock.json":    "{}",
			"prisma/schema.prisma": "", "prisma/migrations/1/migration.sql": ""},
			"npm next; install npm ci; generate npm exec -- prisma generate; migrate npm exec " +
				"-- prisma migrate deploy; serves npm run dev on 3000 by PORT"},
		"drizzle": {files{"package.json": `{"scripts": {"dev": "vite dev"}, "devDependencies": {"vite": "6", ` +
			`"@sveltejs/kit": "2", "drizzle-kit": "0.30"}}`, "pnpm-lock.yaml": "",
			"drizzle/0000.sql": "", "drizzle.config.ts": "export default {out: './drizzle'}\n"},
			"pnpm sveltekit; install pnpm install --frozen-lockfile; migrate pnpm exec " +
				"drizzle-kit migrate; serves pnpm run dev on 5173 by --port {port}"},
		"side by side": {files{"package.json": `{"scripts": {"dev": "concurrently \"npm:dev:*\"", "dev:api": ` +
			`"node --watch api.js", "dev:css": "sass --watch a.scss a.css"}, "devDependencies": {"concurrently": "9"}}`,
			"package-lock.json": "{}", "api.js": "createServer().listen(3111)\n"},
			"npm; install npm ci; serves npm run dev on 3111 by PORT"},
		"go": {files{"go.mod": "module a.example/quay\ngo 1.24\nrequire " +
			"github.com/gofiber/fiber/v2 v2.52.0\n",
			"go.sum": "", "main.go": "package main\nimport " +
				"\"github.com/gofiber/fiber/v2\"\nfunc main() {\napp.Listen(\":3112\")\n}\n"},
			"go; install go mod download; build go build -o /dev/null .; test go test ./...; " +
				"serves go run . on 3112 by PORT"},
		"a tool of go": {files{"go.mod": "module a.example/tide\ngo 1.24\n",
			"main.go": "package main\nfunc main() {}\n"}, "go; test go test ./..."},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if got := told(found(t, c.files)); got != c.want {
				t.Errorf("\n got %s\nwant %s", got, c.want)
			}
		})
	}
}
