package ecosystem

import (
	"slices"
	"strings"
	"sync"
)

func once[T any](f func() T) func() T { return sync.OnceValue(f) }

// system are tools that belong to no ecosystem: packages of several compile with them.
var system = []Tool{
	libraryTool,
	{Name: "pipx", Packages: map[string]string{"apt": "pipx", "dnf": "pipx", "brew": "pipx",
		"apk": "pipx", "pacman": "python-pipx"}},
	{Name: "corepack"},
	{Name: "gcc", Packages: map[string]string{"pacman": "base-devel", "apt": "build-essential",
		"dnf": "gcc gcc-c++", "brew": "gcc", "apk": "build-base"}},
	{Name: "g++", Packages: map[string]string{"pacman": "base-devel", "apt": "build-essential",
		"dnf": "gcc-c++", "brew": "gcc", "apk": "build-base"}},
	{Name: "pkg-config", Packages: map[string]string{"pacman": "pkgconf", "apt": "pkg-config",
		"dnf": "pkgconf-pkg-config", "brew": "pkgconf", "apk": "pkgconf"}},
	{Name: "pg_config", Packages: map[string]string{"pacman": "postgresql-libs", "apt": "libpq-dev",
		"dnf": "libpq-devel", "brew": "libpq", "apk": "libpq-dev"}},
	{Name: "mysql_config", Packages: map[string]string{"pacman": "mariadb-libs",
		"apt": "default-libmysqlclient-dev", "dnf": "mysql-devel", "brew": "mysql-client",
		"apk": "mariadb-dev"}},
	{Name: "openssl headers",
		Headers: []string{"/usr/include/openssl/ssl.h", "/usr/local/include/openssl/ssl.h",
			"/opt/homebrew/opt/openssl*/include/openssl/ssl.h"},
		Packages: map[string]string{"pacman": "openssl", "apt": "libssl-dev",
			"dnf": "openssl-devel", "brew": "openssl", "apk": "openssl-dev"}},
	{Name: "ldap headers", Headers: []string{"/usr/include/ldap.h", "/usr/local/include/ldap.h"},
		Packages: map[string]string{"pacman": "libldap", "apt": "libldap-dev libsasl2-dev",
			"dnf": "openldap-devel", "brew": "openldap", "apk": "openldap-dev"}},
}

// installers are programs of systems that put something on a machine.
var installers = []string{"brew", "apt", "apt-get", "dnf", "yum", "apk", "pacman", "choco",
	"winget", "scoop", "asdf", "mise", "systemctl", "service"}

// Installs reports whether a program puts something on a machine: a system's package manager, or
// one of versions.
func Installs(program string) bool {
	return slices.Contains(installers, program) ||
		slices.ContainsFunc(All, func(e *Ecosystem) bool { return slices.Contains(e.VersionManagers, program) })
}

// Tools lists all tools.
var Tools = once(func() []*Tool {
	var out []*Tool
	add := func(list []Tool) {
		for i := range list {
			out = append(out, &list[i])
		}
	}
	for _, e := range All {
		add(e.Tools)
		for _, m := range e.Managers {
			add(m.Tools)
		}
	}
	add(system)
	return out
})

// ToolNamed gives the tool of that name, or one of which nothing is known.
func ToolNamed(name string) *Tool {
	for _, t := range Tools() {
		if t.Name == name || t.Family && strings.HasPrefix(name, t.Name) {
			return t
		}
	}
	return &Tool{Name: name}
}

// toolCalled gives the name of the tool that is called so in files that list versions; empty for
// none.
func toolCalled(name string) string {
	for _, t := range Tools() {
		if slices.Contains(t.Called, name) || t.Name == name && t.Called != nil {
			return t.Name
		}
	}
	return ""
}

// toolIn gives the name of the tool that a container image brings; empty for none.
func toolIn(image string) string {
	for _, t := range Tools() {
		for _, known := range t.Images {
			if image == known || strings.HasSuffix(image, "/"+known) {
				return t.Name
			}
		}
	}
	return ""
}

// IsToolImage reports whether a container image is one of a tool alone, by its name without a tag.
func IsToolImage(name string) bool { return toolIn(name) != "" }

// PackageFor names the package that brings the tool of that name on a system with this way of
// installing; empty if it isn't known.
func (t *Tool) PackageFor(system, name string) string {
	if t.Package != nil {
		return t.Package(system, name)
	}
	return t.Packages[system]
}

// Known reports whether there is a tool of that name.
func Known(name string) bool {
	return slices.ContainsFunc(Tools(), func(t *Tool) bool { return t.Name == name })
}

// Programs are the names of all managers and tools, sorted.
func Programs() []string {
	var out []string
	for _, m := range Managers() {
		out = append(out, m.Name)
	}
	for _, t := range Tools() {
		out = append(out, t.Name)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
