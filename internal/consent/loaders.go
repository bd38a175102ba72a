package consent

import (
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// A variable can make a program load code, or be another one, without a word of the command being
// changed. Nobody can list all that do: every runtime, package manager, shell and loader has its
// own, and brings more. So they are told by families, whatever their case, and by what their values
// look like: a value that is a bare word or a number makes nothing load anything, as
// NODE_ENV=production, unless the variable is there for nothing else.

// alwaysLoads are variables whose only use it is to change what is loaded or run, whatever they
// hold.
var alwaysLoads = expr.New(`(?i)^(LD_\w+|DYLD_\w+|NODE_OPTIONS|NODE_PATH|NODE_REPL_EXTERNAL_MODULE|` +
	`PYTHON(PATH|STARTUP|HOME|BREAKPOINT|INSPECT|EXECUTABLE|PLATLIBDIR|USERBASE)|BASH_ENV|ENV|BASH_FUNC_.*|` +
	`ZDOTDIR|PROMPT_COMMAND|PS4|IFS|SHELLOPTS|BASHOPTS|PATH|SHELL|PATHEXT|COMSPEC|` +
	`(_?JAVA_TOOL|JDK_JAVA|_JAVA)_OPTIONS|CLASSPATH|RUBY(OPT|LIB|PATH)|` +
	`PERL5(OPT|LIB|DB)|PERLLIB|GIT_\w+|SSH_ASKPASS|SUDO_ASKPASS|EDITOR|VISUAL|PAGER|MANPAGER|BROWSER|LESSOPEN|` +
	`LESSCLOSE|BUNDLE_GEMFILE|GEM_(HOME|PATH)|GOFLAGS|GOTOOLCHAIN|GOROOT|RUSTC(_\w*)?WRAPPER|RUSTFLAGS|PHPRC|` +
	`PHP_INI_SCAN_DIR|(GNU)?MAKEFLAGS|MAKEFILES|GCONV_PATH|LOCPATH|HOSTALIASES|OPENSSL_(CONF|MODULES|ENGINES)|` +
	`DOTNET_STARTUP_HOOKS|CORECLR_PROFILER\w*|COR_PROFILER\w*|LUA_(INIT|PATH|CPATH)\w*|ERL_\w*FLAGS|ERL_LIBS|` +
	`ELIXIR_ERL_OPTIONS|CURL_HOME|WGETRC|NETRC|DOCKER_(HOST|CONFIG|CONTEXT)|TCLLIBPATH|R_(PROFILE|ENVIRON)\w*|` +
	`JULIA_\w+|GIO_EXTRA_MODULES|GTK_MODULES|QT_PLUGIN_PATH|VIMINIT|XDG_\w+_(HOME|DIRS)|HOME)$`)

// moreFamilies are beginnings of variables that shells, loaders and runtimes obey, beside those of
// the ecosystems.
var moreFamilies = []string{"BASH_", "ZSH_", "FISH_", "SSH_", "GPG_", "JVM_", "JDK_", "JAVA_",
	"CORECLR_", "COR_",
	"MSBUILD", "NUGET_", "COREPACK_", "VOLTA_", "NVM_", "FNM_", "ASDF_", "MISE_", "RBENV_",
	"PYENV_", "GEM_", "RUBY",
	"PYTHON", "PHP_", "CGO_", "CARGO_", "RUSTC_", "RUSTUP_", "ERL_", "HEX_", "REBAR_", "GHC",
	"OPAM", "LUA_", "TCL",
	"CMAKE_", "CC_", "CXX_", "PKG_CONFIG", "MALLOC_", "GLIBC_", "NLSPATH", "OPENSSL_", "COMPOSE_",
	"DOCKER_",
	"TS_NODE_", "ELECTRON_", "VITE_NODE_", "WEBPACK_", "BABEL_", "DENO_", "PRISMA_", "PLAYWRIGHT_",
	"PUPPETEER_"}

// families are the beginnings of variables by which the package managers and runtimes that are
// known here are told how to work, in upper case.
var families = sync.OnceValue(func() []string {
	out := slices.Clone(moreFamilies)
	for _, name := range ecosystem.Programs() {
		out = append(out, strings.ToUpper(strings.NewReplacer("-", "_", ".",
			"_").Replace(name))+"_")
	}
	slices.Sort(out)
	return slices.Compact(out)
})

var (
	// optionsOf are the endings of names whose values are options of a program.
	optionsOf = expr.New(`(?i)(_OPTIONS?|_OPTS?|_FLAGS|_ARGS|_PRELOAD|_AGENT|_WRAPPER|_HOOKS?|_LOADER|OPTS|FLAGS)$`)
	// anOption is a value that has one of a program's options in it.
	anOption = expr.New(`(^|\s)--?[A-Za-z][\w-]*([=:\s]|$)`)
	// bare is a value that names nothing: a word, a number, a version, an address of one's own
	// machine.
	bare = expr.New(`^[\w@,+]*[\w@,.:+ -]{0,80}$`)
)

// loads tells why a variable that something gets can make it load code, or be another program:
// empty where nothing speaks for it. The folder is where it runs.
func loads(fsys fs.FS, key, value, folder string) string {
	upper := strings.ToUpper(key)
	inFamily := slices.ContainsFunc(families(),
		func(f string) bool { return strings.HasPrefix(upper, f) })
	switch {
	case value == "":
	case alwaysLoads.MatchString(key):
		return "which can load code"
	case inFamily && (!bare.MatchString(value) || strings.HasPrefix(value, "-") ||
		codeFile(fsys, value, folder) != ""):
		return "which can load code"
	case optionsOf.MatchString(key) && anOption.MatchString(value):
		return "which can be options of a program"
	case codeFile(fsys, value, folder) != "":
		return "which names a program"
	}
	return ""
}

// codeFile is the file of the checkout that a value names, or that an option in it does, if it can
// be run or loaded.
func codeFile(fsys fs.FS, value, folder string) string {
	for word := range strings.FieldsFuncSeq(value, func(r rune) bool {
		return strings.ContainsRune(" \t\n=:;,|&\"'", r)
	}) {
		for _, at := range []string{folder, "."} {
			name := path.Join(at, word)
			if !filepath.IsLocal(filepath.FromSlash(name)) || name == "." {
				continue
			}
			info, err := fs.Stat(fsys, name)
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			if isCode.MatchString(name) || info.Mode()&0o111 != 0 {
				return name
			}
		}
	}
	return ""
}

// value takes note of the files of the checkout that a variable names to what runs in a folder.
func (c *chain) value(key, value, folder string) {
	if name := codeFile(c.fsys, value, folder); name != "" {
		c.fileAt(name, name, folder, 0)
	}
}

// loaders tells of such variables in the settings files that what runs in a folder gets.
func loaders(fsys fs.FS, s *stack.Stack, dir string) []string {
	var out []string
	for _, e := range s.EnvFiles {
		if at := path.Dir(e.Path); at != "." && at != dir {
			continue
		}
		out = append(out, loadersOf(fsys, e.Path, dir)...)
	}
	return out
}

// loadersOf tells of such variables in one settings file.
func loadersOf(fsys fs.FS, file, dir string) (out []string) {
	f, err := dotenv.Read(fsys, file)
	if f == nil || err != nil {
		return nil
	}
	for _, setting := range f.Settings {
		why := loads(fsys, setting.Key, setting.Value, dir)
		if why == "" || !setting.HasValue {
			continue
		}
		text := fmt.Sprintf("with %s=%s, %s (%s:%d)", setting.Key, values.Hide(setting.Value), why,
			file, setting.Line)
		if name := codeFile(fsys, setting.Value, dir); name != "" {
			text += ", sum of " + name + " " + sumOf(fsys, name)
		}
		out = append(out, text)
	}
	return out
}
