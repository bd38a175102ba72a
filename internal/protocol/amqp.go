package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// amqp is AMQP 0-9-1 (section 4.2.2 of its specification): the client names its version, and the
// server begins, or names one of its own.
var amqp = &Protocol{
	Name:     "amqp",
	Ports:    []int{5672},
	Programs: []string{"rabbitmq-server"},
	Drivers: []string{"github.com/rabbitmq/amqp091-go", "bunny", "RabbitMQ.Client",
		"com.rabbitmq:amqp-client",
		"lapin", "php-amqplib/php-amqplib", "amqplib", "pika", "aio-pika"},
	Through: []string{"celery", "kombu", "pika", "aio-pika", "amqplib", "amqp-connection-manager",
		"lapin", "php-amqplib/php-amqplib", "org.springframework.boot:spring-boot-starter-amqp",
		"taskiq-aio-pika", "dramatiq", "MassTransit.RabbitMQ"},
	Scheme: "amqp",
	SignIn: &SignIn{
		User:        []string{"RABBITMQ_DEFAULT_USER"},
		Password:    []string{"RABBITMQ_DEFAULT_PASS"},
		DefaultUser: "guest",
		NoDatabase:  true,
	},
	Beside:  &Beside{Image: "rabbitmq:3", Data: "/var/lib/rabbitmq"},
	images:  expr.New(`rabbit`),
	schemes: expr.New(`^amqps?$`),
	implied: map[string]int{"amqps": 5671},
	keys:    expr.New(`(?i)(^|[_.-])(rabbit(mq)?|amqp|broker|queue|celery)`),
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("AMQP")) },
	hello:   amqpHello,
	reply:   amqpReply,
}

const amqpHello = "AMQP\x00\x00\x09\x01"

// amqpReply knows the method connection.start, class 10 and method 10, in a frame of type 1 on
// channel 0.
func amqpReply(b []byte) (answer, bool) {
	a := answer{verdict: stack.Answers, speaks: "amqp"}
	switch {
	case len(b) >= 11 && b[0] == 1 && b[1] == 0 && b[2] == 0 &&
		bytes.Equal(b[7:11], []byte{0, 10, 0, 10}):
		return a, true
	case len(b) >= 8 && string(b[:4]) == "AMQP":
		a.says = "it speaks another version of AMQP than 0-9-1"
		return a, true
	}
	return a, false
}
