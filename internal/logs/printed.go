package logs

import (
	"strings"

	"nimbleharbor/internal/expr"
)

// Printed is what somebody signs in with, as a service has printed it.
type Printed struct {
	Source   string // as in Line
	User     string // empty where it isn't said
	Password string
	Text     string // the line
}

var (
	// A password on the line that speaks of it, behind its sign or a verb.
	printedHere = expr.New(`(?i)\b(?:password|passphrase)\b[^:=\n]{0,50}?(?:\bis\b|\bset to\b|[:=])+\s*["'\x60]?` +
		`([^\s"'\x60,;]{6,128})`)
	// One that comes on a line of its own, below the line that speaks of it.
	printedBelow = expr.New(`(?i)\bpassword\b.*:?\s*$`)
	ownLine      = expr.New(`^\s*["'\x60]?([A-Za-z0-9+/=_.!@#$%^&*-]{8,128})["'\x60]?\s*$`)
	// What makes a line one about a password that was just made.
	wasMade = expr.New(`(?i)\b(generated|initial|default|temporary|bootstrap|created?|random|one[- ]time|setup|` +
		`first[- ]?(run|start|login)|admin\w*|root|superuser|auto)\b`)
	printedUser = []*expr.Expr{
		expr.New(`(?i)\b(?:user(?:[-_ ]?name)?|login|e-?mail|account)\b\s*(?:is\b|[:=])?\s*["'\x60]?` + userForm),
		expr.New(`(?i)\bfor\s+["'\x60]?` + userForm),
	}
	adminWord = expr.New(`(?i)\b(admin(?:istrator)?|root|superuser)\b`)
	// What is no password, though it stands in its place.
	noPassword = expr.New(`(?i)^([*.x]+|\(?hidden\)?|\[?redacted\]?|none|null|true|false|required|incorrect|invalid|` +
		`missing|empty|changed?|reset|updated?|unset|provided|authentication|verification|successful(ly)?|using|` +
		`https?:.*|\$.*|<.*|%.*|.*[(){}].*)$`)
)

// below is how many lines below the one that speaks of it a password may come.
const below = 4

// PrintedIn finds the passwords that services have printed when they made them up, the later of one
// service in the place of the earlier for the same user.
func PrintedIn(lines []Line) (out []Printed) {
	open := map[string]int{} // how many lines ago a service spoke of a password
	about := map[string]string{}
	add := func(p Printed) {
		for i := range out {
			if out[i].Source == p.Source && out[i].User == p.User {
				out[i] = p
				return
			}
		}
		out = append(out, p)
	}
	for _, l := range lines {
		text := strings.TrimSpace(colour.ReplaceAllString(l.Text, ""))
		if m := printedHere.FindStringSubmatch(text); m != nil && wasMade.MatchString(text) &&
			isPassword(m[1]) {
			add(Printed{l.Source, userIn(text), strings.TrimRight(m[1], "."), text})
			delete(open, l.Source)
			continue
		}
		if printedBelow.MatchString(text) && wasMade.MatchString(text) {
			open[l.Source], about[l.Source] = below, text
			continue
		}
		if open[l.Source] == 0 || text == "" {
			continue
		}
		open[l.Source]--
		if m := ownLine.FindStringSubmatch(text); m != nil && isPassword(m[1]) {
			add(Printed{l.Source, userIn(about[l.Source]), m[1], about[l.Source]})
			delete(open, l.Source)
		}
	}
	return out
}

// colour are the signs by which a program colours its words.
var colour = expr.New(`\x1b\[[0-9;]*m`)

func isPassword(word string) bool { return !noPassword.MatchString(strings.TrimRight(word, ".")) }

const userForm = `([\w.+-]+(?:@[\w.-]+)?)["'\x60]?`

// noUser are words that stand behind the one for a user and are none.
var noUser = expr.New(`(?i)^(password|is|was|has|been|the|a|an|and|with|name|user|account|created?|of|to|in|by)$`)

// userIn is the user that a line names; empty if it names none.
func userIn(text string) string {
	for _, form := range printedUser {
		if m := form.FindStringSubmatch(text); m != nil && !noUser.MatchString(m[1]) {
			return m[1]
		}
	}
	return strings.ToLower(adminWord.FindString(text))
}
