package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
)

// amqp is AMQP 0-9-1; it is recognised, and no question is asked yet.
var amqp = &Protocol{
	Name:     "amqp",
	Ports:    []int{5672},
	Programs: []string{"rabbitmq-server"},
	Drivers: []string{"github.com/rabbitmq/amqp091-go", "bunny", "RabbitMQ.Client", "com.rabbitmq:amqp-client",
		"lapin", "php-amqplib/php-amqplib", "amqplib", "pika", "aio-pika"},
	Through: []string{"celery", "kombu", "pika", "aio-pika", "amqplib", "amqp-connection-manager", "lapin",
		"php-amqplib/php-amqplib", "org.springframework.boot:spring-boot-starter-amqp", "taskiq-aio-pika", "dramatiq",
		"MassTransit.RabbitMQ"},
	Scheme: "amqp",
	SignIn: &SignIn{
		User:        []string{"RABBITMQ_DEFAULT_USER"},
		Password:    []string{"RABBITMQ_DEFAULT_PASS"},
		DefaultUser: "guest",
		NoDatabase:  true,
	},
	images:  expr.New(`rabbit`),
	schemes: expr.New(`^amqps?$`),
	implied: map[string]int{"amqps": 5671},
	keys:    expr.New(`(?i)(^|[_.-])(rabbit(mq)?|amqp|broker|queue|celery)`),
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("AMQP")) },
}
