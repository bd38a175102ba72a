package dotenv

import (
	"net/url"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
)

var (
	secretName = expr.New(
		`(?i)(^|[_.-]|\b(?:pg|db|sql|mysql|redis|mongo|smtp|mail))(pass(word|wd|phrase)?|pwd|secrets?|token|` +
			`credentials?|private[_-]?key|(api|access|secret|app|signing|encrypt(?:ion)?|crypt|` +
			`cipher|master|fernet|license)[_-]?keys?|` +
			`salt|pepper|dsn|` +
			`encryption[_-](\w+[_-])?(key|salt)|` +
			`jwt[_.-]?key)([_.-]|$)`)
	// secretParts are what every such name has in it; most names have none, and need no closer look.
	secretParts = []string{"pass", "pwd", "secret", "token", "cred", "key", "salt", "pepper", "dsn"}
	camel       = expr.New(`([a-z0-9])([A-Z])`)
	// A name that ends so says something about a secret, and is none itself.
	aboutName = expr.New(
		`(?i)[_.-](expir(y|es|es_in|ation|e)|ttl|lifetime|length|min_length|max_age|algorithm|algo|issuer|audience|` +
			`name|field|header|type|enabled|url|uri|endpoint|path|file|id|reset|rounds|policy|timeout|days|hours|` +
			`minutes|seconds)$`)
)

var (
	// anyKey is a variable that holds a key of whatever kind, and openKey one of a kind that anybody may see.
	anyKey  = expr.New(`^[A-Z0-9_]+_KEY$`)
	openKey = expr.New(`(^|_)(PUB(LIC|LISHABLE)?|SITE|PRIMARY|FOREIGN|SORT|PARTITION|CACHE|ROUTING|OBJECT|SHARD|` +
		`RANGE|INDEX|GROUP|LOOKUP|LOCALE|TRANSLATION|MEASUREMENT|STORAGE|HOT|MAP)(_[A-Z0-9]+)*_KEY$|^(NEXT_)?PUBLIC_|` +
		`^(VITE|REACT_APP|EXPO_PUBLIC|NUXT_PUBLIC|GATSBY|VUE_APP)_`)
)

// carriers are the forms in which a value carries a password; group 1 is the password. Encoded tells how the
// password is written in it.
var carriers = []struct {
	form   *expr.Expr
	encode func(string) string
	decode func(string) (string, error)
}{
	// RFC 3986, section 3.2.1; up to the last @ before the path.
	{expr.New(`[a-zA-Z][a-zA-Z0-9+.-]*://[^/\s:@?#]*:([^/\s?#"']+)@`),
		func(p string) string { return strings.TrimPrefix(url.UserPassword("", p).String(), ":") }, url.PathUnescape},
	// In the query of an address: RFC 3986, section 3.4.
	{expr.New(`(?i)://[^\s?]*\?(?:[^\s#]*&)?(?:password|pwd)=([^&\s#]+)`), url.QueryEscape,
		url.QueryUnescape},
	// Pairs with semicolons between them.
	{expr.New(`(?i)(?:^|;)\s*(?:password|pwd)\s*=\s*([^;"']+)`), func(p string) string {
		if strings.ContainsAny(p, `;"' =`) {
			return `"` + strings.ReplaceAll(p, `"`, `""`) + `"`
		}
		return p
	}, func(p string) (string, error) { return p, nil }},
	// Pairs with blanks between them.
	{expr.New(`(?i)^(?:.*=.*\s)?password=([^\s';]+)(?:\s|$)`), func(p string) string {
		if strings.ContainsAny(p, ` '\`) || p == "" {
			return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(p) + "'"
		}
		return p
	}, func(p string) (string, error) { return p, nil }},
}

// IsSecret reports whether a setting's value must not be shown, judged by its name and value. A value that carries a
// password, as an address does, counts.
func IsSecret(key, value string) bool {
	if lower := strings.ToLower(key); slices.ContainsFunc(secretParts,
		func(p string) bool { return strings.Contains(lower, p) }) {
		if lower != key && strings.ToUpper(key) != key {
			key = camel.ReplaceAllString(key, "${1}_${2}")
		}
		if secretName.MatchString(key) && !aboutName.MatchString(key) || IsKey(key) {
			return true
		}
	}
	_, _, found := carried(value)
	return found >= 0
}

// IsKey reports whether a variable's name says no more than that it holds a key, of whatever kind: that is a secret,
// but nobody knows whether it can be made up.
func IsKey(name string) bool {
	return anyKey.MatchString(name) && !openKey.MatchString(name) && !secretName.MatchString(name)
}

// carried finds the password in a value: where it stands, and which carrier has it; -1 is none.
func carried(value string) (start, end, carrier int) {
	if !strings.ContainsAny(value, "@=") {
		return 0, 0, -1
	}
	for i, c := range carriers {
		if at := c.form.FindStringSubmatchIndex(value); at != nil {
			return at[2], at[3], i
		}
	}
	return 0, 0, -1
}

// Mask replaces the passwords in the addresses of a text.
func Mask(text string) string {
	for i, c := range carriers[:3] {
		if !strings.ContainsAny(text, "@=") {
			return text
		}
		for from := 0; ; {
			at := c.form.FindStringSubmatchIndex(text[from:])
			if at == nil || i == 2 && !strings.Contains(text, ";") {
				break
			}
			text = text[:from+at[2]] + "***" + text[from+at[3]:]
			from += at[2] + 3
		}
	}
	return text
}

// PasswordOf gives the password that a value carries, decoded: in an address (RFC 3986), or in a list of pairs as
// databases take it. It is empty if there is none.
func PasswordOf(value string) string {
	start, end, i := carried(value)
	if i < 0 {
		return ""
	}
	if plain, err := carriers[i].decode(value[start:end]); err == nil {
		return plain
	}
	return value[start:end]
}

// WrittenPassword gives the password that a value carries as it is written there.
func WrittenPassword(value string) string {
	start, end, _ := carried(value)
	return value[start:end]
}

// WithPassword puts another password into a value that carries one, encoded as the value's form asks, and leaves
// every other character.
func WithPassword(value, password string) string {
	start, end, i := carried(value)
	if i < 0 {
		return value
	}
	return value[:start] + carriers[i].encode(password) + value[end:]
}
