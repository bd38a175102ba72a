// Package value decides what a value is: a secret, or what carries one; and it is the one place
// that hides them. What is to be shown is hidden first and cut to a width afterwards: the half of a
// token is one, too.
package value

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
			`cipher|master|fernet|license)[_-]?keys?|` + `salt|pepper|dsn|` +
			`encryption[_-](\w+[_-])?(key|salt)|` + `jwt[_.-]?key)([_.-]|$)`)
	// secretParts are what every such name has in it; most names have none, and need no closer
	// look.
	secretParts = []string{"pass", "pwd", "secret", "token", "cred", "key", "salt", "pepper", "dsn"}
	camel       = expr.New(`([a-z0-9])([A-Z])`)
	// A name that ends so says something about a secret, and is none itself.
	aboutName = expr.New(
		`(?i)[_.-](expir(y|es|es_in|ation|e)|ttl|lifetime|length|min_length|max_age|algorithm|algo|issuer|audience|` +
			`name|field|header|type|enabled|url|uri|endpoint|path|file|id|reset|rounds|policy|timeout|days|hours|` +
			`minutes|seconds)$`)
)

var (
	// anyKey is a variable that holds a key of whatever kind, and openKey one of a kind that
	// anybody may see.
	anyKey  = expr.New(`^[A-Z0-9_]+_KEY$`)
	openKey = expr.New(`(^|_)(PUB(LIC|LISHABLE)?|SITE|PRIMARY|FOREIGN|SORT|PARTITION|CACHE|ROUTING|OBJECT|SHARD|` +
		`RANGE|INDEX|GROUP|LOOKUP|LOCALE|TRANSLATION|MEASUREMENT|STORAGE|HOT|MAP)(_[A-Z0-9]+)*_KEY$|^(NEXT_)?PUBLIC_|` +
		`^(VITE|REACT_APP|EXPO_PUBLIC|NUXT_PUBLIC|GATSBY|VUE_APP)_`)
)

// carriers are the forms in which a value carries a password; group 1 is the password. Encoded
// tells how the password is written in it.
var carriers = []struct {
	form   *expr.Expr
	encode func(string) string
	decode func(string) (string, error)
}{
	// RFC 3986, section 3.2.1; up to the last @ before the path.
	{expr.New(`[a-zA-Z][a-zA-Z0-9+.-]*://[^/\s:@?#]*:([^/\s?#"']+)@`), func(p string) string {
		return strings.TrimPrefix(url.UserPassword("", p).String(), ":")
	}, url.PathUnescape},
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

// IsSecret reports whether a setting's value must not be shown, judged by its name and value. A
// value that carries a password, as an address does, counts.
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
	return found >= 0 || IsToken(value)
}

// IsKey reports whether a variable's name says no more than that it holds a key, of whatever kind:
// that is a secret, but nobody knows whether it can be made up.
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

// Hidden stands in the place of a secret.
const Hidden = "***"

// tokens are the forms that those who issue tokens give them so that they are found where they
// don't belong, each with something that every one of them has in it.
var tokens = []struct {
	has  string
	form *expr.Expr
}{
	{"AKIA", expr.New(`\bAKIA[0-9A-Z]{16}\b`)}, {"ASIA", expr.New(`\bASIA[0-9A-Z]{16}\b`)},
	{"gh", expr.New(`\bgh[pousr]_[A-Za-z0-9]{20,}`)}, {"github_pat_",
		expr.New(`\bgithub_pat_\w{20,}`)},
	{"glpat-", expr.New(`\bgl(?:pat|ptt|rt|dt|cbt|soat)-[\w.-]{16,}`)},
	{"xox", expr.New(`\bxox[abeoprs]-[\w-]{10,}`)}, {"xapp-", expr.New(`\bxapp-[\w-]{10,}`)},
	{"_live_", expr.New(`\b(?:sk|rk)_live_[A-Za-z0-9]{10,}`)}, {"_test_",
		expr.New(`\b(?:sk|rk)_test_[A-Za-z0-9]{10,}`)},
	{"whsec_", expr.New(`\bwhsec_[\w+/=]{10,}`)}, {"AIza", expr.New(`\bAIza[\w-]{30,}`)},
	{"ya29.", expr.New(`\bya29\.[\w.-]{20,}`)}, {"GOCSPX-", expr.New(`\bGOCSPX-[\w-]{20,}`)},
	{"npm_", expr.New(`\bnpm_[A-Za-z0-9]{30,}`)}, {"pypi-", expr.New(`\bpypi-[\w-]{30,}`)},
	{"SG.", expr.New(`\bSG\.[\w-]{16,}\.[\w-]{16,}`)}, {"sk-",
		expr.New(`\bsk-[A-Za-z0-9][\w-]{20,}`)},
	{"hf_", expr.New(`\bhf_[A-Za-z0-9]{20,}`)}, {"dop_v1_", expr.New(`\bdo[opr]_v1_[0-9a-f]{20,}`)},
	{"dckr_pat_", expr.New(`\bdckr_pat_[\w-]{16,}`)}, {"shp",
		expr.New(`\bshp(?:at|ca|pa|ss)_[0-9A-Fa-f]{20,}`)},
	{"hvs.", expr.New(`\bhv[sbr]\.[\w-]{20,}`)}, {"lin_",
		expr.New(`\blin_(?:api|oauth)_[A-Za-z0-9]{20,}`)},
	{"figd_", expr.New(`\bfigd_[\w-]{20,}`)}, {"ntn_", expr.New(`\bntn_[A-Za-z0-9]{20,}`)},
	{"eyJ", expr.New(`\beyJ[\w-]{8,}\.eyJ[\w-]{8,}\.[\w-]{8,}`)}, // RFC 7519
	{"AGE-SECRET-KEY-", expr.New(`\bAGE-SECRET-KEY-1[0-9A-Z]{20,}`)},
	{"PRIVATE KEY", expr.New(`(?s)-----BEGIN [A-Z ]*PRIVATE KEY-----.*?(?:-----END [A-Z ]*PRIVATE KEY-----|$)`)},
	{":AA", expr.New(`\b\d{8,10}:AA[\w-]{30,}`)},
	{"earer ", expr.New(`\b[Bb]earer [\w.~+/=-]{16,}`)}, // RFC 6750
}

// userOf is the user of an address that speaks with a server of pages or repositories: as a rule a
// token.
var userOf = expr.New(`(https?://)([^/\s:@?#"'<>]+)@`)

// queryToken is a key of an address's query that gives something away.
var queryToken = expr.New(`(?i)([?&](?:access_token|private_token|token|auth|api_?key|key|sig|signature|secret|` +
	`password|pwd|x-amz-[\w-]*|code)=)([^&\s#"'<>]+)`)

// Hide replaces in a text what must not be shown, wherever it stands: passwords in addresses and
// lists of pairs, tokens of known forms, private keys.
func Hide(text string) string {
	for i, c := range carriers[:3] {
		if !strings.ContainsAny(text, "@=") {
			break
		}
		for from := 0; ; {
			at := c.form.FindStringSubmatchIndex(text[from:])
			if at == nil || i == 2 && !strings.Contains(text, ";") {
				break
			}
			text = text[:from+at[2]] + Hidden + text[from+at[3]:]
			from += at[2] + len(Hidden)
		}
	}
	if strings.Contains(text, "://") {
		if strings.Contains(text, "@") {
			text = userOf.ReplaceAllStringFunc(text, func(m string) string {
				if parts := userOf.FindStringSubmatch(m); parts[2] != "git" && parts[2] != Hidden &&
					!strings.HasPrefix(parts[2], "$") {
					return parts[1] + Hidden + "@"
				}
				return m
			})
		}
		if strings.ContainsAny(text, "?&") {
			text = queryToken.ReplaceAllString(text, "${1}"+Hidden)
		}
	}
	for _, t := range tokens {
		if strings.Contains(text, t.has) {
			text = t.form.ReplaceAllString(text, Hidden)
		}
	}
	return text
}

// namedValue finds the keys on a line, in any style that has values behind them.
var namedValue = expr.New(`([A-Za-z0-9_.-]+)["']?[ \t]*[:=][ \t]*`)

// longest is how much of a line is shown, in bytes.
const longest = 160

// Excerpt is a line of a file as it can be shown beside what is wrong with it: nothing of a value
// that may be a secret is in it, and it is cut only then.
func Excerpt(line string) string {
	for _, at := range namedValue.FindAllStringSubmatchIndex(line, -1) {
		if IsSecret(line[at[2]:at[3]], "") {
			line = line[:at[1]] + "…"
			break
		}
	}
	if line = Hide(line); len(line) > longest {
		line = strings.ToValidUTF8(line[:longest], "") + "…"
	}
	return strings.ToValidUTF8(line, "?")
}

// IsToken reports whether a value has the form of a token in it.
func IsToken(value string) bool {
	for _, t := range tokens {
		if strings.Contains(value, t.has) && t.form.MatchString(value) {
			return true
		}
	}
	return false
}

// Address is an address of a repository as it can be shown: without user information but the usual
// user of ssh, and without the values of its query.
func Address(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" || !strings.Contains(address, "://") {
		if user, rest, found := strings.Cut(address, "@"); found &&
			!strings.ContainsAny(user, "/:") && user != "git" {
			return Hidden + "@" + rest
		}
		return Hide(address)
	}
	if u.User != nil {
		if _, has := u.User.Password(); has || u.User.Username() != "git" {
			u.User = url.User("HIDDEN")
		}
	}
	if u.RawQuery != "" {
		u.RawQuery = "HIDDEN"
	}
	u.Fragment = ""
	return strings.ReplaceAll(u.String(), "HIDDEN", Hidden)
}

// Reachable is an address by which others can get the same repository: one without what is this
// person's alone.
func Reachable(address string) string {
	u, err := url.Parse(address)
	if err != nil || u.Scheme == "" || !strings.Contains(address, "://") {
		return address
	}
	if _, has := u.User.Password(); u.User != nil &&
		(has || u.User.Username() != "git" && u.Scheme != "ssh") {
		u.User = nil
	}
	u.RawQuery, u.Fragment = "", ""
	return u.String()
}

// PasswordOf gives the password that a value carries, decoded: in an address (RFC 3986), or in a
// list of pairs as databases take it. It is empty if there is none.
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

// WithPassword puts another password into a value that carries one, encoded as the value's form
// asks, and leaves every other character.
func WithPassword(value, password string) string {
	start, end, i := carried(value)
	if i < 0 {
		return value
	}
	return value[:start] + carriers[i].encode(password) + value[end:]
}
