package protocol

import (
	"bytes"
	"encoding/binary"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// mongodb is asked for its greeting by the command hello in a message of its wire protocol
// (OP_MSG); no sign-in is needed for that.
var mongodb = &Protocol{
	Name:     "mongodb",
	Ports:    []int{27017},
	Programs: []string{"mongod"},
	Drivers: []string{"go.mongodb.org/mongo-driver", "go.mongodb.org/mongo-driver/v2",
		"mongodb_driver", "MongoDB.Driver", "mongoid", "mongodb", "mongoose", "pymongo", "motor",
		"mongoengine"},
	Through: []string{"mongoose", "mongodb", "mongoid", "pymongo", "motor", "beanie", "mongoengine",
		"typeorm", "prisma", "@prisma/client", "go.mongodb.org/mongo-driver",
		"go.mongodb.org/mongo-driver/v2",
		"org.springframework.boot:spring-boot-starter-data-mongodb"},
	Scheme: "mongodb",
	SignIn: &SignIn{
		User:     []string{"MONGO_INITDB_ROOT_USERNAME"},
		Database: []string{"MONGO_INITDB_DATABASE"},
		Password: []string{"MONGO_INITDB_ROOT_PASSWORD"},
		NoUser:   true,
		Query:    "authSource=admin", // where the image keeps its first user
	},
	Beside:  &Beside{Image: "mongo:7", Data: "/data/db"},
	images:  expr.New(`mongo`),
	schemes: expr.New(`^mongodb(\+srv)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|mongo(db)?)`),
	hello:   string(mongoHello()),
	reply:   mongoReply,
}

// mongoHello is the command {hello: 1, $db: "admin"} in a message.
func mongoHello() []byte {
	var doc []byte
	doc = append(doc, 0x10)
	doc = append(doc, "hello\x00\x01\x00\x00\x00\x02$db\x00\x06\x00\x00\x00admin\x00\x00"...)
	doc = append(binary.LittleEndian.AppendUint32(nil, uint32(len(doc)+4)), doc...)
	var m []byte
	m = binary.LittleEndian.AppendUint32(m, uint32(16+4+1+len(doc)))
	m = append(m, 1, 0, 0, 0, 0, 0, 0, 0)           // our number, and that of no question
	m = binary.LittleEndian.AppendUint32(m, 2013)   // OP_MSG
	return append(append(m, 0, 0, 0, 0, 0), doc...) // flags, and a section with the body
}

func mongoReply(b []byte) (answer, bool) {
	if len(b) < 16 || binary.LittleEndian.Uint32(b[12:]) != 2013 &&
		binary.LittleEndian.Uint32(b[12:]) != 1 {
		return answer{}, false
	}
	a := answer{verdict: stack.Answers, speaks: "mongodb"}
	if bytes.Contains(b, []byte("\x01ok\x00\x00\x00\x00\x00\x00\x00\x00\x00")) { // the number 0.0
		a.verdict, a.says = stack.Errs, "it refuses to greet"
	}
	return a, true
}
