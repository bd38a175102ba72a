package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// ftp is RFC 959; its greeting has the number of SMTP's, so that only its words tell them apart.
var ftp = &Protocol{
	Name:     "ftp",
	Ports:    []int{21, 2121},
	Programs: []string{"vsftpd", "proftpd"},
	Scheme:   "ftp",
	images:   expr.New(`ftpd?$`),
	schemes:  expr.New(`^ftps?$`),
	implied:  map[string]int{"ftps": 990},
	keys:     expr.New(`(?i)(^|[_.-])ftp`),
	ask:      askFTP,
	banner:   func(b []byte) bool { return bytes.HasPrefix(b, []byte("220")) && ftpWord.Match(b) },
	complains: func(b []byte) string {
		if bytes.HasPrefix(b, []byte("421")) {
			return "it says: " + oneLine(string(b), 120)
		}
		return ""
	},
}

var ftpWord = expr.New(`(?i)ftp`)

// askFTP takes any greeting with 220: a server need not name itself.
func askFTP(t *talk) answer {
	a := greeting("ftp")(t)
	if a.verdict == stack.Stranger && a.speaks == "smtp" && !a.mail {
		a = answer{verdict: stack.Answers, speaks: "ftp"}
	}
	return a
}
