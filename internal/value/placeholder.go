package value

import (
	"net/url"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
)

var placeholder = expr.New(
	`(?i)^(<.*>|\[.*\]|\{\{.*\}\}|change[-_ ]?(me|this|it).*|.*change[-_]?me.*|.*[-_]change[-_]?this.*|replace[-_ ` +
		`]?(me|this|with).*|.*replace[-_]?me.*|your[-_ ].*|your(secret|password|token|key|api|own).*|my[-_](secret|` +
		`token|key|password)([-_].*)?|([a-z]+[-_])*x{3,}([-_.]x+)*|\*{3,}|\.\.\.|(?-i:TODO)|tbd|` +
		`fill[-_ ]?(me|this|in).*|` +
		`(put|insert|enter|add|generate|paste)[-_ ].*|([a-z0-9]+_)*(x{4,}|\.{3})|secret|secret[-_]?key|(very|super|` +
		`my|top)[-_]?secret.*|.*insecure.*|change[-_]?it.*|not[-_]?(so[-_]?)?secret|placeholder|` +
		`some[-_ ].*|\w{1,8}\.\.\.|.*\b(you|your[-_.]?\w+|someone|somebody)@[\w-]+\.\w+\b.*|` +
		`to[-_ ]?be[-_ ]?(modified|changed|replaced|set|filled|defined|generated)\w*|` +
		`base64:(\.{3}|x+|your.*)?|0{8}(-0{4}){3}-0{12}|0{8,}|0?123456789(0|abcdef)?.*|dummy.*|s3cret|keyboard cat)$`)

// jsonList is a list of texts or numbers as JSON writes it.
var jsonList = expr.New(`^\[\s*(("[^"]*"|-?\d+)\s*(,\s*("[^"]*"|-?\d+)\s*)*)?\]$`)

// hints are what a placeholder has in it; most values have none, and need no closer look.
var hints = []string{"change", "insecure", "replace", "your", "my", "xx", "**", "...", "todo",
	"tbd", "fill", "put",
	"insert", "enter", "add", "generate", "paste", "secret", "placeholder", "some", "base64:",
	"0000", "12345", "you@", "someone@", "somebody@", "dummy", "s3cret", "keyboard", "<", "[", "{",
	"tobe", "to-be",
	"to_be", "to be"}

// Placeholder reports whether a template's value only stands for one that is to be filled in.
func Placeholder(value string) bool {
	value = strings.TrimSpace(value)
	if first, more, several := strings.Cut(value, ","); several &&
		!strings.ContainsAny(value, "[{<") {
		return Placeholder(first) && Placeholder(more)
	}
	lower := strings.ToLower(value)
	return value != "" && !jsonList.MatchString(value) &&
		slices.ContainsFunc(hints, func(h string) bool { return strings.Contains(lower, h) }) &&
		placeholder.MatchString(value)
}

// anybody are names of users in addresses that stand for whoever there is.
var anybody = []string{"user", "username", "your_user", "youruser", "your-username", "johndoe",
	"db_user", "dbuser", "my_user", "myuser"}

// StandsFor reports whether a setting's value only stands for one, as a whole, as its own key's
// name, or by the user that an address signs in with.
func StandsFor(key, value string) bool {
	if Placeholder(value) || value != "" && strings.EqualFold(value, key) {
		return true
	}
	u, err := url.Parse(strings.TrimPrefix(value, "jdbc:"))
	return err == nil && u.User != nil &&
		slices.Contains(anybody, strings.ToLower(u.User.Username()))
}

var (
	optional = expr.New(
		`(?i)\boptional(ly)?\b|leave (this |it )?(empty|blank)|not (needed|required)|if (you )?(want|wish|need)|` +
			`if (you(’re|'re| are)? )?us(ing|ed|e)\b|only ` +
			`(needed|required) (for|in|if|when)|\bthe default is\b|\bdefaults to\b|\(default:? `)
)

// Waives reports whether a comment on a setting says that one may do without it.
func Waives(comment string) bool { return optional.MatchString(comment) }
