package protocol

import "nimbleharbor/internal/expr"

// mysql is the protocol of MySQL and MariaDB; the server speaks first, with its version or with why
// it refuses (MySQL's internals manual, "Protocol::HandshakeV10").
var mysql = &Protocol{
	Name:     "mysql",
	Ports:    []int{3306},
	Programs: []string{"mysqld", "mariadbd"},
	Drivers: []string{"github.com/go-sql-driver/mysql", "myxql", "com.mysql:mysql-connector-j",
		"org.mariadb.jdbc:mariadb-java-client", "mysql_async", "MySqlConnector",
		"Pomelo.EntityFrameworkCore.MySql",
		"mysql", "mysql2", "mariadb", "@prisma/adapter-mariadb", "mysqlclient", "pymysql",
		"aiomysql"},
	Through: sqlThrough,
	Clients: []string{"mysqladmin", "mysql"},
	Scheme:  "mysql",
	SignIn: &SignIn{
		User:     []string{"MYSQL_USER", "MARIADB_USER"},
		Database: []string{"MYSQL_DATABASE", "MARIADB_DATABASE"},
		Password: []string{"MYSQL_PASSWORD", "MARIADB_PASSWORD", "MYSQL_ROOT_PASSWORD",
			"MARIADB_ROOT_PASSWORD"},
		RootPassword: []string{"MYSQL_ROOT_PASSWORD", "MARIADB_ROOT_PASSWORD"},
		Must:         "MYSQL_ROOT_PASSWORD",
		DefaultUser:  "root",
		OneDatabase:  true,
	},
	Beside: &Beside{Image: "mysql:8", Data: "/var/lib/mysql",
		Open: []string{"MYSQL_ALLOW_EMPTY_PASSWORD=yes"}},
	images:  expr.New(`mysql|mariadb|percona`),
	schemes: expr.New(`^(mysql2?|mariadb|jdbc:(mysql|mariadb))(\+\w+)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|mysql|mariadb|sql)`),
	ask:     greeting("mysql"),
	// An error packet in the place of the greeting: too many connections, or this host may not
	// connect.
	complains: func(b []byte) string {
		if len(b) > 7 && b[3] == 0 && b[4] == 0xff {
			return "it says: " + oneLine(string(b[7:]), 120)
		}
		return ""
	},
	banner: func(b []byte) bool { return len(b) > 4 && b[3] == 0 && (b[4] == 10 || b[4] == 0xff) },
}
