package protocol

import (
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// kafka is the protocol of Apache Kafka, asked for the versions that it knows (its protocol guide,
// ApiVersions): the one question that every broker answers whatever its version, before any
// sign-in.
var kafka = &Protocol{
	Name:     "kafka",
	Ports:    []int{9092, 29092},
	Programs: []string{"kafka-server-start.sh", "redpanda"},
	Drivers: []string{"kafkajs", "node-rdkafka", "kafka-python", "confluent-kafka", "aiokafka",
		"rdkafka",
		"github.com/segmentio/kafka-go", "github.com/IBM/sarama", "github.com/twmb/franz-go",
		"Confluent.Kafka",
		"org.apache.kafka:kafka-clients", "org.springframework.kafka:spring-kafka", "brod"},
	Scheme:  "kafka",
	images:  expr.New(`kafka|redpanda`),
	schemes: expr.New(`^kafka(\+ssl)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(kafka|broker)`),
	hello:   kafkaHello,
	reply:   kafkaReply,
}

// kafkaHello asks for ApiVersions (key 18) in version 0, under a number that the reply repeats.
const kafkaHello = "\x00\x00\x00\x11\x00\x12\x00\x00nhar\x00\x07nharbor"

func kafkaReply(b []byte) (answer, bool) {
	if len(b) < 10 || string(b[4:8]) != "nhar" {
		return answer{}, false
	}
	return answer{verdict: stack.Answers, speaks: "kafka"}, true
}
