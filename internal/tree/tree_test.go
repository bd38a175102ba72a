package tree

import (
	"path/filepath"
	"strings"
	"testing"
)

func TestIgnoreRules(t *testing.T) {
	t.Parallel()
	rules := (*ignores)(nil).with(".",
		"# comment\n\n*.log\n!keep.log\n/top\nsub/dir\n**/deep\na/**/z\nonly/\n\\#odd\ntrail  "+
			"\nb[ae]d\n").with("in", "local\n!x.log\n")
	for path, want := range map[string]bool{
		"a.log": true, "d/e/a.log": true, "keep.log": false, "in/x.log": false,
		"in/keep.log": false, "top": true,
		"d/top": false, "sub/dir": true, "d/sub/dir": false,
		"deep": true, "a/b/deep": true, "a/z": true, "a/b/c/z": true, "b/z": false, "only/": true,
		"only":    false,
		"d/only/": true, "#odd": true, "trail": true,
		"bad": true, "bed": true, "bid": false, "in/local": true, "local": false, "# " +
			"comment": false,
	} {
		full, folder := strings.CutSuffix(path, "/")
		dir, name := filepath.Split(full)
		if dir = strings.TrimSuffix(dir, "/"); dir == "" {
			dir = "."
		}
		set := rules
		if dir != "in" {
			set = rules.parent
		}
		if got := set.ignored(dir, name, folder); got != want {
			t.Errorf("%s: ignored is %v", path, got)
		}
	}
}

// TestConfigTemplates tells templates of configuration from what tools read themselves and from
// samples.
func TestConfigTemplates(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		"database.yml.example": "database.yml", "config.example.json": "config.json",
		"local_settings.py.sample": "local_settings.py", "settings.sample.toml": "settings.toml",
		"appsettings.Development.json.example":  "appsettings.Development.json",
		"application-local.properties.template": "application-local.properties",
		"parameters.yml.dist":                   "parameters.yml",
		"config.template.php":                   "config.php",
		"example-settings.yml":                  "settings.yml",
		"sample.page.php":                       "",
		"secrets.example.rb":                    "secrets.rb", "example.env": ".env",
		"env.sample":          ".env",
		".env.docker.example": ".env.docker",
		"phpunit.xml.dist":    "", "phpstan.neon.dist": "", ".php-cs-fixer.dist.php": "",
		"data.sample.json":    "",
		"config.default.json": "", "index.example.html": "", "compose.example.yaml": "",
		"docker-compose.sample.yml": "", "page.template.js": "", "x.example": "",
		".example.json": "",
	} {
		if got, ok := TemplateOf(name); got != want || ok != (want != "") {
			t.Errorf("TemplateOf(%q) = %q, %v; want %q", name, got, ok, want)
		}
		if want != "" && !mayBeTemplate(name) {
			t.Errorf("%q is passed over", name)
		}
	}
}

func TestTemplateOf(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{
		".env.example": ".env", ".env.sample": ".env", ".env.template": ".env", ".env.dist": ".env",
		".env.defaults": ".env", "env.example": ".env",
		".env.local.example": ".env.local", ".env.example.local": ".env.local",
		"api.env.example": "api.env",
		".env-example":    ".env",
		".env":            "", "readme.example": "", "example.env": ".env", "example": "",
	} {
		if got, ok := TemplateOf(name); got != want || ok != (want != "") {
			t.Errorf("TemplateOf(%q) = %q, %v; want %q", name, got, ok, want)
		}
	}
}
