package protocol

import (
	"bytes"
	"encoding/binary"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// The brokers other than amqp.go's.

// kafka is the protocol of Apache Kafka, asked for the versions that it knows (its protocol guide, ApiVersions): the
// one question that every broker answers whatever its version, before any sign-in.
var kafka = &Protocol{
	Name:     "kafka",
	Ports:    []int{9092, 29092},
	Programs: []string{"kafka-server-start.sh", "redpanda"},
	Drivers: []string{"kafkajs", "node-rdkafka", "kafka-python", "confluent-kafka", "aiokafka", "rdkafka",
		"github.com/segmentio/kafka-go", "github.com/IBM/sarama", "github.com/twmb/franz-go", "Confluent.Kafka",
		"org.apache.kafka:kafka-clients", "org.springframework.kafka:spring-kafka", "brod"},
	Scheme:  "kafka",
	images:  expr.New(`kafka|redpanda`),
	schemes: expr.New(`^kafka(\+ssl)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(kafka|broker)`),
	hello:   kafkaHello,
	hears:   func(b []byte) bool { _, ok := kafkaReply(b); return ok },
}

// kafkaHello asks for ApiVersions (key 18) in version 0, under a number that the reply repeats.
const kafkaHello = "\x00\x00\x00\x11\x00\x12\x00\x00nhar\x00\x07nharbor"

func kafkaReply(b []byte) (answer, bool) {
	if len(b) < 10 || string(b[4:8]) != "nhar" {
		return answer{}, false
	}
	return answer{verdict: stack.Answers, speaks: "kafka"}, true
}

// nats greets with what it is, in JSON (its client protocol, INFO).
var nats = &Protocol{
	Name:     "nats",
	Ports:    []int{4222},
	Programs: []string{"nats-server"},
	Drivers: []string{
		"nats",
		"nats-py",
		"github.com/nats-io/nats.go",
		"async-nats",
		"io.nats:jnats",
		"NATS.Client",
		"gnat",
	},
	Scheme:  "nats",
	images:  expr.New(`^nats`),
	schemes: expr.New(`^nats$`),
	keys:    expr.New(`(?i)(^|[_.-])(nats|broker)`),
	ask:     greeting("nats"),
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("INFO {")) },
}

// mqtt is MQTT 3.1.1 (its specification, section 3.1), which every later server still answers.
var mqtt = &Protocol{
	Name:     "mqtt",
	Ports:    []int{1883},
	Programs: []string{"mosquitto"},
	Drivers: []string{"mqtt", "paho-mqtt", "aiomqtt", "github.com/eclipse/paho.mqtt.golang", "rumqttc", "MQTTnet",
		"org.eclipse.paho:org.eclipse.paho.client.mqttv3"},
	Scheme:  "mqtt",
	images:  expr.New(`mosquitto|^emqx|hivemq`),
	schemes: expr.New(`^mqtts?$`),
	implied: map[string]int{"mqtts": 8883},
	keys:    expr.New(`(?i)(^|[_.-])(mqtt|broker)`),
	hello:   mqttHello,
	hears:   func(b []byte) bool { _, ok := mqttReply(b); return ok },
}

// mqttHello connects without a name, in a clean session that ends with the connection.
const mqttHello = "\x10\x0c\x00\x04MQTT\x04\x02\x00\x0a\x00\x00"

func mqttReply(b []byte) (answer, bool) {
	if len(b) < 4 || b[0] != 0x20 || b[1] < 2 {
		return answer{}, false
	}
	a := answer{verdict: stack.Answers, speaks: "mqtt"} // 4 and 5 ask for a sign-in
	if b[3] == 3 {
		a.verdict, a.says = stack.Errs, "it says that its service is not available"
	}
	return a, true
}

// memcached is asked for its version (the text protocol).
var memcached = &Protocol{
	Name:     "memcached",
	Ports:    []int{11211},
	Programs: []string{"memcached"},
	Drivers: []string{"memcached", "memjs", "pymemcache", "pylibmc", "python-memcached", "dalli",
		"github.com/bradfitz/gomemcache", "memcache", "EnyimMemcachedCore"},
	Scheme:  "memcached",
	images:  expr.New(`memcached`),
	schemes: expr.New(`^memcached?$`),
	keys:    expr.New(`(?i)(^|[_.-])(memcached?|cache)`),
	hello:   "version\r\n",
	hears:   func(b []byte) bool { _, ok := memcachedReply(b); return ok },
}

func memcachedReply(b []byte) (answer, bool) {
	return answer{verdict: stack.Answers, speaks: "memcached"}, bytes.HasPrefix(b, []byte("VERSION "))
}

// sqlserver is TDS, asked by its first packet (MS-TDS, 2.2.6.5: PRELOGIN).
var sqlserver = &Protocol{
	Name:     "sqlserver",
	Ports:    []int{1433},
	Programs: []string{"sqlservr"},
	Drivers: []string{"mssql", "tedious", "pymssql", "github.com/microsoft/go-mssqldb", "tiberius",
		"Microsoft.Data.SqlClient", "Microsoft.EntityFrameworkCore.SqlServer", "com.microsoft.sqlserver:mssql-jdbc",
		"tds_fdw", "tiny_tds"},
	Through: sqlThrough,
	Scheme:  "sqlserver",
	SignIn: &SignIn{RootPassword: []string{"MSSQL_SA_PASSWORD", "SA_PASSWORD"}, DefaultUser: "sa",
		Password: []string{"MSSQL_SA_PASSWORD", "SA_PASSWORD"}, NoDatabase: true},
	images:  expr.New(`mssql|azure-sql-edge|sqlserver`),
	schemes: expr.New(`^(sqlserver|mssql|jdbc:sqlserver)(\+\w+)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|mssql|sqlserver|sql)`),
	hello:   tdsHello,
	hears:   func(b []byte) bool { _, ok := tdsReply(b); return ok },
}

// tdsHello holds the options version, encryption (none) and the end.
const tdsHello = "\x12\x01\x00\x1a\x00\x00\x01\x00" + "\x00\x00\x0b\x00\x06" + "\x01\x00\x11\x00\x01" + "\xff" +
	"\x00\x00\x00\x00\x00\x00" + "\x02"

func tdsReply(b []byte) (answer, bool) {
	if len(b) < 9 || b[0] != 4 || b[1] > 1 || int(binary.BigEndian.Uint16(b[2:])) < 9 || b[8] != 0 {
		return answer{}, false
	}
	return answer{verdict: stack.Answers, speaks: "sqlserver"}, true
}

// ldap is asked to sign in nobody (RFC 4511, section 4.2): a server that refuses that answers too.
var ldap = &Protocol{
	Name:     "ldap",
	Ports:    []int{389, 1389},
	Programs: []string{"slapd"},
	Drivers: []string{
		"ldapjs",
		"ldapts",
		"python-ldap",
		"ldap3",
		"github.com/go-ldap/ldap/v3",
		"net-ldap",
		"django-auth-ldap",
	},
	Scheme:  "ldap",
	images:  expr.New(`ldap`),
	schemes: expr.New(`^ldaps?$`),
	implied: map[string]int{"ldaps": 636},
	keys:    expr.New(`(?i)(^|[_.-])ldap`),
	hello:   ldapHello,
	hears:   func(b []byte) bool { _, ok := ldapReply(b); return ok },
}

const ldapHello = "\x30\x0c\x02\x01\x01\x60\x07\x02\x01\x03\x04\x00\x80\x00"

func ldapReply(b []byte) (answer, bool) {
	// a message with our number 1 and a bind's response in it; its length may take more than a byte
	if len(b) < 7 || b[0] != 0x30 {
		return answer{}, false
	}
	i := bytes.Index(b[:min(len(b), 12)], []byte{2, 1, 1, 0x61})
	if i < 2 {
		return answer{}, false
	}
	a := answer{verdict: stack.Answers, speaks: "ldap"}
	if rest := b[i+4:]; len(rest) >= 4 {
		if k := bytes.Index(rest[:min(len(rest), 8)], []byte{10, 1}); k >= 0 && len(rest) > k+2 {
			if code := rest[k+2]; code == 51 || code == 52 || code == 53 && len(rest) == 0 { // busy, unavailable
				a.verdict, a.says = stack.Errs, "it says that it is busy or not available"
			}
		}
	}
	return a, true
}

// exchanges gives the protocols of one question and one reply their question; the replies know their protocols.
func exchanges() {
	for p, judge := range map[*Protocol]func([]byte) (answer, bool){kafka: kafkaReply, mqtt: mqttReply,
		memcached: memcachedReply, sqlserver: tdsReply, ldap: ldapReply, mongodb: mongoReply, amqp: amqpReply} {
		p.ask = exchange(p, func() []byte { return []byte(p.hello) }, judge)
	}
}
