package protocol

import (
	"bytes"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// ldap is asked to sign in nobody (RFC 4511, section 4.2): a server that refuses that answers too.
var ldap = &Protocol{
	Name:     "ldap",
	Ports:    []int{389, 1389},
	Programs: []string{"slapd"},
	Drivers: []string{"ldapjs", "ldapts", "python-ldap", "ldap3", "github.com/go-ldap/ldap/v3",
		"net-ldap", "django-auth-ldap"},
	Scheme:  "ldap",
	images:  expr.New(`ldap`),
	schemes: expr.New(`^ldaps?$`),
	implied: map[string]int{"ldaps": 636},
	keys:    expr.New(`(?i)(^|[_.-])ldap`),
	hello:   ldapHello,
	reply:   ldapReply,
}

const ldapHello = "\x30\x0c\x02\x01\x01\x60\x07\x02\x01\x03\x04\x00\x80\x00"

func ldapReply(b []byte) (answer, bool) {
	// a message with our number 1 and a bind's response in it; its length may take more than a byte
	if len(b) < 7 || b[0] != 0x30 {
		return answer{}, false
	}
	i := bytes.Index(b[:min(len(b), 12)], []byte{2, 1, 1, 0x61})
	if i < 2 {
		return answer{}, false
	}
	a := answer{verdict: stack.Answers, speaks: "ldap"}
	if k := bytes.Index(b[i:], []byte{10, 1}); k >= 0 && len(b) > i+k+2 {
		if code := b[i+k+2]; code == 51 || code == 52 { // busy, unavailable
			a.verdict, a.says = stack.Errs, "it says that it is busy or not available"
		}
	}
	return a, true
}
