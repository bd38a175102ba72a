package protocol

import (
	"bufio"
	"bytes"
	"io"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// redis is RESP (the serialization protocol specification of Redis), asked with an inline command.
var redis = &Protocol{
	Name:     "redis",
	Ports:    []int{6379},
	Programs: []string{"redis-server", "valkey-server"},
	Drivers: []string{"github.com/redis/go-redis/v9", "github.com/gomodule/redigo", "redix",
		"redis.clients:jedis",
		"StackExchange.Redis", "predis/predis", "redis", "ioredis", "iovalkey"},
	Through: []string{"redis", "ioredis", "celery", "bullmq", "bull", "bee-queue", "sidekiq",
		"resque", "rq", "arq",
		"dramatiq", "huey", "taskiq-redis", "channels-redis", "aioredis", "django-redis",
		"predis/predis", "connect-redis",
		"org.springframework.boot:spring-boot-starter-data-redis", "fred", "deadpool-redis",
		"github.com/hibiken/asynq", "kombu", "laravel/framework"},
	Scheme: "redis",
	SignIn: &SignIn{Password: []string{"REDIS_PASSWORD", "VALKEY_PASSWORD"}, NoUser: true,
		NoDatabase: true},
	Beside:  &Beside{Image: "redis:7", Data: "/data"},
	images:  expr.New(`redis|valkey|keydb|dragonfly`),
	schemes: expr.New(`^(rediss?|valkeys?)$`),
	keys:    expr.New(`(?i)(^|[_.-])(redis|valkey|cache|queue|celery|sidekiq)`),
	ask:     askRedis,
	banner: func(b []byte) bool {
		return bytes.HasPrefix(b, []byte("-ERR")) || bytes.HasPrefix(b, []byte("-NOAUTH")) ||
			bytes.HasPrefix(b, []byte("+PONG"))
	},
	hello: redisHello,
}

// redisHello is what a stranger is sent: one that does not know it says so in its own way.
const redisHello = "PING\r\n"

func askRedis(t *talk) answer {
	if _, err := t.conn.Write([]byte(redisHello)); err != nil {
		return hangUp(err)
	}
	line, err := bufio.NewReader(io.LimitReader(t.conn, 4096)).ReadString('\n')
	line = strings.TrimSpace(line)
	switch {
	case line == "" && err != nil:
		return hangUp(err)
	case line == "+PONG", strings.HasPrefix(line, "-NOAUTH"), strings.HasPrefix(line, "-DENIED"):
		return answer{verdict: stack.Answers, speaks: "redis"}
	case strings.HasPrefix(line, "-LOADING"),
		strings.HasPrefix(line, "-MASTERDOWN"),
		strings.HasPrefix(line, "-BUSY"):
		return answer{verdict: stack.Errs, speaks: "redis", says: "it says: " +
			oneLine(line[1:], 120)}
	}
	return answer{verdict: stack.Stranger, speaks: bannerOf([]byte(line))}
}
