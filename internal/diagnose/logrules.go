package diagnose

import "nimbleharbor/internal/expr"

// rank is how near to its root a rule comes. Of several that hold, the nearer one is the cause.
type rank int

const (
	harmless rank = iota // looks bad, and is not the cause of anything here
	follows              // follows from something else
	direct
	root
)

// LogRule knows a cause by a line of a log.
type LogRule struct {
	Code string
	rank rank
	// passing is true for what a server gets over by itself: it counts only if nothing came up afterwards.
	passing bool
	line    *expr.Expr
	// Cause and Remedy are what is said: {1} is the first group of the line that holds something, {2} the second.
	// What stands in brackets is left out where its group holds nothing.
	Cause, Remedy string
	// Known gives, by what {1} holds, the word {known}; where it has none, Otherwise is the remedy.
	Known     map[string]string
	Otherwise string
	// Dotted is the remedy where {1} is a name with a dot in it.
	Dotted string
}

func rule(code string, r rank, line, cause, remedy string) LogRule {
	return LogRule{Code: code, rank: r, line: expr.New(line), Cause: cause, Remedy: remedy}
}

// passes is a rule for what a server gets over by itself.
func passes(code string, r rank, line, cause, remedy string) LogRule {
	out := rule(code, r, line, cause, remedy)
	out.passing = true
	return out
}

// known is a rule whose remedy depends on what the line names.
func known(code string, r rank, line, cause, remedy, otherwise string, of map[string]string) LogRule {
	out := rule(code, r, line, cause, remedy)
	out.Known, out.Otherwise = of, otherwise
	return out
}

// Logs are the rules for lines of logs. Each is found by the words that its pattern can't do without; a pattern
// without any of four letters or more is refused by a test. Where one line fits two rules, the earlier one is told.
var Logs = concat(nativeBuilds, versions, lockFiles, packages, registries, machine, ports, containers, databases,
	encryption, missing, modules, builds, others)

// dotted adds the remedy for names with a dot.
func dotted(r LogRule, remedy string) LogRule {
	r.Dotted = remedy
	return r
}

func concat(lists ...[]LogRule) (out []LogRule) {
	for _, l := range lists {
		out = append(out, l...)
	}
	return out
}

// headers are the packages of Debian and Ubuntu that bring a header; libraries those that bring a library for linking.
var headers = map[string]string{"Python.h": "python3-dev", "libpq-fe.h": "libpq-dev", "pg_config.h": "libpq-dev",
	"mysql.h": "default-libmysqlclient-dev", "mysql/mysql.h": "default-libmysqlclient-dev", "ffi.h": "libffi-dev",
	"openssl/ssl.h": "libssl-dev", "openssl/opensslv.h": "libssl-dev", "openssl/evp.h": "libssl-dev",
	"zlib.h": "zlib1g-dev", "yaml.h": "libyaml-dev", "jpeglib.h": "libjpeg-dev", "png.h": "libpng-dev",
	"libxml/xmlversion.h": "libxml2-dev", "libxml/parser.h": "libxml2-dev", "libxslt/xslt.h": "libxslt1-dev",
	"sqlite3.h": "libsqlite3-dev", "curl/curl.h": "libcurl4-openssl-dev", "ldap.h": "libldap2-dev",
	"lber.h": "libldap2-dev", "sasl/sasl.h": "libsasl2-dev", "magic.h": "libmagic-dev", "vips/vips.h": "libvips-dev",
	"MagickWand/MagickWand.h": "libmagickwand-dev", "pixman.h": "libpixman-1-dev", "cairo.h": "libcairo2-dev",
	"ruby.h": "ruby-dev", "ruby/ruby.h": "ruby-dev", "libgit2/git2.h": "libgit2-dev", "gmp.h": "libgmp-dev",
	"bzlib.h": "libbz2-dev", "lzma.h": "liblzma-dev", "readline/readline.h": "libreadline-dev",
	"X11/Xlib.h": "libx11-dev", "uuid/uuid.h": "uuid-dev", "sodium.h": "libsodium-dev", "zmq.h": "libzmq3-dev"}

var libraries = map[string]string{"pq": "libpq-dev", "ssl": "libssl-dev", "crypto": "libssl-dev", "z": "zlib1g-dev",
	"ffi": "libffi-dev", "sqlite3": "libsqlite3-dev", "mysqlclient": "default-libmysqlclient-dev",
	"xml2": "libxml2-dev", "curl": "libcurl4-openssl-dev", "openssl": "libssl-dev", "libpq": "libpq-dev",
	"cairo": "libcairo2-dev", "pixman-1": "libpixman-1-dev", "pangocairo": "libpango1.0-dev", "vips": "libvips-dev",
	"libxml-2.0": "libxml2-dev", "libffi": "libffi-dev", "sqlite": "libsqlite3-dev", "alsa": "libasound2-dev",
	"mysql": "default-libmysqlclient-dev", "mariadb": "default-libmysqlclient-dev", "protobuf": "libprotobuf-dev"}

const compilers = "Install a compiler and make, on Debian and Ubuntu: sudo apt-get install build-essential"

var nativeBuilds = []LogRule{
	rule(
		"python-for-native-code",
		root,
		`find Python.*(?:not found|is not set)|Could not find any Python installation to use|`+
			`Can't find Python executable`,
		"a package with native code is built by a tool that needs Python, and none was found",
		"Install python3 and install the dependencies again.",
	),
	rule("compiler-missing", root,
		`not found: make\b|unable to execute '(?:\S*-)?(?:gcc|g\+\+|cc|c\+\+)'|`+
			`command '(?:\S*-)?(?:gcc|g\+\+|cc|clang)' failed: No such file|linker .cc. not found|`+
			`\b(?:make|sh)(?:\[\d+\])?: (?:\d+: )?(?:g\+\+|gcc|cc|c\+\+): (?:No such file|not found|`+
			`Command not found)|`+
			`exec: "(?:gcc|cc|g\+\+)": executable file not found|No CMAKE_C(?:XX)?_COMPILER could be found|`+
			`no acceptable C compiler found|C compiler "\S+" not found`,
		"native code has to be compiled, and this machine has no compiler for it", compilers),
	known("header-missing", root,
		`fatal error: '?([\w./+-]+\.h(?:pp)?)'?(?: file not found|: No such file or directory)`,
		"native code is compiled, and the header {1} is missing",
		"Install the package that has it, on Debian and Ubuntu: sudo apt-get install {known}",
		"Install the development package of the library that has {1}, and do it again.", headers),
	known("library-missing", root, `(?:/ld(?:\.\w+)?: |ld: )(?:cannot find|library not found for) -l([\w+.-]+)`,
		"native code is linked, and the library {1} is missing",
		"Install it with its development files, on Debian and Ubuntu: sudo apt-get install {known}",
		"Install the library {1} with its development files, and do it again.", libraries),
	rule(
		"pg-config-missing",
		root,
		`pg_config executable not found|Unable to find pg_config|can't find the PostgreSQL client library`,
		"a driver for PostgreSQL is compiled, and PostgreSQL's client library is missing",
		"Install it, on Debian and Ubuntu: sudo apt-get install libpq-dev",
	),
	rule(
		"mysql-config-missing",
		root,
		`mysql_config[: ].*not found|Can not find valid pkg-config name|mysql client is missing`,
		"a driver for MySQL is compiled, and MySQL's client library is missing",
		"Install it, on Debian and Ubuntu: sudo apt-get install default-libmysqlclient-dev pkg-config",
	),
	rule(
		"pkg-config-missing",
		root,
		`pkg-config: (?:command )?not found|pkg-config command could not be run|[Cc]ould not run pkg-config`,
		"native code looks for its libraries with pkg-config, which is not installed",
		"Install it, on Debian and Ubuntu: sudo apt-get install pkg-config",
	),
	known(
		"library-not-described",
		root,
		`No package '([\w.+-]+)' found|Package ([\w.+-]+) was not found in the pkg-config search path|`+
			`library .([\w.+-]+). required by crate .* was not found`,
		"native code is built, and the library {1} is missing",
		"Install it with its development files, on Debian and Ubuntu: sudo apt-get install {known}",
		"Install the library {1} with its development files, and do it again.",
		libraries,
	),
	rule(
		"rust-for-native-code",
		root,
		`can't find Rust compiler|the Rust package manager, is not installed`,
		"a package with native code needs Rust to be built",
		"Install Rust, or take a version of the package that comes built.",
	),
	rule(
		"cmake-missing",
		root,
		`CMake must be installed to build|is .cmake. not installed\?|`+
			`failed to execute command: No such file or directory.*cmake`,
		"a package with native code needs CMake to be built",
		"Install it, on Debian and Ubuntu: sudo apt-get install cmake",
	),
	rule(
		"shared-library-missing",
		root,
		`error while loading shared libraries: ([\w.+-]+): cannot open`,
		"the program needs the library {1}, which this system does not have",
		"Install the package that has {1}, and start it again.",
	),
	rule("c-library-too-old", root, `version .GLIBC_([\d.]+). not found|version .(GLIBCXX_[\d.]+). not found`,
		"the program was built for a newer system: it wants the C library {1}",
		"Install a build for this system, or run it in a container."),
	rule(
		"built-for-another-runtime",
		root,
		`was compiled against a different Node\.js version|Module did not self-register|`+
			`invalid ELF header|incompatible library version`,
		"a package with native code was built for another runtime or system than the one that loads it",
		"Throw the installed packages away and install them again with the runtime that runs them.",
	),
	rule(
		"package-of-another-platform",
		root,
		`Cannot find (?:module|native binding).*@(rollup|esbuild|swc|next|parcel|tailwindcss|rolldown|oxc[\w-]*|`+
			`lightningcss[\w-]*)/?[\w-]*(?:linux|darwin|win32)|`+
			`You installed (esbuild) for another platform`,
		"{1} is installed without the part for this system: the packages were installed on another one, or optional "+
			"ones were left out",
		"Throw node_modules away and install again here.",
	),
}

var versions = []LogRule{
	rule("engine-version", root, `The engine "(\w+)" is incompatible with this module\. Expected version "([^"]+)"`,
		"a package wants {1} {2}, and another version runs", "Install {1} {2} beside it, with a version manager."),
	rule(
		"engine-version-refused",
		root,
		`(?:ERR!|error) code EBADENGINE|ERR_PNPM_UNSUPPORTED_ENGINE|Not compatible with your version of node`,
		"a package wants another version of Node.js than the one that runs",
		"The lines below say which; install it beside it, with a version manager.",
	),
	rule(
		"node-too-new",
		root,
		`ERR_OSSL_EVP_UNSUPPORTED|error:0308010C:digital envelope routines`,
		"the build tool is older than this Node.js: it uses a digest that is not offered any more",
		"Use the version of Node.js that the project was made for (16 or older), or set "+
			"NODE_OPTIONS=--openssl-legacy-provider.",
	),
	rule(
		"package-manager-version",
		root,
		`defines "packageManager": "?([\w@.+-]+)|This project is configured to use (\w+)|`+
			`ERR_PNPM_BAD_PM_VERSION|Your pnpm version is incompatible`,
		"the project wants another package manager or version of it[: {1}]",
		"Run it through corepack, or install that version.",
	),
	rule("python-version", root, `requires a different Python: ([\d.]+) not in '([^']+)'`,
		"the project wants Python {2}, and Python {1} runs", "Install Python {2} beside it, with a version manager."),
	rule(
		"python-version-not-supported",
		root,
		`(?:currently activated )?Python version ([\d.]+) is not supported by the project \(([^)]+)\)|`+
			`Requires-Python ([^;\s]+)|requested Python version .* (?:incompatible|does not satisfy)|`+
			`No interpreter found for Python ([\d.]+)`,
		"the project wants another version of Python than the one that runs[: {1}][, {2}]",
		"Install the version that it wants beside it, with a version manager.",
	),
	rule(
		"python-too-new",
		root,
		`No module named '?(distutils|imp|pkg_resources|asynchat|cgi)\b`,
		"the code is older than this Python, which has no module {1} any more",
		"Use the version of Python that the project was made for; for pkg_resources it is enough to install "+
			"setuptools below 81.",
	),
	rule("ruby-version", root, `Your Ruby version is ([\d.p]+), but your Gemfile specified ([^\s]+(?: [\d.]+)?)`,
		"the project wants Ruby {2}, and Ruby {1} runs", "Install Ruby {2} beside it, with a version manager."),
	rule("go-version", root, `go\.mod requires go >= ([\d.]+) \(running go ([\d.]+)`,
		"the project wants Go {1}, and Go {2} runs", "Install Go {1}, or allow it to be fetched: GOTOOLCHAIN=auto."),
	rule(
		"java-version",
		root,
		`UnsupportedClassVersionError|(?:has been compiled|compiled) by a more recent version of the Java|`+
			`invalid (?:target|source) release: ([\d.]+)|release version ([\d.]+) not supported|`+
			`Unsupported class file major version (\d+)`,
		"the code and the Java that runs are of different versions[ ({1})]",
		"Install the version that the project is made for, and let JAVA_HOME point at it.",
	),
	rule(
		"dotnet-version",
		root,
		`compatible \.NET SDK was not found|\.NET SDK does not support targeting (\.NET [\d.]+)|`+
			`You must install or update \.NET to run this`,
		"the project wants another version of .NET than is installed[: {1}]",
		"Install that version of the SDK beside it.",
	),
	rule("rust-version", root, `requires rustc ([\d.]+) or newer|rustc ([\d.]+) is not supported by the following`,
		"the project and this Rust are of different versions[ ({1})]", "Update Rust: rustup update"),
	rule("elixir-version", root, `on Elixir v([\d.]+) but it has declared .*?supports only Elixir "?([^"\n]+?)"?\s*$`,
		"the project wants Elixir {2}, and Elixir {1} runs", "Install Elixir {2} beside it, with a version manager."),
	rule(
		"php-version",
		root,
		`requires php ([^\s]+).*?(?:your php version|PHP version) \(?([\d.]+)`,
		"a package wants PHP {1}, and PHP {2} runs",
		"Install a PHP that fits beside it, or take a release of the project that fits.",
	),
	rule(
		"php-extension",
		root,
		`requires? (?:PHP extension )?ext-(\w+)[ *].*missing|requires ext-(\w+) .*(?:missing|not (?:installed|loaded))`,
		"PHP lacks the extension {1}",
		"Install it, on Debian and Ubuntu: sudo apt-get install php-{1}",
	),
	rule("gem-ruby-version", root, `requires Ruby version ([^.]+\.\d+)\.? The current ruby version is ([\d.]+)`,
		"a gem wants Ruby {1}, and Ruby {2} runs", "Install a Ruby that fits beside it, with a version manager."),
}

const lockAgain = "Install once without the demand that the lock file stays as it is, look at what it has changed, " +
	"and commit it."

var lockFiles = []LogRule{
	rule(
		"lock-file-out-of-step",
		root,
		`can only install packages when your package\.json and|ERR_PNPM_OUTDATED_LOCKFILE|`+
			`ERR_PNPM_LOCKFILE_CONFIG_MISMATCH|`+
			`lockfile needs to be updated, but|lockfile would have been (?:modified|created) by this install|`+
			`lockfile had changes, but lockfile is frozen`,
		"the lock file is out of step with package.json",
		lockAgain,
	),
	rule(
		"lock-file-out-of-step-python",
		root,
		`pyproject\.toml changed significantly since poetry\.lock|poetry\.lock is not up to date|`+
			`lockfile at .uv\.lock. needs to be updated|Pipfile\.lock .*out of date`,
		"the lock file is out of step with the manifest",
		lockAgain,
	),
	rule(
		"lock-file-out-of-step-others",
		root,
		`lockfile (?:does not satisfy|is missing) dependencies|trying to install in deployment mode after changing|`+
			`lock file does not contain a compatible set of packages|(?:needs to be updated but|`+
			`lock file \S+ because) --locked was passed|`+
			`lock file .* needs to be updated but --(?:locked|frozen) was`,
		"the lock file is out of step with the manifest",
		lockAgain,
	),
	rule(
		"go-sum-incomplete",
		root,
		`missing go\.sum entry|updates to go\.mod needed|go: go\.mod file indicates go .* but maximum`,
		"go.sum or go.mod is out of step with the code",
		"Run go mod tidy, look at what it has changed, and commit it.",
	),
	rule("module-checksum", root, `checksum mismatch|hash mismatch|THESE PACKAGES DO NOT MATCH THE HASHES|EINTEGRITY`,
		"a package that was fetched is not the one that the lock file knows",
		"Clear the package manager's cache and fetch again; if it stays, ask whoever changed the lock file."),
}

var packages = []LogRule{
	rule("peer-conflict", root, `(?:ERR!|error) code ERESOLVE|ERESOLVE (?:could not resolve|unable to resolve)`,
		"two packages want versions of a third that exclude each other",
		"Use the version of the package manager that the project was made with, or install with --legacy-peer-deps."),
	rule(
		"dependency-conflict",
		root,
		`ResolutionImpossible|conflicting dependencies|version solving failed|`+
			`Bundler could not find compatible versions|`+
			`Your requirements could not be resolved to an installable set`,
		"the versions that are asked for exclude each other",
		"The lines around it say which; loosen one, or take the lock file's versions.",
	),
	rule("externally-managed", root, `externally-managed-environment`,
		"this system's Python may not be installed into", "Use a virtual environment: python3 -m venv .venv"),
	rule(
		"venv-missing",
		root,
		`ensurepip is not available|No module named '?venv\b`,
		"this system's Python can't make virtual environments",
		"Install what it lacks, on Debian and Ubuntu: sudo apt-get install python3-venv",
	),
	rule(
		"package-unknown",
		root,
		`No matching distribution found for ([\w.\[\]=<>~!-]+)|404 +Not Found.*?'(@?[\w./-]+)@|`+
			`requested resource '(@?[\w./-]+)@|`+
			`(?:ERR!|error) 404.*'(@?[\w./-]+)@[^']*' is not in|`+
			`Could not find a version that satisfies the requirement ([\w.-]+)|`+
			`Could not find artifact ([\w.:-]+)|no matching package named .([\w-]+). found|`+
			`Unable to find package ([\w.]+)\.`,
		"no source has the package {1}",
		"If it is a private one, register its source and log in; else correct the name or the version.",
	),
	rule(
		"script-unknown",
		root,
		`[Mm]issing script: "?([\w:.-]+)"?|ERR_PNPM_NO_SCRIPT|No rule to make target '([^']+)'|`+
			`The task "([\w.:-]+)" could not be found|Don't know how to build task '([^']+)'|`+
			`Command "([\w:.-]+)" is not defined|Task '([\w:.-]+)' not found`,
		"there is no script or task {1} in this checkout",
		"See which there are, and correct the command.",
	),
	rule("hex-missing", root, `Could not find Hex, which is needed|Could not find an SCM for dependency`,
		"Elixir's package manager is not installed", "Install it: mix local.hex --force && mix local.rebar --force"),
	rule(
		"gem-native-failed",
		follows,
		`Failed to build gem native extension`,
		"a gem with native code could not be built",
		"The lines around it, and the file mkmf.log that they name, say why.",
	),
	rule(
		"wheel-failed",
		follows,
		`Failed building wheel for ([\w.-]+)|Failed to build installable wheels|(?:ERROR|`+
			`error): Failed to build ([\w.-]+)`,
		"a Python package with native code could not be built[: {1}]",
		"The lines above it say why.",
	),
	rule("native-build-failed", follows, `gyp ERR! build error|node-pre-gyp ERR! build error`,
		"a package with native code could not be built", "The lines above it say why."),
}

var registries = []LogRule{
	rule(
		"registry-login",
		root,
		`(?:ERR!|error) code (?:E401|E403|ENEEDAUTH)\b|ERR_PNPM_FETCH_40[13]|401 Client Error|`+
			`HTTP Basic: Access denied|`+
			`Authentication is required for \S+|Bad username or password.*(?:source|gem)|Unauthorized.*(?:nuget|`+
			`index\.json)|status code: 40[13].*(?:repo|maven)`,
		"a package source wants a login",
		"Get one from whoever runs it, and put it where the package manager looks for it; never into the checkout.",
	),
	rule(
		"image-login",
		root,
		`pull access denied for ([\w./-]+)|unauthorized: authentication required|`+
			`requested access to the resource is denied`,
		"the image[ {1}] is private or does not exist",
		"Log the engine in at its registry, or correct the name.",
	),
	rule(
		"image-unknown",
		root,
		`manifest for (\S+) not found|manifest unknown|no such image: (\S+)|No such image`,
		"the image[ {1}] does not exist in this version",
		"Correct the tag, or build the image that the project makes itself.",
	),
	rule(
		"git-login",
		root,
		`Permission denied \(publickey|could not read Username for|remote: (?:HTTP Basic: Access denied|`+
			`Invalid username or (?:password|token))|Host key verification failed`,
		"git may not read a repository: it is private, or no key or login was offered",
		"Get access, and try it by hand: git ls-remote ADDRESS",
	),
	rule(
		"repository-unknown",
		root,
		`fatal: repository '([^']+)' (?:not found|does not exist)|remote: Repository not found`,
		"git knows no repository[ {1}], or you may not see it",
		"Check the address, and whether you have access.",
	),
	rule(
		"certificate-unknown",
		root,
		`SELF_SIGNED_CERT_IN_CHAIN|unable to get local issuer certificate|CERTIFICATE_VERIFY_FAILED|`+
			`signed by unknown authority|`+
			`UNABLE_TO_VERIFY_LEAF_SIGNATURE|PKIX path building failed|server certificate verification failed|`+
			`self[- ]signed certificate`,
		"a certificate is not trusted: the server signed it itself, or a proxy in between does",
		"Make its certificate authority known to the tool (for Node.js NODE_EXTRA_CA_CERTS, for Python "+
			"SSL_CERT_FILE); never switch the check off.",
	),
	rule(
		"certificate-expired",
		root,
		`certificate has expired|CERT_HAS_EXPIRED|certificate is not yet valid`,
		"a certificate has expired, or this machine's clock is wrong",
		"Check the date of this machine, then the certificate.",
	),
	rule(
		"proxy",
		root,
		`tunneling socket could not be established|ProxyError|407 Proxy Authentication|proxyconnect tcp|`+
			`Unable to connect to proxy`,
		"the proxy that is set does not let it through",
		"Check HTTP_PROXY, HTTPS_PROXY and NO_PROXY; localhost and the services' names belong into NO_PROXY.",
	),
	rule("registry-limit", root, `toomanyrequests|You have reached your (?:\w+ )?pull rate limit|429 Too Many Requests`,
		"a registry has refused because of too many requests", "Wait, or log in at it."),
}

var machine = []LogRule{
	rule(
		"too-many-watches",
		root,
		`limit for number of file watchers reached|inotify (?:watch|instance) limit|inotify_(?:add_watch|`+
			`init)\b.*(?:No space left|Too many open files)|`+
			`too many open files.*(?:watch|inotify)|user limit on the (?:total )?number of inotify`,
		"this system lets a program watch too few files",
		"Allow more: sudo sysctl fs.inotify.max_user_watches=524288 fs.inotify.max_user_instances=1024",
	),
	rule(
		"disk-full",
		root,
		`No space left on device|ENOSPC\b|[Dd]isk quota exceeded|There is not enough space on the disk|disk is full`,
		"the disk is full",
		"Make room: images and volumes that nobody uses take most of it.",
	),
	rule(
		"memory-full",
		root,
		`JavaScript heap out of memory|OutOfMemoryError|std::bad_alloc|Cannot allocate memory|\bMemoryError\b|`+
			`Out of memory: Killed|signal: killed|OOMKilled`,
		"it ran out of memory",
		"Give it more, or run fewer things at once; for Node.js: NODE_OPTIONS=--max-old-space-size=4096",
	),
	rule("too-many-files", root, `\bEMFILE\b|[Tt]oo many open files`,
		"it may not open so many files at once", "Allow more in this shell: ulimit -n 65536"),
	rule("map-count", root, `max virtual memory areas vm\.max_map_count \[\d+\] is too low`,
		"this system lets a program map too few areas of memory", "Allow more: sudo sysctl vm.max_map_count=262144"),
	rule(
		"line-endings",
		root,
		`\^M: bad interpreter|['‘]?(?:bash|sh|python3?|node|ruby)(?:\\r|\r)['’]?: No such file|`+
			`\$'\\r': command not found|`+
			`(?:\r|\\r): (?:command )?not found|invalid option.*\\r|illegal option -.?\\r`,
		"a script has the line endings of Windows, which this system takes for a part of its words",
		"Check it out with plain ones (git config core.autocrlf input, then check the file out again), or convert "+
			"it with: sed -i 's/\\r$//' FILE",
	),
	rule(
		"architecture",
		root,
		`[Ee]xec format error|no matching manifest for ([\w/]+)|Bad CPU type in executable|wrong ELF class|`+
			`image with reference \S+ was found but (?:does not match|its platform)`,
		"a program or an image is made for another kind of processor[ than {1}]",
		"Take one for this processor, or build it here.",
	),
	rule("interpreter-missing", root, `(\S+): cannot execute: required file not found|bad interpreter: No such file`,
		"the interpreter that the first line of {1} names is not here",
		"Install it; if the script has the line endings of Windows, convert it: sed -i 's/\\r$//' FILE"),
	rule(
		"script-not-executable",
		root,
		`exec: "([^"]+)": permission denied|(?:sh|bash): (?:\d+: |line \d+: )?(\S+): Permission denied|(?:OCI|`+
			`oci) runtime .*permission denied`,
		"{1} may not be executed",
		"Make it executable: chmod +x {1}; in git too: git update-index --chmod=+x {1}",
	),
	rule(
		"engine-permission",
		root,
		`permission denied while trying to connect to the (?:Docker|docker) (?:daemon|API)|`+
			`dial unix \S*docker\.sock: connect: permission denied`,
		"you may not use the container engine's socket",
		"Join the group that owns the socket: sudo usermod -aG docker \"$USER\", then log in again.",
	),
	rule(
		"engine-not-started",
		root,
		`Cannot connect to the Docker daemon|[Ii]s the docker daemon running|docker daemon is not running`,
		"the container engine is not started",
		"Start it: sudo systemctl start docker",
	),
	rule(
		"port-forbidden",
		root,
		`EACCES: permission denied (?:\S+:)?(\d+)|listen tcp \S*:(\d+): bind: permission denied|`+
			`bind\(\) to \S+:(\d+) failed \(13|`+
			`(?:Permission denied|EACCES).*(?:bind|listen).*?:(\d{1,3})\b`,
		"an ordinary user may not listen on port {1}",
		"Use a port above 1023.",
	),
	rule(
		"owner-of-repository",
		root,
		`detected dubious ownership in repository`,
		"git does not trust this folder, since another user owns it",
		"Make it your own, or trust it: git config --global --add safe.directory FOLDER",
	),
	rule(
		"no-terminal",
		root,
		`input device is not a TTY|Inappropriate ioctl for device|EOF when reading a line|(?:non-?interactive|`+
			`no TTY).*(?:prompt|input)|Prompts can not be meaningfully rendered in non-TTY`,
		"the command asks something, and nobody can answer",
		"Run it by hand, or give the answer as an option.",
	),
	rule("locale", root, `unsupported locale setting|Cannot set LC_|invalid locale name`,
		"the language settings of this shell are not installed", "Use ones that always are: LC_ALL=C.UTF-8"),
	rule("java-home", root, `JAVA_HOME is (?:not set|not defined|set to an invalid)`,
		"JAVA_HOME does not point at a Java", "Install the JDK that the project wants, and let JAVA_HOME point at it."),
	rule(
		"crashed",
		direct,
		`[Ss]egmentation fault|SIGSEGV|core dumped|Illegal instruction`,
		"the program crashed in its native code",
		"See whether its packages were built for this system and version; install them again.",
	),
}
