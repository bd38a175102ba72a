package protocol

import (
	"bytes"
	"encoding/binary"
	"io"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// postgres is version 3 of the protocol (PostgreSQL's documentation, "Frontend/Backend Protocol").
var postgres = &Protocol{
	Name:     "postgres",
	Ports:    []int{5432},
	Programs: []string{"postgres"},
	Drivers: []string{"github.com/lib/pq", "github.com/jackc/pgx/v4", "github.com/jackc/pgx/v5",
		"postgrex", "org.postgresql:postgresql", "tokio-postgres", "Npgsql",
		"Npgsql.EntityFrameworkCore.PostgreSQL", "pg", "postgres",
		"pg-promise", "@prisma/adapter-pg", "asyncpg", "psycopg", "psycopg2", "psycopg2-binary"},
	Through: sqlThrough,
	Clients: []string{"createdb", "createuser", "psql"},
	Scheme:  "postgres",
	SignIn: &SignIn{
		User:        []string{"POSTGRES_USER", "POSTGRESQL_USERNAME"},
		Database:    []string{"POSTGRES_DB", "POSTGRESQL_DATABASE"},
		Password:    []string{"POSTGRES_PASSWORD", "POSTGRESQL_PASSWORD"},
		Must:        "POSTGRES_PASSWORD",
		DefaultUser: "postgres",
	},
	Beside: &Beside{Image: "postgres:16", Data: "/var/lib/postgresql/data", Open: []string{
		"POSTGRES_HOST_AUTH_METHOD=trust"}},
	images:  expr.New(`postg(res|is)|timescale|pgvector`),
	schemes: expr.New(`^(postgres(ql)?|postgis|jdbc:postgresql|psql)(\+\w+)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|postgres(ql)?|pg|sql)`),
	ask:     askPostgres,
	// A server answers the request for TLS with one letter.
	hello: "\x00\x00\x00\x08\x04\xd2\x16\x2f",
	hears: func(b []byte) bool { return len(b) == 1 && (b[0] == 'S' || b[0] == 'N') },
}

// askPostgres sends a start-up message and reads the first answer: a request to authenticate is as
// good as one can get without a password.
func askPostgres(t *talk) answer {
	var body []byte
	body = binary.BigEndian.AppendUint32(body, 3<<16)
	body = append(body, "user\x00nharbor\x00database\x00nharbor\x00\x00"...)
	msg := binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))
	if _, err := t.conn.Write(append(msg, body...)); err != nil {
		return hangUp(err)
	}
	head := make([]byte, 5)
	if n, err := io.ReadFull(t.conn, head); err != nil {
		if n > 0 {
			return answer{verdict: stack.Stranger, speaks: bannerOf(head[:n])}
		}
		return hangUp(err)
	}
	size := binary.BigEndian.Uint32(head[1:])
	switch {
	case head[0] == 'R' && size >= 8 && size < 1<<16:
		return answer{verdict: stack.Answers, speaks: "postgres"}
	case head[0] == 'E' && size >= 4 && size < 1<<16:
		fields := make([]byte, size-4)
		io.ReadFull(t.conn, fields)
		code, text := postgresError(fields)
		// Class 28 refuses the user, 3D knows no such database: both come from a server that works.
		if strings.HasPrefix(code, "28") || strings.HasPrefix(code, "3D") {
			return answer{verdict: stack.Answers, speaks: "postgres"}
		}
		return answer{verdict: stack.Errs, speaks: "postgres", says: "it says: " +
			oneLine(text, 120)}
	}
	return answer{verdict: stack.Stranger, speaks: bannerOf(head)}
}

// postgresError is the code and the message of an ErrorResponse's fields.
func postgresError(fields []byte) (code, text string) {
	for _, f := range bytes.Split(fields, []byte{0}) {
		if len(f) > 1 && f[0] == 'C' {
			code = string(f[1:])
		} else if len(f) > 1 && f[0] == 'M' {
			text = string(f[1:])
		}
	}
	return code, text
}
