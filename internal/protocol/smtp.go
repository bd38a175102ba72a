package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
)

// smtp is RFC 5321; the server greets with 220. Its usual port here is that of mail catchers.
var smtp = &Protocol{
	Name:    "smtp",
	Ports:   []int{1025, 25, 587},
	Scheme:  "smtp",
	SignIn:  &SignIn{NoUser: true, NoDatabase: true},
	images:  expr.New(`mail`),
	schemes: expr.New(`^smtps?$`),
	implied: map[string]int{"smtp": 25, "smtps": 465},
	keys:    expr.New(`(?i)(^|[_.-])(smtp|mail(er)?|email)`),
	ask:     greeting("smtp"),
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("220")) },
	// RFC 5321, section 3.1 and 3.8.
	complains: func(b []byte) string {
		if bytes.HasPrefix(b, []byte("421")) || bytes.HasPrefix(b, []byte("554")) {
			return "it says: " + oneLine(string(b), 120)
		}
		return ""
	},
}

// mailWord is in the greetings of mail servers (RFC 5321, section 4.2.2, asks for SMTP or ESMTP in
// none).
var mailWord = expr.New(`(?i)smtp|mail`)
