package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
)

// imap is RFC 3501; the server greets (section 7.1).
var imap = &Protocol{
	Name:    "imap",
	Ports:   []int{143, 1143, 3143},
	Scheme:  "imap",
	schemes: expr.New(`^imaps?$`),
	implied: map[string]int{"imaps": 993},
	images:  expr.New(`dovecot`),
	keys:    expr.New(`(?i)(^|[_.-])imap`),
	ask:     greeting("imap"),
	banner: func(b []byte) bool {
		return bytes.HasPrefix(b, []byte("* OK")) || bytes.HasPrefix(b, []byte("* PREAUTH"))
	},
	complains: func(b []byte) string {
		if bytes.HasPrefix(b, []byte("* BYE")) {
			return "it says: " + oneLine(string(b[2:]), 120)
		}
		return ""
	},
}
