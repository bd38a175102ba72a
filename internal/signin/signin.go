// Package signin finds users and passwords that stand beside each other: in the prose of
// instructions, in tables, and in code or data that makes users. It reads lines and knows nothing
// of files.
package signin

import (
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/value"
)

// Found is a user with a password, and the line, from 1, on which the user stands.
type Found struct {
	User, Password string
	Line           int
}

var (
	userWord     = `(?:user(?:[-_ ]?name)?|e-?mail|login|account)`
	passwordWord = `(?:pass(?:word|wd)?|pwd)`
	// A user and a password on one line, in either of the forms that people write them in.
	labelled = expr.New(`(?i)(?:^|[^\w.-])` +
		userWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|/()]+)[`*\"']*.{0,30}?\\b" +
		passwordWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|()]+)")
	slashed = expr.New(
		"(?i)[`*\"' (]([\\w.+-]+@[\\w-]+(?:\\.[\\w-]+)+|admin|demo|root|test|guest)" +
			"[`*\"']*\\s*(?:/|:|\\||and)\\s*[`*\"']*([^\\s`*\"'|/()]{3,40})")
	// The same with the words behind the values, which then stand in quotes.
	labelledBehind = expr.New("(?i)[`\"'*]([^\\s`\"'*]+)[`\"'*]+ (?:as )?(?:the |your )?" + userWord +
		",? (?:and|with) (?:the )?[`\"'*]([^\\s`\"'*]+)[`\"'*]+ (?:as )?(?:the |your )?" + passwordWord + `\b`)
	// The same in a sentence: as kim with the password tide. One of the two stands in quotes, or
	// the words name both.
	quotedBoth = expr.New("(?i)\\b(?:as|with|" + userWord + ") (?:the )?(?:" + userWord + " )?([`\"']?)([\\w.+@-]+)" +
		"[`\"']?,? (?:and|with|using) (?:the |its )?" + passwordWord +
		" (?:is |of )?([`\"'])([^\\s`\"']+)[`\"']")
	namedBoth = expr.New("(?i)\\b" + userWord + "\\s+([\\w.+@-]+),? (?:and|with) (?:the )?" +
		passwordWord + "\\s+([\\w.+@!$%&-]+)")
	// Both are the same word.
	sameBoth = expr.New("(?i)\\b(?:" + userWord + "|admin) and (?:the )?" + passwordWord +
		" (?:are|is) (?:both )?[`\"'*]*([\\w.+@-]*\\w)")
	userLine = expr.New(`(?i)(?:^|[^\w.-])` + userWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|()]+)")
	passLine = expr.New(`(?i)\b` + passwordWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|()]+)")
	aboutIt  = expr.New(`(?i)password|credential|sign[- ]?in|log[- ]?in|default (user|admin|account)|seed`)
	callUser = expr.New(
		`create_(?:super)?user\(\s*["']([^"']+)["'](?:\s*,\s*["'][^"']*@[^"']*["'])?` +
			`\s*,\s*(?:password\s*=\s*)?["']([^"']+)["']`)
	notValue = expr.New(
		`(?i)^(prints?|gets?|sets?|asks?|has|then|a|string|text|varchar|true|false|null|nil|none|` +
			`undefined|required|hash.*|bcrypt.*|process\..*|env.*|os\..*|faker.*|<.*|\$.*|\{.*|` +
			`\[.*|t\.|your.*|password_hash|self\..*|user\..*|data\..*|req\..*|params.*|url|name|` +
			`password|username|email|and|or|the|a|an|not|to|for|https?:.*|[\w./-]+\.(ini|ya?ml|` +
			`json|py|md|cfg|conf|toml|env|txt|rst|js|ts|rb|php))$`)
	passwordHead = expr.New(`^` + passwordWord + `$`)
	userHead     = expr.New(`^` + userWord + `$`)
	emphasis     = expr.New(`(^|[\s(])_([^_\s](?:[^_]*[^_\s])?)_([\s:.,)]|$)`)
	// A row of a table in Markdown or AsciiDoc, or in a grid of reStructuredText; and what
	// separates two of a grid.
	tableRow  = expr.New(`^\s*\|(.+?)\|?\s*$`)
	tableRule = expr.New(`^\s*\+[-=+]+\+\s*$`)
)

// maxLine is how long a line may be that people have written, in bytes.
const maxLine = 1000

// IsValue reports whether a text can be a user or a password, and is not code, a word of the
// language around it, or the name of a file.
func IsValue(text string) bool { return text != "" && !notValue.MatchString(text) }

// InProse finds those that instructions name: with labels, in sentences, side by side, and in
// tables. Heads are the lines at which sections begin. What stands side by side, or below each
// other, counts where the section is about signing in.
func InProse(lines []string, heads map[int]bool) []Found {
	f := finder{prose: true, columns: noColumns}
	for i, line := range lines {
		if heads[i+1] {
			f.about = false
		}
		f.line(i, line)
	}
	return f.out
}

// InCode finds those that code or data makes users with. In code a value counts only as a text in
// quotes: anything else is computed. Below one another they stand up to two lines apart.
func InCode(lines []string, isCode bool) []Found {
	f := finder{code: isCode, about: true, columns: noColumns}
	for i, line := range lines {
		f.line(i, line)
	}
	return f.out
}

// InTable finds those of lines with values between commas or semicolons, the first of which has the
// columns' heads.
func InTable(lines []string) []Found {
	f := finder{about: true, columns: noColumns}
	bars := strings.NewReplacer(",", "|", ";", "|", `"`, "")
	for i, line := range lines {
		f.row(i, "|"+bars.Replace(strings.TrimRight(line, "\r"))+"|")
	}
	return f.out
}

// finder goes through lines.
type finder struct {
	prose, code bool
	about       bool // what stands here is about signing in
	columns     [2]int
	fenced      bool   // in a table that has its own beginning and end
	user        string // that is still without a password
	userAt      int
	out         []Found
}

var noColumns = [2]int{-1, -1}

func (f *finder) add(user, password string, i int) {
	f.out = append(f.out, Found{user, password, i + 1})
}

// form is a way to write a user and a password in one line; user and password are the numbers of
// their groups.
type form struct {
	expr           *expr.Expr
	user, password int
	prose, about   bool // it counts in prose alone; only where it is about signing in
}

// forms are all of them, the clearest first.
var forms = []form{
	{callUser, 1, 2, false, false},
	{labelled, 1, 2, false, false},
	{labelledBehind, 1, 2, true, false},
	{quotedBoth, 2, 4, true, false},
	{namedBoth, 1, 2, true, true},
	{sameBoth, 1, 1, true, true},
}

func (f *finder) line(i int, line string) {
	if len(line) > maxLine {
		return
	}
	f.about = f.about || aboutIt.MatchString(line)
	if f.prose && f.row(i, line) {
		return // what a row says depends on the heads of its table alone
	}
	if f.prose {
		line = emphasis.ReplaceAllString(strings.ReplaceAll(line, "**", ""), "$1$2$3")
	}
	if f.both(i, line) || !f.about {
		return
	}
	if m := literal(userLine, line, f.code); m != nil {
		f.user, f.userAt = m[1], i
	}
	if m := literal(passLine, line, f.code); m != nil && i-f.userAt <= 2 && f.user != "" {
		f.add(f.user, m[1], f.userAt)
		f.user = ""
	}
}

// both finds a user and a password in one line.
func (f *finder) both(i int, line string) bool {
	for _, form := range forms {
		if form.prose && !f.prose || form.about && !f.about {
			continue
		}
		if m := literal(form.expr, line, f.code && form.expr == labelled); m != nil {
			f.add(m[form.user], m[form.password], i)
			return true
		}
	}
	if !f.about || !f.prose {
		return false
	}
	m := slashedIn(line)
	if m != nil {
		f.add(m[1], m[2], i)
	}
	return m != nil
}

// literal finds a form in a line. In code a value counts only as a text in quotes: anything else is
// computed.
func literal(form *expr.Expr, line string, code bool) []string {
	at := form.FindStringSubmatchIndex(line)
	if at == nil {
		return nil
	}
	out := make([]string, len(at)/2)
	for i := range out {
		from, to := at[2*i], at[2*i+1]
		if from < 0 {
			continue
		}
		if i > 0 && code && (from == 0 || !strings.ContainsRune("\"'`", rune(line[from-1]))) {
			return nil
		}
		out[i] = line[from:to]
	}
	return out
}

// row reads a row of a table, which tells something if there are columns for users and passwords.
// It reports whether the line is one.
func (f *finder) row(i int, line string) bool {
	if strings.TrimSpace(line) == "|===" { // where a table of AsciiDoc begins and ends
		f.fenced, f.columns = !f.fenced, noColumns
		return true
	}
	if tableRule.MatchString(line) || f.fenced && strings.TrimSpace(line) == "" {
		return true
	}
	m := tableRow.FindStringSubmatch(line)
	if m == nil {
		f.columns = noColumns
		return false
	}
	row := strings.Split(m[1], "|")
	user, password := f.columns[0], f.columns[1]
	if user >= 0 && password >= 0 {
		if user < len(row) && password < len(row) {
			u, p := strings.Trim(row[user], " `*\t"), strings.Trim(row[password], " `*\t")
			if strings.Trim(u, "-:") != "" && !strings.Contains(u, " ") {
				f.add(u, p, i)
			}
		}
		return true
	}
	for k, cell := range row {
		word := strings.ToLower(strings.Trim(cell, " `*\t"))
		switch {
		case passwordHead.MatchString(word):
			f.columns[1] = k
		case userHead.MatchString(word) && f.columns[0] < 0:
			f.columns[0] = k
		}
	}
	return true
}

// isFile is the name of one, which is no password.
var isFile = expr.New(`^\.?[\w-]+(\.[\w-]+)*\.(env|example|sample|dist|template|tmpl|default|local)$|^\.env\b`)

// slashedIn finds a user and a password beside each other. A user's address is no password, and a
// file none either.
func slashedIn(line string) []string {
	for rest := " " + line; ; {
		at := slashed.FindStringSubmatchIndex(rest)
		if at == nil {
			return nil
		}
		m := []string{rest[at[0]:at[1]], rest[at[2]:at[3]], rest[at[4]:at[5]]}
		if !isFile.MatchString(m[2]) && !value.IsSecret(m[1], "") && !strings.Contains(m[2], "@") {
			return m
		}
		rest = rest[at[3]:]
	}
}
