package fill

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/settings"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// given applies --set and the answers; the former win.
func (m giving) given() error {
	for _, source := range []map[string]string{m.opt.Answers, m.opt.Set} {
		for _, name := range slices.Sorted(maps.Keys(source)) {
			file, key := "", name
			if i := strings.IndexByte(name, ':'); i >= 0 {
				file, key = path.Clean(name[:i]), name[i+1:]
			}
			if m.put(file, key, source[name]) {
				continue
			}
			if err := m.addGiven(file, key, name, source[name]); err != nil {
				return err
			}
		}
	}
	var err error
	m.each(func(f *File, s *Setting) {
		if s.Origin == Answered && err == nil {
			s.Issued = m.deciding().issued(f, s)
			err = m.accept(s, s.value, "the answer for "+s.Key)
		}
	})
	return err
}

// put gives a key a value in a file or, where file is empty, in all that count; it is false if none
// has the key.
func (m giving) put(file, key, value string) (hit bool) {
	m.each(func(f *File, s *Setting) {
		all := file == "" && (m.opt.Only == "" || f.Path == path.Clean(m.opt.Only))
		if s.Key != key || !all && f.Path != file {
			return
		}
		s.value, s.Origin, hit = value, Answered, true
		s.Remark, s.Level = "", ""
		m.known[key] = value
		if value == "" {
			m.plan.Waived = append(m.plan.Waived, Member{f.Path, key})
			s.Remark = "left empty, as you have said"
		}
	})
	return hit
}

// addGiven adds a key that no file has to the one that is named.
func (m giving) addGiven(file, key, name, value string) error {
	only := cmp.Or(m.opt.Only, file)
	i := slices.IndexFunc(m.plan.Files, func(f File) bool { return f.Path == path.Clean(only) })
	if only == "" || i < 0 {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSettingUnknown,
			Text:   fmt.Sprintf("no settings file has a key %s", name),
			Remedy: fmt.Sprintf("To add it to one, name the file: --file FILE --set %s=…", key)}
	}
	f := &m.plan.Files[i]
	if f.Format != settings.Env && f.Format != settings.Properties {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeSettingUnknown,
			At: stack.Place{File: f.Path}, Text: fmt.Sprintf("the file has no key %s", key),
			Remedy: "Keys of this format are written with dots between their levels; to add " +
				"one, edit the file."}
	}
	f.Settings = append(f.Settings, Setting{Key: key, Origin: Answered,
		Secret: values.IsSecret(key, value), value: value})
	return nil
}

// accept takes an answer, in the form that the setting wants; what can't be right is a fault that
// shows no value.
func (m giving) accept(s *Setting, value, what string) error {
	if clean := strings.TrimSpace(value); clean != value && s.Secret &&
		!strings.Contains(clean, "\n") {
		value = clean
		s.remark("", "blanks around it were taken away")
	}
	if hashKey.MatchString(s.Key) && !hashed.MatchString(value) && value != "" {
		h, err := hash(m.opt.Random, value, s.Comment)
		if err != nil {
			return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeAnswerInvalid,
				Text: what + " can't be hashed: it is longer than 72 bytes", Remedy: "Give a " +
					"shorter password."}
		}
		value = h
		s.remark("", "the hash of the password given")
	} else if s.Secret || m.deciding().issued(&File{}, s) {
		note, err := m.valid(s, value)
		if err != nil {
			return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeAnswerInvalid, Text: what +
				": " + err.Error(), Remedy: "Give another value for " + s.Key + "."}
		}
		if note != "" {
			s.remark("", "%s", note)
		}
	}
	s.value = value
	return nil
}

// resolve finds values for what is missing: what was given for the same key elsewhere, the shell's
// variables, the locker, and a person. It lists what stays open.
func (m giving) resolve() error {
	open, err := m.open()
	if err != nil {
		return err
	}
	if err := m.askFor(open); err != nil {
		return err
	}
	for _, p := range open {
		s, q := m.at(p), m.question(p)
		if v := m.known[s.Key]; v != "" {
			if err := m.answered(s, v); err != nil {
				return err
			}
			continue
		}
		m.plan.Missing = append(m.plan.Missing,
			Lack{File: q.File, Key: q.Key, Hint: q.Hint, URL: q.URL,
				Services: q.Services, Why: q.Why, Skipped: m.opt.Ask != nil})
	}
	return m.try()
}

// answered gives a setting the answer for its key.
func (m giving) answered(s *Setting, value string) error {
	s.Origin = Answered
	return m.accept(s, value, "the answer for "+s.Key)
}

// open are the settings that are missing, and that neither an earlier answer nor the environment
// nor the locker gives.
func (m giving) open() (open []place, err error) {
	for i := range m.plan.Files {
		file := &m.plan.Files[i]
		if m.opt.Only != "" && file.Path != path.Clean(m.opt.Only) {
			continue
		}
		for k := range file.Settings {
			s := &file.Settings[k]
			if s.Origin != Missing {
				continue
			}
			if v := m.known[s.Key]; v != "" {
				if err := m.answered(s, v); err != nil {
					return nil, err
				}
			} else if !m.fromEnvironment(s) && !m.fromLocker(file.Path, s) {
				open = append(open, place{i, k})
			}
		}
	}
	return open, nil
}

// askFor asks a person for what is open, if there is one: each key once.
func (m giving) askFor(open []place) error {
	var questions []Question
	var asked []place
	for _, p := range open {
		if q := m.question(p); !slices.ContainsFunc(questions,
			func(o Question) bool { return o.Key == q.Key }) {
			questions, asked = append(questions, q), append(asked, p)
		}
	}
	if m.opt.Ask == nil || len(questions) == 0 {
		return nil
	}
	answers, err := m.opt.Ask(questions)
	if err != nil {
		return err
	}
	for i, answer := range answers[:min(len(answers), len(asked))] {
		if answer != "" {
			m.known[m.at(asked[i]).Key] = answer
		}
	}
	return nil
}

func (m giving) fromEnvironment(s *Setting) bool {
	if m.opt.Environment == nil {
		return false
	}
	v, ok := m.opt.Environment(s.Key)
	if !ok || v == "" {
		return false
	}
	if _, err := m.valid(s, v); err != nil {
		s.remark(stack.Warning, "the shell's variable of this name doesn't fit: %s", err)
		return false
	}
	s.Origin = Answered
	s.remark("", "from the shell's variable")
	return m.accept(s, v, "the shell's variable "+s.Key) == nil
}

func (m giving) fromLocker(file string, s *Setting) bool {
	if m.opt.Locker == nil {
		return false
	}
	v, ok := m.opt.Locker(file, s.Key)
	if !ok || v == "" {
		return false
	}
	note, err := m.valid(s, v)
	if err != nil {
		s.remark(stack.Warning, "the one in the locker doesn't serve: %s", err)
		return false
	}
	s.value, s.Origin = v, Locker
	s.remark("", "kept from before")
	if note != "" {
		s.remark("", "%s", note)
	}
	return true
}

// maxHint is how many letters of a comment a question shows.
const maxHint = 240

// shortened cuts a long text behind a word.
func shortened(text string) string {
	letters := []rune(text)
	if len(letters) <= maxHint {
		return text
	}
	cut := string(letters[:maxHint])
	if i := strings.LastIndexByte(cut, ' '); i > 0 {
		cut = cut[:i]
	}
	return cut + " …"
}

// askers are those of the services that read a setting for themselves: the image of a server, as it
// comes, reads nothing of an application's settings, even where it is given their file.
func (m giving) askers(services []string, key string) []string {
	own := slices.DeleteFunc(slices.Clone(services), func(name string) bool {
		v := m.stack.Service(name)
		return v != nil && v.Runs == stack.Container && v.Build == "" &&
			protocol.OfImage(v.Image) != nil
	})
	if r, read := m.reads[key]; len(own) == 0 && read {
		for _, v := range m.stack.Services {
			if v.Project != "" && (v.Project == r.Project || v.Dir() == r.Project) {
				own = append(own, v.Name)
			}
		}
	}
	if len(own) == 0 {
		return services
	}
	return own
}

func (m giving) question(p place) Question {
	f, s := &m.plan.Files[p.file], m.at(p)
	hint := strings.ReplaceAll(s.Comment, "\n", " ")
	q := Question{File: f.Path, Key: s.Key, Hint: shortened(hint), URL: link.FindString(hint),
		Secret: s.Secret, Services: m.askers(f.Services, s.Key)}
	switch r, read := m.reads[s.Key]; {
	case hashKey.MatchString(s.Key):
		q.Why = "a password; its hash is kept"
	case read && r.Must:
		q.Why = fmt.Sprintf("%s:%d fails without it", r.At.File, r.At.Line)
	case read:
		q.Why = fmt.Sprintf("%s:%d reads it", r.At.File, r.At.Line)
	case m.deciding().variable(f, s):
		q.Why = "the compose file can't be read without it"
	case s.Issued && hint == "":
		q.Why = "only whoever issues it can give it"
	}
	if s.Level != "" && s.Remark != "" {
		q.Why = strings.TrimPrefix(q.Why+"; "+s.Remark, "; ")
	}
	check := *s
	q.Check = func(answer string) (string, error) {
		if answer == "" || hashKey.MatchString(check.Key) {
			return "", nil
		}
		return m.valid(&check, strings.TrimSpace(answer))
	}
	return q
}

var tokenEnd = expr.New(`(?i)_?(api_?)?(access_?)?(token|key|secret|client_secret|auth_token)$`)

// try asks the endpoint that stands beside an issued secret whether it takes it.
func (m giving) try() error {
	if m.opt.Try == nil {
		return nil
	}
	var refused stack.Faults
	m.each(func(f *File, s *Setting) {
		if !s.Issued || s.value == "" || s.Origin == Missing || s.Origin == Template {
			return
		}
		prefix := tokenEnd.ReplaceAllString(s.Key, "")
		at := sibling(f, prefix, "_URL", "_API_URL", "_BASE_URL", "_ENDPOINT", "_API_ENDPOINT",
			"_API")
		if prefix == "" || at == nil || !strings.HasPrefix(at.value, "http") {
			return
		}
		verdict, no := m.opt.Try(at.value, s.value)
		s.remark("", "%s", verdict)
		if no {
			refused = append(refused, &stack.Fault{Kind: stack.Missing,
				Code: stack.CodeAnswerRefused,
				At:   stack.Place{File: f.Path}, Text: fmt.Sprintf("%s is not taken: %s", s.Key,
					verdict),
				Remedy: "Get a fresh one, and give it again. To keep this one: leave out --try."})
		}
	})
	if len(refused) > 0 {
		return refused
	}
	return nil
}
