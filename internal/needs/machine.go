package needs

import (
	"bufio"
	"context"
	"errors"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/shirou/gopsutil/v4/disk"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// Local is this machine.
type Local struct {
	Dir string // the workspace

	owners sync.Once
	held   map[int]*stack.Owner
}

var colours = expr.New("\x1b\\[[0-9;]*m")

var versionNumber = expr.New(`\d+(\.\d+)+([-+][0-9A-Za-z.-]+)?|\d+`)

// versionArgs are the words that make a tool tell its version.
var versionArgs = map[string][]string{"go": {"version"}, "java": {"-version"}, "elixir": {"--short-version"}}

// headerFiles are where the headers lie that some packages compile with.
var headerFiles = map[string][]string{
	"ruby headers": {"/usr/include/ruby-*/ruby.h", "/usr/lib/ruby/*/ruby.h", "/usr/local/include/ruby-*/ruby.h",
		"/opt/homebrew/opt/ruby/include/ruby-*/ruby.h"},
	"openssl headers": {"/usr/include/openssl/ssl.h", "/usr/local/include/openssl/ssl.h",
		"/opt/homebrew/opt/openssl*/include/openssl/ssl.h"},
	"ldap headers": {"/usr/include/ldap.h", "/usr/local/include/ldap.h"},
}

func phpExtension(ctx context.Context, name string) (string, error) {
	path, err := exec.LookPath("php")
	if err != nil {
		return "", ErrNoTool
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, "-m")
	cmd.Dir = os.TempDir()
	out, err := cmd.Output()
	if err != nil {
		return "", err
	}
	for _, line := range strings.Split(string(out), "\n") {
		if strings.EqualFold(strings.TrimSpace(line), name) {
			return "loaded", nil
		}
	}
	return "", ErrNoTool
}

// LoggedIn looks at the variable, and into the files in which the managers keep logins.
func (l *Local) LoggedIn(address, variable string) bool {
	if variable != "" && os.Getenv(variable) != "" {
		return true
	}
	u, err := url.Parse(address)
	home, homeErr := os.UserHomeDir()
	if err != nil || homeErr != nil || u.Hostname() == "" {
		return false
	}
	for _, file := range []string{".npmrc", ".yarnrc.yml", ".netrc", ".config/pip/pip.conf", ".pip/pip.conf",
		".config/pypoetry/auth.toml", ".m2/settings.xml", ".gradle/gradle.properties",
		".nuget/NuGet/NuGet.Config", ".config/NuGet/NuGet.Config", ".composer/auth.json", ".config/composer/auth.json",
		".bundle/config", ".cargo/credentials.toml"} {
		if data, err := os.ReadFile(filepath.Join(home, file)); err == nil &&
			strings.Contains(string(data), u.Hostname()) {
			return true
		}
	}
	return false
}

// Version runs the tool outside of the checkout, where no file of it can have a say, and reads the version.
func (l *Local) Version(ctx context.Context, tool string) (string, error) {
	if headers := headerFiles[tool]; headers != nil {
		for _, pattern := range headers {
			if found, _ := filepath.Glob(pattern); len(found) > 0 {
				return "found in " + filepath.Dir(found[0]), nil
			}
		}
		return "", ErrNoTool
	}
	if extension, ok := strings.CutPrefix(tool, "php extension "); ok {
		return phpExtension(ctx, extension)
	}
	path, err := exec.LookPath(tool)
	if err != nil {
		return "", ErrNoTool
	}
	args := versionArgs[tool]
	if args == nil {
		args = []string{"--version"}
	}
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Dir = os.TempDir()
	out, err := cmd.CombinedOutput()
	if err != nil {
		first, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		if first == "" {
			first = err.Error()
		}
		return "", errors.New(first)
	}
	v := versionNumber.FindString(colours.ReplaceAllString(string(out), ""))
	if v == "" {
		return "", errors.New("it does not tell its version")
	}
	return v, nil
}

// Engine connects to the engine that a launch would use.
func (l *Local) Engine(ctx context.Context) (string, error) {
	e, err := engine.Connect(ctx)
	if err != nil {
		return "", err
	}
	defer e.Close()
	return e.Version, nil
}

// PortFree tries to listen on the port.
func (l *Local) PortFree(host string, port int) (bool, *stack.Owner) {
	if sockets.Free(host, port) {
		return true, nil
	}
	l.owners.Do(func() { l.held = sockets.Owners() })
	return false, l.held[port]
}

// DiskFree asks the file system of the workspace.
func (l *Local) DiskFree() (uint64, error) {
	u, err := disk.Usage(l.Dir)
	if err != nil {
		return 0, err
	}
	return u.Free, nil
}

// packages names a tool's package for each way of installing.
var packages = map[string]map[string]string{
	"node":    {"apt": "nodejs npm", "dnf": "nodejs", "brew": "node", "apk": "nodejs npm"},
	"npm":     {"apt": "npm", "dnf": "nodejs-npm", "brew": "node", "apk": "npm"},
	"python3": {"apt": "python3 python3-venv", "dnf": "python3", "brew": "python", "apk": "python3"},
	"go":      {"apt": "golang", "dnf": "golang", "brew": "go", "apk": "go"},
	"java": {"apt": "default-jdk", "dnf": "java-latest-openjdk-devel", "brew": "openjdk",
		"apk": "openjdk21"},
	"mvn":        {"apt": "maven", "dnf": "maven", "brew": "maven", "apk": "maven"},
	"gradle":     {"apt": "gradle", "dnf": "gradle", "brew": "gradle", "apk": "gradle"},
	"ruby":       {"apt": "ruby-full", "dnf": "ruby", "brew": "ruby", "apk": "ruby"},
	"bundle":     {"apt": "ruby-bundler", "dnf": "rubygem-bundler", "brew": "ruby", "apk": "ruby-bundler"},
	"php":        {"apt": "php-cli", "dnf": "php-cli", "brew": "php", "apk": "php"},
	"composer":   {"apt": "composer", "dnf": "composer", "brew": "composer", "apk": "composer"},
	"cargo":      {"apt": "cargo", "dnf": "cargo", "brew": "rust", "apk": "cargo"},
	"elixir":     {"apt": "elixir", "dnf": "elixir", "brew": "elixir", "apk": "elixir"},
	"mix":        {"apt": "elixir", "dnf": "elixir", "brew": "elixir", "apk": "elixir"},
	"dotnet":     {"dnf": "dotnet-sdk-8.0", "brew": "dotnet", "apk": "dotnet8-sdk"},
	"pipenv":     {"apt": "pipenv", "dnf": "pipenv", "brew": "pipenv"},
	"poetry":     {"apt": "python3-poetry", "dnf": "poetry", "brew": "poetry", "apk": "poetry"},
	"uv":         {"dnf": "uv", "brew": "uv", "apk": "uv"},
	"make":       {"apt": "make", "dnf": "make", "brew": "make", "apk": "make"},
	"gcc":        {"apt": "build-essential", "dnf": "gcc gcc-c++", "brew": "gcc", "apk": "build-base"},
	"g++":        {"apt": "build-essential", "dnf": "gcc-c++", "brew": "gcc", "apk": "build-base"},
	"pkg-config": {"apt": "pkg-config", "dnf": "pkgconf-pkg-config", "brew": "pkgconf", "apk": "pkgconf"},
	"pg_config":  {"apt": "libpq-dev", "dnf": "libpq-devel", "brew": "libpq", "apk": "libpq-dev"},
	"mysql_config": {"apt": "default-libmysqlclient-dev", "dnf": "mysql-devel", "brew": "mysql-client",
		"apk": "mariadb-dev"},
	"ruby headers":    {"apt": "ruby-dev", "dnf": "ruby-devel", "brew": "ruby", "apk": "ruby-dev"},
	"openssl headers": {"apt": "libssl-dev", "dnf": "openssl-devel", "brew": "openssl", "apk": "openssl-dev"},
	"ldap headers": {"apt": "libldap-dev libsasl2-dev", "dnf": "openldap-devel", "brew": "openldap",
		"apk": "openldap-dev"},
}

// managers names tools that are installed with another tool rather than with the system's own.
var managers = map[string]string{"yarn": "corepack enable yarn", "pnpm": "corepack enable pnpm",
	"bun": "npm install --global bun", "diesel": "cargo install diesel_cli", "sqlx": "cargo install sqlx-cli",
	"uv": "pip install --user uv"}

// Install gives the system's own command for a tool.
func (l *Local) Install(tool string) string {
	p := packages[tool]
	how := system()
	if extension, ok := strings.CutPrefix(tool, "php extension "); ok && how == "apt" {
		return "sudo apt-get install php-" + strings.TrimPrefix(extension, "pdo_")
	}
	switch {
	case p[how] == "" && managers[tool] != "":
		return managers[tool]
	case p[how] == "":
		return ""
	case how == "apt":
		return "sudo apt-get install " + p[how]
	case how == "dnf":
		return "sudo dnf install " + p[how]
	case how == "apk":
		return "sudo apk add " + p[how]
	}
	return "brew install " + p[how]
}

func system() string {
	if runtime.GOOS == "darwin" {
		return "brew"
	}
	f, err := os.Open("/etc/os-release")
	if err != nil {
		return ""
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		key, value, _ := strings.Cut(lines.Text(), "=")
		if key != "ID" && key != "ID_LIKE" {
			continue
		}
		switch value = strings.Trim(value, `"`); {
		case strings.Contains(value, "debian"), strings.Contains(value, "ubuntu"):
			return "apt"
		case strings.Contains(value, "fedora"), strings.Contains(value, "rhel"):
			return "dnf"
		case strings.Contains(value, "alpine"):
			return "apk"
		}
	}
	return ""
}
