package demand

import (
	"testing"

	"nimbleharbor/internal/shell"
)

// TestCalls holds small judgements of commands.
func TestCalls(t *testing.T) {
	t.Parallel()
	words := func(line string) []string { return shell.Parse(line)[0].Words }
	for command, want := range map[string]bool{"python manage.py createsuperuser": true,
		"flask create-admin":  true,
		"npm run create:user": true, "bin/add_user": true, "npm run users:load": false, "make " +
			"admin-css": false} {
		if got := asksPerson.MatchString(command); got != want {
			t.Errorf("%s asks a person: %v", command, got)
		}
	}
	for line, want := range map[string]bool{"mvn -q package": false, "mvn -Pquay package": true,
		"npm run build":         false,
		"cargo build --release": true, "gradle build --no-daemon": false, "mvn -DskipTests " +
			"package": false} {
		if got := buildsOther(words(line)); got != want {
			t.Errorf("%s builds something else: %v", line, got)
		}
	}
	for line, want := range map[string]string{"docker build -t board ./b": "board in b",
		"docker build .": " in .",
		"docker build --tag=x --build-arg A=1 --target dev c": "x in c", "docker buildx build " +
			"-t y .": "y in ."} {
		tag, dir, _ := ImageBuilt(words(line), ".")
		if got := tag + " in " + dir; got != want {
			t.Errorf("%s builds %q, want %q", line, got, want)
		}
	}
	for name, want := range map[string]string{"node@20": "node", "python3.12-venv": "python-venv",
		"openjdk-17-jdk":            "openjdk--jdk",
		"example.com/x/tool@latest": "tool", "uv==0.4": "uv", "PostgreSQL": "postgresql"} {
		if got := unversioned(name); got != want {
			t.Errorf("%s is %q, want %q", name, got, want)
		}
	}
}
