package fill

import (
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/rule"
	"nimbleharbor/internal/stack"
	values "nimbleharbor/internal/value"
)

// signInKey are the names of passwords of users that an application makes at its first start.
var signInKey = expr.New(`(?i)(^|[_.-])(admin|super_?user|root|default|initial|first|demo|seed)([_.-]|$)`)

// judgement is what is known of a setting that nobody has given a value yet.
type judgement struct {
	m *maker
	f *File
	s *Setting

	empty, stand bool // there is no value; there is one that only stands for another
	waived       bool // its comment calls it optional
	wanted       bool // its comment calls it needed
	read         stack.Read
	isRead       bool // code reads it, as read says
	// what a password for a server comes to; nil if it is for none that is known
	server func()
}

// open reports whether there is no value that could be used.
func (j *judgement) open() bool { return j.empty || j.stand }

// choice is about third parties of which settings choose one, by the beginnings of their settings;
// the choosing settings by what their keys have in them; and what their values have in them where
// it is one of these.
type choice struct{ vendor, chooser, chosen *expr.Expr }

var choices = []choice{
	{expr.New(`^(AWS|S3)_`), expr.New(`(?i)disk|filesystem|storage|upload|mail|queue|cache`),
		expr.New(`(?i)s3|aws|ses|sqs|dynamo`)},
	{expr.New(`^(CLOUDINARY|AZURE_STORAGE|GCS)_`), expr.New(`(?i)disk|filesystem|storage|upload`),
		expr.New(`(?i)cloudinary|azure|gcs|google`)},
	{expr.New(`^(MAILGUN|POSTMARK|RESEND|SENDGRID|SES|BREVO|MAILJET)_`), expr.New(`(?i)mail`),
		expr.New(`(?i)mailgun|postmark|resend|sendgrid|ses|brevo|mailjet`)},
	{expr.New(`^(PUSHER|ABLY)_`), expr.New(`(?i)broadcast|realtime`), expr.New(`(?i)pusher|ably`)},
	{expr.New(`^(ALGOLIA|TYPESENSE)_`), expr.New(`(?i)scout|search`),
		expr.New(`(?i)algolia|typesense`)},
}

// chooses is how the key of a setting ends that chooses one of several ways.
var chooses = expr.New(`(?i)(^|_)(disk|driver|connection|mailer|store|backend|transport|provider|service|engine|type)$`)

// unchosen is the setting that chooses something else than the third party that a key belongs to;
// nil if none does, or one chooses that.
func unchosen(f *File, key string) (by *Setting) {
	for _, c := range choices {
		if !c.vendor.MatchString(key) {
			continue
		}
		for i := range f.Settings {
			s := &f.Settings[i]
			if s.value == "" || !chooses.MatchString(s.Key) || !c.chooser.MatchString(s.Key) {
				continue
			}
			if c.chosen.MatchString(s.value) {
				return nil
			}
			if by == nil {
				by = s
			}
		}
	}
	return by
}

// judgementRule says what becomes of a setting in one case.
type judgementRule = rule.Rule[*judgement, func(*judgement)]

func decides(name string, when func(*judgement) bool, then func(*judgement)) judgementRule {
	return judgementRule{Name: name, When: when, Then: then}
}

func leave(text string) func(*judgement) {
	return func(j *judgement) { j.s.remark("", "%s", text) }
}

func unsaid(j *judgement) {
	j.s.unsaid = true
	j.s.remark("", "empty in the template, and nothing says that it is needed")
}

func lacking(j *judgement) { j.s.Origin = Missing }

func asItIs(*judgement) {}

// reportKey is where a third party collects what goes wrong.
var reportKey = expr.New(`(?i)(^|[_.-])dsn$`)

// judgementRules are gone through in their order; the first that holds decides. What somebody has
// said goes before what a name suggests, and what can be made up before what must be asked.
var judgementRules = []judgementRule{
	decides("the template's value is fine",
		func(j *judgement) bool { return !j.open() && !j.s.Secret && !j.s.expands }, asItIs),
	decides("put together from others", func(j *judgement) bool { return j.s.expands && !j.stand },
		leave("put together from other settings")),
	decides("an address with a password, judged with the link that it may belong to",
		func(j *judgement) bool { return j.s.Secret && isCarrier(j.s.value) }, asItIs),
	decides("the compose file has it", func(j *judgement) bool {
		return j.s.Secret && !j.empty && j.m.linking().committed(j.s.value)
	}, leave("the compose file itself holds the same value")),
	decides("a person wants it empty", func(j *judgement) bool {
		return j.empty && j.m.opt.Waived != nil && j.m.opt.Waived(j.f.Path, j.s.Key)
	}, leave("left empty, as you have said")),
	decides("a password for a server that has none, or is not of this stack",
		func(j *judgement) bool {
			if j.s.Secret && !j.waived {
				j.server = j.m.deciding().signsIn(j.f, j.s, j.empty, j.stand)
			}
			return j.server != nil
		}, func(j *judgement) { j.server() }),
	decides("of a third party that the settings could choose, and don't", func(j *judgement) bool {
		return j.empty && !j.wanted && j.m.deciding().issued(j.f, j.s) &&
			unchosen(j.f, j.s.Key) != nil
	},
		func(j *judgement) {
			by := unchosen(j.f, j.s.Key)
			j.s.Issued = true
			j.s.remark("", "left empty: %s is %s", by.Key, by.value)
		}),
	decides("issued, and the code does without", func(j *judgement) bool {
		return j.m.deciding().issued(j.f, j.s) && j.open() && j.isRead && j.read.Default &&
			!j.wanted
	},
		func(j *judgement) {
			j.s.Issued, j.s.dispensable = true, true
			left := "left as it is"
			if j.empty {
				left = "left empty"
			}
			j.s.remark("", "%s: the code does without (%s:%d)", left, j.read.At.File,
				j.read.At.Line)
		}),
	decides("where errors are reported to, and nothing asks for it", func(j *judgement) bool {
		return j.m.deciding().issued(j.f, j.s) && j.empty && reportKey.MatchString(j.s.Key) &&
			!j.wanted && !(j.isRead && j.read.Must) && !issuedBy.MatchString(j.s.Comment)
	}, unsaid),
	decides("issued by a third party",
		func(j *judgement) bool { return j.m.deciding().issued(j.f, j.s) && j.open() },
		func(j *judgement) { j.s.Issued, j.s.Origin = true, Missing }),
	decides("what one signs in with, as the files tell", func(j *judgement) bool {
		return j.s.Secret && !j.empty &&
			slices.ContainsFunc(j.m.stack.SignIns, func(i stack.SignIn) bool {
				return i.Password == j.s.value && signInKey.MatchString(j.s.Key)
			})
	}, leave("kept: the files name it as the password to sign in with")),
	decides("a secret that can be made up", func(j *judgement) bool {
		return j.s.Secret && (j.open() || weak.MatchString(j.s.value)) && !j.waived &&
			(!values.IsKey(j.s.Key) || asksForm.MatchString(j.s.Comment))
	}, func(j *judgement) { j.m.deciding().generate(j.f, j.s) }),
	decides("its comment asks for it",
		func(j *judgement) bool { return j.open() && j.wanted }, lacking),
	decides("the code fails without it", func(j *judgement) bool {
		return j.empty && j.isRead && j.read.Must && !j.waived
	}, lacking),
	decides("a compose file can't be read without it",
		func(j *judgement) bool { return j.empty && j.m.deciding().variable(j.f, j.s) }, lacking),
	decides("optional",
		func(j *judgement) bool { return j.empty && j.waived }, leave("optional, left empty")),
	decides("the code has a value of its own",
		func(j *judgement) bool { return j.empty && j.isRead && j.read.Default },
		func(j *judgement) {
			j.s.remark("", "left empty: the code has a value of its own (%s:%d)", j.read.At.File,
				j.read.At.Line)
		}),
	decides("empty", func(j *judgement) bool { return j.empty }, unsaid),
	decides("a placeholder", func(j *judgement) bool { return j.stand },
		func(j *judgement) { j.s.remark(stack.Warning, "looks like a placeholder") }),
}

// judge decides on a setting that nobody has given a value yet.
func (m deciding) judge(f *File, s *Setting) {
	j := &judgement{m: m.maker, f: f, s: s, empty: s.value == "",
		stand: values.Placeholder(s.value)}
	j.read, j.isRead = m.reads[s.Key]
	j.waived = values.Waives(s.Comment) &&
		!strings.Contains(strings.ToLower(s.Comment), "not optional")
	j.wanted = required.MatchString(s.Comment) && !j.waived
	if r := rule.First(judgementRules, j); r != nil {
		r.Then(j)
	}
}
