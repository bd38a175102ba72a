package protocol

import (
	"fmt"
	"slices"
	"testing"
)

// examples hold, for each protocol, what has to be taken for it. A protocol without a line here is
// not whole.
var examples = map[string]struct {
	images, schemes, keys []string
	port                  int // that is meant by an address without one
}{
	"http": {nil, []string{"http", "wss"}, nil, 80},
	"postgres": {[]string{"postgres:16", "quay.example/postgis/postgis:16-3.4",
		"timescale/timescaledb@sha256:0"},
		[]string{"postgresql+asyncpg", "postgres"}, []string{"DATABASE_URL", "PG_HOST"}, 5432},
	"mysql": {[]string{"mysql:8", "mariadb"}, []string{"mysql2", "jdbc:mariadb"},
		[]string{"DB_HOST", "MYSQL_URL"}, 3306},
	"https":     {},
	"websocket": {},
	"grpc":      {nil, []string{"grpc"}, nil, 50051},
	"sqlserver": {[]string{"quay.example/mssql/server:2022", "azure-sql-edge"},
		[]string{"sqlserver", "mssql+pyodbc"}, []string{"MSSQL_HOST", "DB_HOST"}, 1433},
	"memcached": {[]string{"memcached:1.6"}, []string{"memcached"}, []string{"MEMCACHED_SERVERS"},
		11211},
	"elasticsearch": {[]string{"elasticsearch:8.15.0", "quay.example/opensearch:2"}, nil,
		[]string{"ELASTIC_HOST", "SEARCH_URL"}, 0},
	"kafka": {[]string{"quay.example/kafka:3.8", "redpanda"}, []string{"kafka"},
		[]string{"KAFKA_BROKERS"}, 9092},
	"nats": {[]string{"nats:2.10"}, []string{"nats"}, []string{"NATS_URL"}, 4222},
	"mqtt": {[]string{"eclipse-mosquitto:2"}, []string{"mqtt", "mqtts"}, []string{"MQTT_HOST"},
		1883},
	"ldap": {[]string{"quay.example/openldap:2.6"}, []string{"ldap", "ldaps"},
		[]string{"LDAP_URL"}, 389},
	"ftp":  {[]string{"quay.example/vsftpd"}, []string{"ftp"}, []string{"FTP_HOST"}, 21},
	"imap": {[]string{"dovecot:2.3"}, []string{"imap"}, []string{"IMAP_HOST"}, 143},
	"s3":   {[]string{"minio:latest"}, nil, []string{"S3_BUCKET", "AWS_REGION"}, 0},
	"dns":  {}, "jdwp": {}, "inspector": {}, "debugpy": {}, "delve": {},
	"mongodb": {[]string{"mongo:7"}, []string{"mongodb", "mongodb+srv"}, []string{"MONGO_URL"},
		27017},
	"redis": {[]string{"redis:7-alpine", "valkey/valkey"}, []string{"redis", "rediss"},
		[]string{"CACHE_URL", "CELERY_BROKER"}, 6379},
	"amqp": {[]string{"rabbitmq:3-management"}, []string{"amqp"}, []string{"BROKER_URL"}, 5672},
	"ssh":  {nil, nil, nil, 0},
	"smtp": {[]string{"axllent/mailpit"}, []string{"smtp"}, []string{"MAIL_HOST"}, 25},
}

func TestProtocolsAreWhole(t *testing.T) {
	t.Parallel()
	taken := map[int]string{}
	for _, p := range All {
		e, ok := examples[p.Name]
		if !ok {
			t.Errorf("%s has no examples", p.Name)
		}
		if Named(p.Name) != p || !slices.Contains(Names(), p.Name) || len(p.Ports) == 0 {
			t.Errorf("%s can't be named, or has no port", p.Name)
		}
		for _, port := range p.Ports {
			if taken[port] != "" {
				t.Errorf("port %d is both %s and %s", port, taken[port], p.Name)
			}
			if taken[port] = p.Name; p.byUse != (OfPort("", port) == Plain) ||
				!p.byUse && OfPort("", port) != p.Name {
				t.Errorf("port %d is taken for %s", port, OfPort("", port))
			}
		}
		if (p.images != nil) != (e.images != nil) || (p.schemes != nil) != (e.schemes != nil) ||
			(p.keys != nil) != (e.keys != nil) {
			t.Errorf("what is known of %s and its examples differ", p.Name)
		}
		if p.ask == nil || p.hello != "" && p.hears == nil && p.banner == nil {
			t.Errorf("nothing recognises %s", p.Name)
		}
		for _, image := range e.images {
			if OfImage(image) != p {
				t.Errorf("the image %s is not taken for %s", image, p.Name)
			}
		}
		for i, scheme := range e.schemes {
			if p != web && OfScheme(scheme) != p ||
				i == 0 && e.port != 0 && DefaultPort(e.schemes[0]) != e.port {
				t.Errorf("addresses with %s are taken for %v, at %d", scheme, OfScheme(scheme),
					DefaultPort(scheme))
			}
		}
		for _, key := range e.keys {
			if !slices.Contains(OfKey(key), p) {
				t.Errorf("the key %s is not taken for %s", key, p.Name)
			}
		}
		for _, program := range p.Programs {
			if OfProgram(program) != p {
				t.Errorf("the program %s is not taken for %s", program, p.Name)
			}
		}
	}
}

func TestOfImageAndPort(t *testing.T) {
	t.Parallel()
	for image, want := range map[string]string{"phpmyadmin": "", "mongo-express": "",
		"prometheuscommunity/postgres-exporter": "",
		"redis/redisinsight":                    "", "": "", "quay.example:5000/x": "",
		"rediscommander/redis-commander": ""} {
		got := ""
		if p := OfImage(image); p != nil {
			got = p.Name
		}
		if got != want {
			t.Errorf("the image %q is taken for %q", image, got)
		}
	}
	for _, c := range []struct {
		image  string
		target int
		want   string
	}{
		{"rabbitmq:3-management", 15672, "http"}, {"postgres", 6000,
			"postgres"}, {"quay.example/own", 6000, Plain},
		{"mailhog/mailhog", 8025, "http"}, {"", 6379, "redis"},
	} {
		if got := OfPort(c.image, c.target); got != c.want {
			t.Errorf("port %d of %q speaks %s, want %s", c.target, c.image, got, c.want)
		}
	}
	if DefaultPort("https") != 443 || DefaultPort("nothing") != 0 || DefaultPort("SMTPS") != 465 {
		t.Error("the ports of schemes are wrong")
	}
	if OfScheme("https") != nil {
		t.Error("a web address is taken for a server of its own")
	}
}

// TestOfPackage tells servers from what only speaks to them.
func TestOfPackage(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]string{"postgresql": "postgres", "postgresql-client": "",
		"libpq-dev": "", "redis-server": "redis", "mariadb-server": "mysql", "mongodb-tools": "",
		"rabbitmq-server": "amqp", "curl": ""} {
		got := ""
		if p := OfPackage(name); p != nil {
			got = p.Name
		}
		if got != want {
			t.Errorf("%s brings %q, want %q", name, got, want)
		}
	}
}

// TestDebuggers knows a debugger's port by the option that opens it, and by nothing else.
func TestDebuggers(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"java -agentlib:jdwp=transport=dt_socket,server=y,suspend=n,address=*:5006 -jar " +
			"x": "map[5006:jdwp]",
		"-Xrunjdwp:transport=dt_socket,address=8000,server=y": "map[8000:jdwp]",
		"node --inspect=0.0.0.0:9300 counter.js":              "map[9300:inspector]",
		"node --inspect-brk counter.js":                       "map[9229:inspector]",
		"python -m debugpy --listen 0.0.0.0:5680 -m tide":     "map[5680:debugpy]",
		"dlv exec --headless --listen=:2346 ./tide":           "map[2346:delve]",
		"node counter.js --inspector-off --port 9229":         "map[]",
	} {
		if got := fmt.Sprint(Debuggers(line)); got != want {
			t.Errorf("%s opens %s, want %s", line, got, want)
		}
	}
}
