package protocol

import (
	"encoding/binary"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// sqlserver is TDS, asked by its first packet (MS-TDS, 2.2.6.5: PRELOGIN).
var sqlserver = &Protocol{
	Name:     "sqlserver",
	Ports:    []int{1433},
	Programs: []string{"sqlservr"},
	Drivers: []string{"mssql", "tedious", "pymssql", "github.com/microsoft/go-mssqldb", "tiberius",
		"Microsoft.Data.SqlClient", "Microsoft.EntityFrameworkCore.SqlServer",
		"com.microsoft.sqlserver:mssql-jdbc", "tds_fdw", "tiny_tds"},
	Through: sqlThrough,
	Scheme:  "sqlserver",
	SignIn: &SignIn{RootPassword: []string{"MSSQL_SA_PASSWORD", "SA_PASSWORD"}, DefaultUser: "sa",
		Password: []string{"MSSQL_SA_PASSWORD", "SA_PASSWORD"}, NoDatabase: true},
	images:  expr.New(`mssql|azure-sql-edge|sqlserver`),
	schemes: expr.New(`^(sqlserver|mssql|jdbc:sqlserver)(\+\w+)?$`),
	keys:    expr.New(`(?i)(^|[_.-])(db|database|mssql|sqlserver|sql)`),
	hello:   tdsHello,
	reply:   tdsReply,
}

// tdsHello holds the options version, encryption (none) and the end.
const tdsHello = "\x12\x01\x00\x1a\x00\x00\x01\x00" + "\x00\x00\x0b\x00\x06" +
	"\x01\x00\x11\x00\x01" + "\xff\x00\x00\x00\x00\x00\x00" + "\x02"

func tdsReply(b []byte) (answer, bool) {
	if len(b) < 9 || b[0] != 4 || b[1] > 1 || int(binary.BigEndian.Uint16(b[2:])) < 9 || b[8] != 0 {
		return answer{}, false
	}
	return answer{verdict: stack.Answers, speaks: "sqlserver"}, true
}
