package survey

import (
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

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
	// The same in a sentence: as kim with the password tide. One of the two stands in quotes, or the words name both.
	quotedBoth = expr.New("(?i)\\b(?:as|with|" + userWord + ") (?:the )?(?:" + userWord + " )?([`\"']?)([\\w.+@-]+)" +
		"[`\"']?,? (?:and|with|using) (?:the |its )?" + passwordWord + " (?:is |of )?([`\"'])([^\\s`\"']+)[`\"']")
	namedBoth = expr.New("(?i)\\b" + userWord + "\\s+([\\w.+@-]+),? (?:and|with) (?:the )?" +
		passwordWord + "\\s+([\\w.+@!$%&-]+)")
	userLine = expr.New(`(?i)(?:^|[^\w.-])` + userWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|()]+)")
	passLine = expr.New(`(?i)\b` + passwordWord + "[`*\"']*\\s*(?::|=>|=|is)[\\s`*\"']*([^\\s`*\"',;|()]+)")
	aboutIt  = expr.New(`(?i)password|credential|sign[- ]?in|log[- ]?in|default (user|admin|account)|seed`)
	callUser = expr.New(
		`create_(?:super)?user\(\s*["']([^"']+)["'](?:\s*,\s*["'][^"']*@[^"']*["'])?` +
			`\s*,\s*(?:password\s*=\s*)?["']([^"']+)["']`)
	notValue = expr.New(
		`(?i)^(string|text|varchar|true|false|null|nil|none|undefined|required|hash.*|bcrypt.*|process\..*|env.*|` +
			`os\..*|faker.*|<.*|\$.*|\{.*|\[.*|t\.|your.*|password_hash|self\..*|user\..*|data\..*|req\..*|params.*|` +
			`url|name|password|username|email|and|or|the|a|an|not|to|for|https?:.*|` +
			`[\w./-]+\.(ini|ya?ml|json|py|md|cfg|conf|toml|env|txt|rst|js|ts|rb|php))$`)
	passwordHead = expr.New(`^` + passwordWord + `$`)
	userHead     = expr.New(`^` + userWord + `$`)
	emphasis     = expr.New(`(^|[\s(])_([^_\s](?:[^_]*[^_\s])?)_([\s:.,)]|$)`)
	tableRow     = expr.New(`^\s*\|(.+)\|\s*$`)
)

// maxSignIns and maxSeeds bound how many are shown, and how many files of sample data are read for them.
const (
	maxSignIns = 20
	maxSeeds   = 100
)

// signIns collects the users that sample data creates: from READMEs, seeds and compose files, never from settings
// files.
func (s *surveyor) signIns() {
	s.stack.SignIns = []stack.SignIn{}
	add := func(user, password string, at stack.Place) {
		user, password = strings.TrimRight(user, ".,"), strings.TrimRight(password, ".,")
		if len(s.stack.SignIns) >= maxSignIns || user == "" || notValue.MatchString(user) ||
			notValue.MatchString(password) && !strings.EqualFold(password, "password") ||
			slices.ContainsFunc(s.stack.SignIns, func(i stack.SignIn) bool { return i.User == user }) {
			return
		}
		s.stack.SignIns = append(s.stack.SignIns, stack.SignIn{User: user, Password: password, At: at})
	}
	for _, file := range s.instructions {
		s.signInsOf(file, true, add)
	}
	seeds := slices.DeleteFunc(slices.Clone(s.tree.seeds), ofTests.MatchString)
	for _, file := range seeds[:min(len(seeds), maxSeeds)] {
		s.signInsOf(file, false, add)
	}
	for i := range s.stack.Services {
		v := &s.stack.Services[i]
		for _, line := range v.Expands {
			for _, c := range shell.Parse(line) {
				setting := map[string]string{}
				for _, set := range c.Set {
					key, value, _ := strings.Cut(set, "=")
					setting[key] = value
				}
				for _, key := range slices.Sorted(maps.Keys(setting)) {
					if m := adminKey.FindStringSubmatch(key); m != nil && setting[m[1]+"PASSWORD"] != "" {
						add(setting[key], setting[m[1]+"PASSWORD"], v.At)
					}
				}
			}
		}
		for _, key := range slices.Sorted(maps.Keys(v.Env)) {
			m := adminKey.FindStringSubmatch(key)
			if m == nil || !v.Literal(key) || v.Env[key] == "" {
				continue
			}
			password := ""
			for _, name := range []string{"PASSWORD", "PASS", "PWD"} {
				if k := m[1] + name; v.Literal(k) {
					password = v.Env[k]
				}
			}
			if password != "" {
				add(v.Env[key], password, v.EnvAt[key])
			}
		}
	}
}

// ofTests are files whose users exist for tests alone.
var ofTests = expr.New(`(?i)(^|/)(tests?|testing|pytest[\w-]*|__tests__|spec|e2e|cypress|playwright)/`)

// literal finds a form in a line. In code a value counts only as a text in quotes: anything else is computed.
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

var adminKey = expr.New(
	`^((?:.*_)?(?:ADMIN|ROOT|DEFAULT|INITIAL|SUPERUSER|INITDB_ROOT)_)(?:USER|USERNAME|EMAIL|LOGIN|NAME)$`)

// signInsOf reads one file, line by line; a password may stand up to two lines below its user.
func (s *surveyor) signInsOf(file string, readme bool, add func(user, password string, at stack.Place)) {
	folder := s.tree.at(path.Dir(file))
	data, err := folder.Read(path.Base(file))
	if err != nil || len(data) > maxReadme {
		return
	}
	lines := strings.Split(string(data), "\n")
	about, code, rows := !readme, ecosystem.OfCode(path.Ext(file)) != nil, readme
	if strings.EqualFold(path.Ext(file), ".csv") {
		rows = true
		for i, line := range lines {
			lines[i] = "|" + strings.NewReplacer(",", "|", ";", "|", `"`, "").
				Replace(strings.TrimRight(line, "\r")) +
				"|"
		}
	}
	user, userAt := "", -10
	columns := []int{-1, -1}
	others := s.startsOthers(file)
	other := false // whether the section tells of a program that a launch doesn't start
	for i, line := range lines {
		if readme && strings.HasPrefix(line, "#") {
			other = false
		}
		if is, told := others[i+1]; told {
			other = is
		}
		if len(line) > 1000 || other {
			continue
		}
		at := stack.Place{File: file, Line: i + 1}
		if aboutIt.MatchString(line) {
			about = true
		} else if readme && strings.HasPrefix(line, "#") {
			about = false
		}
		if rows && cells(line, &columns, func(u, p string) { add(u, p, at) }) {
			continue // what a row says depends on the heads of its table alone
		}
		if readme {
			line = emphasis.ReplaceAllString(strings.ReplaceAll(line, "**", ""), "$1$2$3")
		}
		if m := callUser.FindStringSubmatch(line); m != nil {
			add(m[1], m[2], at)
			continue
		}
		if m := literal(labelled, line, code); m != nil {
			add(m[1], m[2], at)
			continue
		}
		if m := labelledBehind.FindStringSubmatch(line); m != nil && readme {
			add(m[1], m[2], at)
			continue
		}
		if m := quotedBoth.FindStringSubmatch(line); m != nil && readme {
			add(m[2], m[4], at)
			continue
		}
		if m := namedBoth.FindStringSubmatch(line); m != nil && readme && about {
			add(m[1], m[2], at)
			continue
		}
		if m := slashedIn(line); m != nil && about && readme {
			add(m[1], m[2], at)
			continue
		}
		if !about {
			continue
		}
		if m := literal(userLine, line, code); m != nil {
			user, userAt = m[1], i
		}
		if m := literal(passLine, line, code); m != nil && i-userAt <= 2 && user != "" {
			add(user, m[1], stack.Place{File: file, Line: userAt + 1})
			user = ""
		}
	}
}

// cells reads a row of a table, which tells something if there are columns for users and passwords. It reports whether
// the line is a row.
func cells(line string, columns *[]int, found func(user, password string)) bool {
	m := tableRow.FindStringSubmatch(line)
	if m == nil {
		*columns = []int{-1, -1}
		return false
	}
	row := strings.Split(m[1], "|")
	if c := *columns; c[0] >= 0 && c[1] >= 0 {
		if c[0] < len(row) && c[1] < len(row) {
			user, password := strings.Trim(row[c[0]], " `*\t"), strings.Trim(row[c[1]], " `*\t")
			if strings.Trim(user, "-:") != "" && !strings.Contains(user, " ") {
				found(user, password)
			}
		}
		return true
	}
	for i, cell := range row {
		word := strings.ToLower(strings.Trim(cell, " `*\t"))
		switch {
		case passwordHead.MatchString(word):
			(*columns)[1] = i
		case userHead.MatchString(word) && (*columns)[0] < 0:
			(*columns)[0] = i
		}
	}
	return true
}

// startsOthers tells, by the line, which of a README's commands start a program that a launch doesn't start, and which
// are done by a launch.
func (s *surveyor) startsOthers(file string) map[int]bool {
	out := map[int]bool{}
	for i, d := range s.demands {
		if d.at.File != file {
			continue
		}
		if s.stack.Readme[i].Covered {
			out[d.at.Line] = false
			continue
		}
		for _, part := range d.parts {
			if s.startsOther(part, d.cwd) {
				out[d.at.Line] = true
			}
		}
	}
	return out
}

// startsOther reports whether a command comes to starting containers that a launch doesn't start.
func (s *surveyor) startsOther(part shell.Command, cwd string) bool {
	return slices.ContainsFunc(s.leaves(part, cwd), func(l leaf) bool {
		c := &covering{words: l.Words, text: l.Text, cwd: l.cwd}
		if verb, _ := composeCall(c.words); verb == "up" || verb == "start" {
			return slices.ContainsFunc(s.filesMeant(c), func(file string) bool { return !s.isActive(file) })
		}
		return program("docker", "podman")(c) && c.word(1) == "run" && s.coveredBy(l.Command, l.cwd, 0) == ""
	})
}

// slashedIn finds a user and a password beside each other. A user's address is no password, and a file none either.
func slashedIn(line string) []string {
	for rest := " " + line; ; {
		at := slashed.FindStringSubmatchIndex(rest)
		if at == nil {
			return nil
		}
		m := []string{rest[at[0]:at[1]], rest[at[2]:at[3]], rest[at[4]:at[5]]}
		if _, isTemplate := templateOf(m[2]); !isTemplate && !values.IsSecret(m[1], "") &&
			!strings.Contains(m[2], "@") {
			return m
		}
		rest = rest[at[3]:]
	}
}
