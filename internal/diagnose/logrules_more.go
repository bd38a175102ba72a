package diagnose

var ports = []LogRule{
	rule(
		"port-in-use",
		root,
		`EADDRINUSE\D*?(?:\S*:)?(\d{2,5})\b|Bind for \S+:(\d+) failed: port is already allocated|`+
			`[Pp]ort (\d{2,5}) (?:is |was )?already in use|`+
			`[Pp]ort (\d{2,5}) is in use|(?:bind|listen)(?: tcp\d?)? \S*:(\d{2,5}): bind: address already in use|`+
			`'?\S*:?(\d{2,5})'?: (?:\[Errno 98\] )?[Aa]ddress already in use|`+
			`[Aa]ddress already in use|EADDRINUSE|port is already allocated|Only one usage of each socket address`,
		"the port[ {1}] is taken by another program",
		"See who has it with nharbor needs, stop that, or launch on other ports: nharbor launch --shift 100",
	),
}

var containers = []LogRule{
	rule(
		"build-file-missing",
		root,
		`COPY failed: file not found in build context.*?: (?:stat )?(\S+?):?(?: file)? |`+
			`failed to compute cache key:.*"([^"]+)": not found|`+
			`(?:COPY|ADD) failed: .*?(?:stat|lstat) (\S+): no such file`,
		"the image is built from {1}, which is not in the build's folder",
		"Make the file first, or see whether .dockerignore leaves it out.",
	),
	rule(
		"dockerfile-missing",
		root,
		`failed to read dockerfile: open (\S+): no such file|Cannot locate specified Dockerfile: (\S+)|`+
			`symlinks in Dockerfile path: lstat (\S+): no such|`+
			`unable to prepare context: path "([^"]+)" not found`,
		"there is no {1} to build the image from",
		"Check the build's context and dockerfile; a submodule may be missing.",
	),
	rule(
		"folder-for-file",
		root,
		`(?:error mounting|not a directory).*[Aa]re you trying to mount a directory onto a file|`+
			`cannot create subdirectories in .*not a directory`,
		"a file that the container wants to see was not there, and the engine has made a folder of its name",
		"Remove the empty folder, make the file, and launch again.",
	),
	rule(
		"networks-used-up",
		root,
		`non-overlapping IPv4 address pool|all predefined address pools have been fully subnetted`,
		"the container engine has no address left for another network",
		"Remove networks that nobody uses.",
	),
	rule(
		"entry-missing",
		root,
		`exec (/\S+): no such file or directory|exec: "([^"]+)": (?:stat \S+: no such file|executable file not found)`,
		"the program {1} is not in the container, or the interpreter that its first line names is not",
		"See whether a mount hides it, whether the script has Windows' line endings, and whether the image was built.",
	),
	rule("name-in-use", root, `[Cc]onflict\. The container name "/?([^"]+)" is already in use`,
		"there is a container of the name {1} already", "Remove it, if nobody needs it."),
	rule(
		"data-folder-permission",
		root,
		`(?:chown|initdb|mkdir|could not (?:change permissions|create directory|access directory|open)|`+
			`Can't (?:create|open)|Failed (?:to )?open)\b.*?["' ](/[\w./-]+).*?(?:Permission denied|`+
			`Operation not permitted|Errcode: 13)`,
		"the user inside the container may not write to {1}",
		"Give the folder to that user, or use a volume in the place of a folder of this machine.",
	),
}

const wrongPassword = "If the data was made with an earlier password, put that back, or throw the data away: " +
	"nharbor reset --data. Else correct the setting."

var databases = []LogRule{
	rule(
		"database-of-another-version",
		root,
		`data directory was initialized by PostgreSQL version (\d+), which is not compatible with this version (\d+)`,
		"the volume holds data of PostgreSQL {1}, and PostgreSQL {2} runs",
		"Use version {1} again, or throw the data away: nharbor reset --data",
	),
	rule(
		"database-files-incompatible",
		root,
		`database files are incompatible with server|Invalid MySQL server (?:upgrade|downgrade)|`+
			`[Cc]annot downgrade from|not supported to downgrade|featureCompatibilityVersion.*(?:incompatible|Invalid)`,
		"the volume holds data of another version of the database",
		"Use that version again, or throw the data away: nharbor reset --data",
	),
	rule(
		"database-wants-password",
		root,
		`Database is uninitialized and (?:superuser )?password (?:option )?is not specified`,
		"the database has no password to be made with",
		"Give its image one in its environment; nharbor fill makes it up.",
	),
	rule(
		"password-refused",
		root,
		`password authentication failed for user "([^"]+)"|Access denied for user '([^']*)'@|WRONGPASS|`+
			`Login failed for user '([^']+)'|`+
			`SASL authentication (?:failed|exception)|(?:ACCESS_REFUSED|Login was refused)|`+
			`MongoServerError: Authentication failed|invalid username-password pair|AuthenticationFailed`,
		"the server refuses the password[ of {1}]",
		wrongPassword,
	),
	rule(
		"password-wanted",
		direct,
		`NOAUTH Authentication required|fe_sendauth: no password supplied|`+
			`SASL: SCRAM-SERVER-FIRST-MESSAGE: client password must be a string|command \w+ requires authentication`,
		"the server wants a password, and none is given",
		"Set it where the address of the server is set.",
	),
	rule(
		"database-missing",
		root,
		`database "([^"]+)" does not exist|Unknown database '([^']+)'|Cannot open database "([^"]+)"|`+
			`database ([\w-]+) doesn't exist|Database .([\w-]+). does not exist`,
		"the server has no database {1}",
		"Make it. An image makes one only with its first data: nharbor reset --data throws that away, and it is "+
			"made anew.",
	),
	rule(
		"role-missing",
		root,
		`role "([^"]+)" does not exist`,
		"the server has no user {1}",
		"Make it. An image makes one only with its first data: nharbor reset --data throws that away, and it is "+
			"made anew.",
	),
	rule(
		"database-in-use",
		root,
		`database "([^"]+)" is being accessed by other users|other sessions? using the database`,
		"the database[ {1}] can't be dropped while others use it",
		"Stop what uses it first: nharbor stop",
	),
	rule(
		"too-many-connections",
		root,
		`too many clients already|remaining connection slots are reserved|Too many connections|`+
			`max number of clients reached`,
		"the server has no room for one more connection",
		"Stop what holds them, or let each program hold fewer.",
	),
	rule(
		"database-extension",
		root,
		`extension "([^"]+)" is not available|could not open extension control file "[^"]*/([\w-]+)\.control"|`+
			`type "(vector|geometry|citext|hstore)" does not exist`,
		"the database lacks the extension {1}",
		"Use an image that brings it.",
	),
	rule(
		"database-rights",
		root,
		`permission denied (?:for|to create) (?:schema|table|database|relation|extension) ?"?([\w-]*)|`+
			`command denied to user '([^']+)'|must be owner of`,
		"the user of the database lacks a right[: {1}]",
		"Give it, as the database's own administrator.",
	),
	rule(
		"table-missing",
		direct,
		`relation "([^"]+)" does not exist|[Tt]able '([^']+)' doesn't exist|no such table: ([\w.]+)|`+
			`PendingMigration|[Mm]igrations are pending|`+
			`The table .([\w.]+). does not exist in the current database|Invalid object name '([^']+)'|`+
			`Base table or view not found|[Uu]ndefined ?[Tt]able`,
		"the database is not set up: a table is missing[, {1}]",
		"Let its migrations run: nharbor launch does them as far as it knows them.",
	),
	rule(
		"column-missing",
		direct,
		`column "?([\w.]+)"? (?:of relation "?\w+"? )?does not exist|Unknown column '([^']+)'|`+
			`no such column: ([\w.]+)|Invalid column name '([^']+)'`,
		"the database is of another time than the code: a column is missing, {1}",
		"Let its migrations run.",
	),
	rule(
		"made-before",
		direct,
		`(?:relation|table|database|type|schema) "?([\w.-]+)"? already exists|Table '([^']+)' already exists|`+
			`Can't create database '([^']+)'; database exists`,
		"what it makes is there already: {1}",
		"It was done before. If it has to be done again, throw the data away first: nharbor reset --data",
	),
	rule(
		"seeded-before",
		follows,
		`duplicate key value violates unique constraint "([^"]+)"|UNIQUE constraint failed: ([\w.]+)|`+
			`Duplicate entry '([^']+)'|E11000 duplicate key|Unique constraint failed on`,
		"a row that it adds is there already[ ({1})]: it may have been done before",
		"If it has to be done again, throw the data away first: nharbor reset --data",
	),
	passes(
		"database-starts",
		follows,
		`database system is (?:starting up|shutting down|not yet accepting connections|in recovery mode)|`+
			`LOADING Redis is loading|the server is starting|unavailable: .*starting`,
		"the database was still starting",
		"Start it again once the database answers; nharbor launch waits for it where it knows of it.",
	),
	passes(
		"search-starts",
		follows,
		`ClusterBlockException|cluster_block_exception|master_not_discovered_exception|NoShardAvailable`,
		"the search engine was not ready",
		"Start it again once it answers.",
	),
	passes(
		"broker-starts",
		follows,
		`LEADER_NOT_AVAILABLE|Broker may not be available|brokers? (?:are )?(?:down|not available)|`+
			`KafkaJSNumberOfRetriesExceeded|NoBrokersAvailable`,
		"the broker was not ready, or its advertised address leads elsewhere",
		"Check that the address which the broker advertises is one that this program reaches.",
	),
	rule("database-locked", direct, `database is locked|SQLITE_BUSY`,
		"another program holds the database file", "Stop the other one; a file is for one at a time."),
	rule(
		"sign-in-method",
		root,
		`Client does not support authentication protocol|caching_sha2_password.*(?:cannot be loaded|`+
			`could not be loaded)|auth(?:entication)? method .* (?:not supported|unknown)|`+
			`unknown authentication plugin|`+
			`authentication method 10 not supported`,
		"the driver is older than the server's way to sign in",
		"Update the driver, or let the server use the older way.",
	),
	rule(
		"snapshot-failed",
		direct,
		`MISCONF Redis is configured to save|Failed opening the (?:RDB|temp RDB) file|Can't save in background`,
		"Redis can't write its snapshot",
		"See whether the disk is full, and whether it may write to its folder.",
	),
}

var encryption = []LogRule{
	rule(
		"database-without-tls",
		root,
		`server does not support SSL|SSL is not enabled on the server|The server does not support (?:secure|`+
			`SSL) connections?|SSL connection is required.*not supported`,
		"the address of the database demands TLS, and the local one has none",
		"Take it out of the address (sslmode=disable, ssl=false).",
	),
	rule(
		"database-wants-tls",
		root,
		`no pg_hba\.conf entry.*(?:no encryption|SSL off)|require_secure_transport=ON|SSL connection is required|`+
			`SSL/TLS required`,
		"the server takes only connections with TLS",
		"Demand it in the address (sslmode=require).",
	),
	rule(
		"tls-to-plain",
		root,
		`wrong version number|first record does not look like a TLS handshake|`+
			`server gave HTTP response to HTTPS client|ERR_SSL_WRONG_VERSION_NUMBER|ERR_SSL_PACKET_LENGTH_TOO_LONG|`+
			`SSL_ERROR_RX_RECORD_TOO_LONG|Unsupported or unrecognized SSL message`,
		"TLS is spoken to a server that has none",
		"Begin its address with http:// in the place of https://.",
	),
	rule(
		"plain-to-tls",
		root,
		`[Cc]lient sent an HTTP request to an HTTPS server|plain HTTP request was sent to HTTPS port`,
		"plain HTTP is spoken to a server that wants TLS",
		"Begin its address with https:// in the place of http://.",
	),
	rule(
		"certificate-file",
		root,
		`cannot load certificate "([^"]+)"|[Nn]o server certificate was specified|`+
			`could not load server certificate file "([^"]+)"|open (\S+\.(?:pem|crt|key)): no such file`,
		"the server wants a certificate that is not there[: {1}]",
		"Make one for this machine, as the README says, or switch its TLS off for development.",
	),
}

var missing = []LogRule{
	rule(
		"setting-missing",
		root,
		`KeyError: '([A-Z][A-Z0-9_]{2,})'|[Kk]ey not found: "([A-Z][A-Z0-9_]{2,})"|`+
			`Environment variable not found: ([A-Z][A-Z0-9_]+)|`+
			`[Mm]issing (?:required )?(?:env(?:ironment)?(?: var(?:iable)?)?s?|setting|`+
			`config(?:uration)?)(?: key)?:? ?["'\x60]?([A-Z][A-Z0-9_]{2,})|`+
			`["'\x60]?\b([A-Z][A-Z0-9]*_[A-Z0-9_]+)["'\x60]? (?:is required|must be (?:set|provided|defined)|`+
			`is not set|is not defined|is missing|is undefined|not set\b|environment variable (?:is|must|not))|`+
			`[Ee]nv(?:ironment)? var(?:iable)? ["'\x60]?([A-Z][A-Z0-9_]{2,})["'\x60]? (?:is )?(?:not|missing|`+
			`required|must)|`+
			`Set the ([A-Z][A-Z0-9_]+) environment variable|`+
			`could not find environment variable ["'\x60]?([A-Z][A-Z0-9_]+)|`+
			`environment variable (?:[Nn]ot ?[Pp]resent|not found)`,
		"the setting[ {1}] is missing",
		"Set it[: nharbor fill --set {1}=…]",
	),
	rule(
		"application-key-missing",
		root,
		`SECRET_KEY setting must not be empty|Missing .secret_key_base.|secret_key_base.* (?:must be|missing)|`+
			`No application encryption key has been specified|`+
			`MissingAppKeyException|Unsupported cipher or incorrect key length|A secret is required|`+
			`secret option required for sessions`,
		"the application's own key is missing, or has the wrong form",
		"Let it be made up: nharbor fill",
	),
	rule(
		"credentials-key",
		root,
		`MessageEncryptor::InvalidMessage|Missing encryption key to decrypt file|Couldn't decrypt .*credentials`,
		"the application's encrypted settings can't be read without their key",
		"Ask whoever has it for the key (config/master.key), or make settings of your own.",
	),
	rule(
		"cloud-login",
		root,
		`Unable to locate credentials|CredentialsProviderError|Could not load credentials from any providers|`+
			`could not find default credentials|NoCredentialProviders|No AWS accounts`,
		"a cloud provider's login is missing",
		"Set it, or point the address at a local stand-in for the service.",
	),
	rule(
		"api-key",
		direct,
		`[Ii]nvalid API [Kk]ey|invalid_api_key|Incorrect API key provided|No API key provided|`+
			`[Aa]pi[_ ]?key (?:is )?(?:missing|required|not (?:set|provided|found))`,
		"a third party's API key is missing or refused",
		"Get one from its dashboard, and set it: nharbor fill",
	),
	rule(
		"address-malformed",
		root,
		`ERR_INVALID_URL|Invalid URL\b|invalid port number in database URL|[Ii]nvalid (?:connection|`+
			`database) (?:string|url)|Could not parse (?:SQLAlchemy|rfc1738) URL|error parsing (?:connection|`+
			`database)|`+
			`could not parse .*(?:URL|DSN)|bad (?:database )?(?:URI|URL)`,
		"an address in the settings can't be read",
		"See which setting it is; a password in an address has its special characters encoded.",
	),
	rule("upstream-unknown", root, `host not found in upstream "([^":]+)`,
		"nginx knows no server {1}", "Start the service of that name with it, in the same network."),
	dotted(passes(
		"name-unknown",
		direct,
		`getaddrinfo (?:ENOTFOUND|EAI_AGAIN) ([\w.-]+)|Could not resolve host:? '?([\w.-]+)|`+
			`lookup ([\w.-]+)(?: on \S+)?: (?:no such host|server misbehaving|Temporary failure)|`+
			`could not translate host name "([^"]+)"|Unknown MySQL server host '([^']+)'|`+
			`No address associated with hostname|`+
			`Temporary failure in name resolution|Name or service not known|getaddrinfo failed|`+
			`UnknownHostException: ([\w.-]+)|failed to lookup address information|nodename nor servname`,
		"the name[ {1}] is not known where it runs",
		"It is a service of the containers' network: outside of it the address is localhost, inside the service has "+
			"to run in "+
			"the same network."),
		"Check the network of this machine, and whether the name is right."),
	passes(
		"connection-refused",
		follows,
		`ECONNREFUSED (\S+?:\d+)|dial tcp (\S+): connect: connection refused|`+
			`[Cc]onnection to (?:server at )?"?([\w.-]+)"?.* refused|Can't connect to (?:local )?(?:MySQL|MariaDB|`+
			`server)\S* .*?'([\w.:/-]+)'|`+
			`connect to ([\w.-]+:\d+).*[Cc]onnection refused|ECONNREFUSED|[Cc]onnection refused|Errno 111|`+
			`SQLSTATE\[HY000\] \[2002\]|MongoServerSelectionError|MongooseServerSelectionError|actively refused it`,
		"nothing listens where it connects to[: {1}]",
		"Start what it needs first, or correct the address: in a container localhost is the container itself.",
	),
	rule(
		"network-unreachable",
		direct,
		`ENETUNREACH|[Nn]etwork is unreachable|[Nn]o route to host|EHOSTUNREACH`,
		"there is no way to the address that it connects to",
		"Check the network, and whether the address is one of this machine's.",
	),
	passes(
		"timed-out",
		follows,
		`ETIMEDOUT|ReadTimeoutError|[Cc]onnection timed out|context deadline exceeded|TLS handshake timeout|`+
			`i/o timeout|ERR_SOCKET_TIMEOUT|TimeoutException|Read timed out|ESOCKETTIMEDOUT`,
		"it waited for an answer in vain",
		"See whether what it speaks to runs, and whether a proxy is in between.",
	),
	rule(
		"host-refused",
		direct,
		`Invalid HTTP_HOST header: '([^']+)'|Blocked hosts?: ([\w.:-]+)|Invalid [Hh]ost header|`+
			`This host \("([^"]+)"\) is not allowed|DisallowedHost`,
		"the server refuses the host name[ {1}] that it is called by",
		"Add the name to the server's allowed hosts.",
	),
	rule(
		"file-missing",
		direct,
		`ENOENT: no such file or directory, \w+ '([^']+)'|No such file or directory: '([^']+)'|(?:open|stat|`+
			`read) (\S+): no such file or directory|No such file or directory @ \w+ - (\S+)|`+
			`FileNotFoundException: (\S+)|Could not find file '([^']+)'`,
		"it misses the file {1}",
		"See which step or template makes it.",
	),
	rule(
		"file-permission",
		direct,
		`EACCES: permission denied, \w+ '([^']+)'|Permission denied: '([^']+)'|open (\S+): permission denied|`+
			`Permission denied @ \w+ - (\S+)|failed to open stream: Permission denied|`+
			`UnauthorizedAccessException.*'([^']+)'|(?:cannot|can't|unable to) (?:open|create|`+
			`write)\b.*?['" ](/[\w./-]+).*: Permission denied`,
		"it may not use the file[ {1}]",
		"See who owns it: containers that ran as root leave files of root's behind.",
	),
	rule(
		"command-missing",
		direct,
		`(?:sh|bash|zsh|dash|make): (?:\d+: |line \d+: )?([\w.+@/-]+): (?:command )?not found|`+
			`exec: "([\w.+/-]+)": executable file not found|spawn ([\w.+/-]+) ENOENT|([\w.-]+): command not found|`+
			`command not found: ([\w.-]+)|'([\w.-]+)' is not recognized as an internal|`+
			`No such file or directory - ([\w.-]+)$`,
		"there is no program {1} here",
		"Install it, or install the dependencies that bring it.",
	),
}

var modules = []LogRule{
	rule(
		"module-system",
		root,
		`ERR_REQUIRE_ESM|require\(\) of ES Module|Cannot use import statement outside a module|`+
			`Unexpected token 'export'|(?:exports|require|module) is not defined in ES module scope|`+
			`ERR_UNKNOWN_FILE_EXTENSION|does not provide an export named`,
		"code of Node.js's two kinds of modules is mixed up",
		"Use the version of Node.js that the project was made for; else see \"type\" in package.json and the ending "+
			"of the file.",
	),
	rule(
		"build-output-missing",
		root,
		`Cannot find module '([^']*(?:/dist/|/build/|/out/|/lib/|/\.next/|/\.output/)[^']*)'|`+
			`Could not find a production build in the '([^']+)'|Vite manifest not found at: (\S+)|`+
			`(?:Mix|mix)[- ]?manifest.*(?:does not exist|not found)|not present in the asset pipeline|`+
			`ManifestMissing|Unable to access jarfile (\S+)|"?([\w./-]+\.(?:dll|jar))"? (?:does not exist|not found)`,
		"what it runs was not built[: {1}]",
		"Build first; nharbor launch does it where it knows of it.",
	),
	rule(
		"client-not-generated",
		root,
		`@prisma/client did not initialize yet|could not locate the Query Engine|Cannot find module '\.prisma/client`,
		"the database client was not generated, or for another system",
		"Generate it again: prisma generate, in the project's own way to run it.",
	),
	rule(
		"own-module-missing",
		direct,
		`Cannot find module '(\.{0,2}/[^']+)'|Cannot find module '([A-Z]:[^']+)'|Can't resolve '(\.{1,2}/[^']+)'`,
		"the code misses a file of its own: {1}",
		"It may have to be built or generated first, or is written otherwise in its case.",
	),
	rule(
		"package-missing",
		direct,
		`Cannot find (?:module|package) '([^'./][^']*)'|ERR_MODULE_NOT_FOUND|Can't resolve '([^'./][^']*)'|`+
			`Failed to resolve import "([^"]+)"`,
		"the package[ {1}] is not installed",
		"Install the dependencies of the folder that it runs in.",
	),
	rule(
		"package-missing-python",
		direct,
		`ModuleNotFoundError: No module named '?([\w.]+)|ImportError: No module named '?([\w.]+)|`+
			`No module named '([\w.]+)'`,
		"Python finds no module {1}",
		"Install the dependencies into the environment that it runs with; an own module needs the right folder.",
	),
	rule(
		"package-missing-ruby",
		direct,
		`cannot load such file -- (\S+)|Could not find ([\w.-]+) in (?:any of the sources|locally installed gems)|`+
			`GemNotFound`,
		"Ruby finds no {1}",
		"Install the dependencies: bundle install",
	),
	rule(
		"package-missing-php",
		direct,
		`(?:Failed opening required|failed to open stream).*vendor/autoload\.php|Class "([\w\\]+)" not found|`+
			`vendor/autoload\.php.*No such file`,
		"PHP finds no class[ {1}]: its dependencies are not installed",
		"Install them: composer install",
	),
	rule(
		"package-missing-java",
		direct,
		`(?:ClassNotFoundException|NoClassDefFoundError): ([\w./$]+)|Could not find or load main class ([\w.]+)|`+
			`package ([\w.]+) does not exist`,
		"Java finds no class {1}",
		"Build first; a dependency may be missing.",
	),
	rule(
		"package-missing-go",
		direct,
		`no required module provides package ([\w./-]+)|cannot find package "([^"]+)"|`+
			`package (\S+) is not in (?:std|GOROOT)`,
		"Go finds no package {1}",
		"Run go mod tidy; a package of the project itself may have to be generated first.",
	),
	rule("package-missing-rust", direct, `error\[E0432\]|error\[E0433\]|can't find crate for .(\w+).`,
		"Rust finds no crate[ {1}]", "See Cargo.toml, and whether the code is generated first."),
	rule(
		"dependencies-unfetched",
		root,
		`Unchecked dependencies for environment|the dependency is not available, run "mix deps\.get"`,
		"Elixir's dependencies are not fetched",
		"Fetch them: mix deps.get",
	),
}

var builds = []LogRule{
	rule(
		"type-error",
		direct,
		`error TS(\d+): `,
		"the code does not pass TypeScript's check (TS{1})",
		"The line says where; a package's types may have to be generated first.",
	),
	rule(
		"compile-error",
		direct,
		`error\[E\d{4}\]|: error: (?:cannot find symbol|incompatible types|';' expected)|COMPILATION ERROR|`+
			`error CS\d{4}: |\.go:\d+:\d+: (?:undefined|cannot use|syntax error|declared and not used)|`+
			`\*\* \(CompileError\)|Failed to compile\b`,
		"the code does not compile",
		"The line says where; the runtime may be of another version than the project's, or generated code is missing.",
	),
	rule(
		"syntax-error",
		direct,
		`SyntaxError: |IndentationError|syntax error, unexpected|PHP Parse error|ParseError`,
		"a file can't be read as code",
		"The runtime may be older than the language that it is written in; else the line says where.",
	),
	rule(
		"settings-syntax",
		direct,
		`JSONDecodeError|in JSON at position|yaml: line (\d+)|YAMLException|while parsing a (?:block mapping|flow)|`+
			`TOMLDecodeError|Psych::SyntaxError`,
		"a file of settings can't be read",
		"The line says which and where; see it for a missing quote or a tab.",
	),
	rule(
		"configuration-refused",
		direct,
		`unknown directive "([^"]+)"|\[emerg\].* in (\S+:\d+)|Unknown option:? ["'\x60]?(--?[\w-]+)|`+
			`unrecognized (?:option|arguments?):? ["'\x60]?(--?[\w-]+)|unknown flag: (--[\w-]+)|`+
			`no such option: (--[\w-]+)|bad option: (--[\w-]+)`,
		"it does not know what it is told: {1}",
		"Its version is another than the one that the settings or the command are for.",
	),
	rule(
		"migration-failed",
		follows,
		`Migration .?([\w./-]+).? failed|P30(?:09|18)\b|Error running migration|`+
			`StandardError: An error has occurred, .*migrations? canceled`,
		"a migration failed[: {1}]",
		"The lines around it say why. If the database is half made, throw it away: nharbor reset --data",
	),
	rule(
		"several-migrations",
		root,
		`Multiple head revisions|Conflicting migrations detected|multiple leaf nodes in the migration graph`,
		"the migrations have two ends: two branches were merged without joining them",
		"Join them, with the migration tool's own merge.",
	),
	rule(
		"migration-unknown",
		root,
		`Can't locate revision identified by '([^']+)'|InconsistentMigrationHistory|`+
			`migration .* was modified after it was applied|missing from the (?:local )?migrations? directory`,
		"the database knows a migration[ {1}] that the checkout does not have",
		"The data is from another branch: throw it away (nharbor reset --data), or check that branch out.",
	),
}

var others = []LogRule{
	rule(
		"cookie-permission",
		root,
		`[Cc]ookie file \S+ must be accessible by owner only`,
		"RabbitMQ's cookie file may be read by others",
		"Let a volume hold it, in the place of a folder of this machine.",
	),
	rule(
		"pid-file-left",
		root,
		`A server is already running.*?(?:Check|pid:) ?(\S+)|lock file "(postmaster\.pid)" already exists|`+
			`(?:Unable to lock|another (?:instance|process) is (?:already )?running).*?(\S+\.(?:pid|lock))`,
		"a file of an earlier run says that it still runs[: {1}]",
		"If nothing runs, remove the file.",
	),
	rule(
		"browser-missing",
		root,
		`Failed to launch the browser process|Executable doesn't exist at (\S+)|Could not find (?:Chrome|Chromium|`+
			`browser)|no chrome binary`,
		"it wants to start a browser that is not installed",
		"Install it, or leave out what needs it.",
	),
	rule("display-missing", root, `cannot open display|Missing X server or \$DISPLAY|could not connect to display`,
		"it wants to open a window, and there is no screen", "It is a desktop program: start it where there is one."),
	rule("deprecation", harmless, `DeprecationWarning|\bdeprecated\b|npm warn deprecated|has been deprecated`,
		"something is deprecated: it works, and will not for ever", ""),
	rule(
		"funding",
		harmless,
		`packages are looking for funding|run .npm fund. for details`,
		"some packages ask for money",
		"",
	),
	rule(
		"audit",
		harmless,
		`(\d+) (?:\w+ severity )?vulnerabilit(?:y|ies)\b`,
		"known weaknesses in packages: none keeps it from running here",
		"",
	),
	rule(
		"optional-left-out",
		harmless,
		`SKIPPING OPTIONAL DEPENDENCY|optional dependency.*(?:skipped|failed)|Unsupported platform for fsevents`,
		"a package that only other systems need is left out",
		"",
	),
	rule("development-server", harmless, `WARNING: This is a development server\. Do not use it in a production`,
		"the server is one for development, as it should be here", ""),
	rule(
		"overcommit",
		harmless,
		`Memory overcommit must be enabled`,
		"Redis would like another setting of this system: it works without",
		"",
	),
	rule("trust-authentication", harmless, `enabling "trust" authentication for local connections`,
		"the database trusts programs inside its own container while it is made", ""),
}
