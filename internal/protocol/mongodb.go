package protocol

import "nimbleharbor/internal/expr"

// mongodb is known by name; no question is asked yet.
var mongodb = &Protocol{
	Name:     "mongodb",
	Ports:    []int{27017},
	Programs: []string{"mongod"},
	Drivers: []string{
		"go.mongodb.org/mongo-driver",
		"go.mongodb.org/mongo-driver/v2",
		"mongodb_driver",
		"MongoDB.Driver",
		"mongoid",
		"mongodb",
		"mongoose",
		"pymongo",
		"motor",
		"mongoengine",
	},
	Through: []string{"mongoose", "mongodb", "mongoid", "pymongo", "motor", "beanie", "mongoengine",
		"typeorm", "prisma", "@prisma/client", "go.mongodb.org/mongo-driver", "go.mongodb.org/mongo-driver/v2",
		"org.springframework.boot:spring-boot-starter-data-mongodb"},
	Scheme: "mongodb",
	SignIn: &SignIn{
		User:     []string{"MONGO_INITDB_ROOT_USERNAME"},
		Database: []string{"MONGO_INITDB_DATABASE"},
		Password: []string{"MONGO_INITDB_ROOT_PASSWORD"},
		NoUser:   true,
		Query:    "authSource=admin", // where the image keeps its first user
	},
	images:  expr.New(`mongo`),
	schemes: expr.New(`^mongodb(\+srv)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|mongo(db)?)`),
}
