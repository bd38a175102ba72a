package fill

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/rule"
	values "nimbleharbor/internal/value"
)

// wish is what is known of the form that a secret must have.
type wish struct {
	key, comment, stand string // as they are written; stand is the placeholder
	name                string // the last part of the key, in capitals
	say                 string // comment and placeholder, in lower case
	framework           *ecosystem.Framework
	bytes, chars        int // that are asked for; 0 for none
	upTo                int
}

// asked tells, for the reason that is given, who has asked for the form.
func (w *wish) asked() string {
	switch {
	case asksForm.MatchString(w.comment):
	case w.bytes == 0 && w.chars == 0:
		return ""
	case number(charCount, w.comment)+number(byteCount, w.comment)+number(bitCount,
		w.comment)+number(upToComment, w.comment) == 0:
		return ", as its placeholder asks"
	}
	return ", as its comment asks"
}

func (w *wish) says(words ...string) bool {
	for _, word := range words {
		if strings.Contains(w.say, word) {
			return true
		}
	}
	return false
}

// formRule says when a secret has a form, and makes one of it with the reason why.
type formRule = rule.Rule[*wish, func(w *wish, random io.Reader) (value, why string)]

func makes(name string, when func(*wish) bool,
	secret func(w *wish, random io.Reader) (value, why string)) formRule {
	return formRule{Name: name, When: when, Then: secret}
}

// formRules are gone through in their order; the first that fits makes the secret. A framework's
// own form goes before what a comment asks for, unless it is only a default; what the comment asks
// for goes before what a name suggests.
var formRules = []formRule{
	makes("framework's command", func(w *wish) bool { return ecosystem.SecretBy(w.say) != nil },
		func(w *wish, random io.Reader) (string, string) {
			return ofFramework(ecosystem.SecretBy(w.say), random)
		}),
	makes("framework's form", func(w *wish) bool {
		s := w.framework.SecretOf(w.name)
		return s != nil && (!s.Default || w.bytes == 0 && w.chars == 0 &&
			s.Form.As == ecosystem.AsLetters)
	},
		func(w *wish, random io.Reader) (string, string) {
			return ofFramework(w.framework.SecretOf(w.name), random)
		}),
	makes("fernet",
		func(w *wish) bool { return strings.Contains(w.name, "FERNET") || w.says("fernet") },
		func(w *wish, random io.Reader) (string, string) {
			return base64.URLEncoding.EncodeToString(read(random,
				32)), "32 bytes, URL-safe base64 with padding"
		}),
	makes("uuid", func(w *wish) bool {
		return w.says("uuid") || uuidStand.MatchString(w.stand) || strings.Contains(w.name, "_UUID")
	}, makeUUID),
	makes("list of keys", func(w *wish) bool {
		return strings.HasSuffix(w.name, "KEYS") &&
			(listOfKeys.MatchString(w.comment) || strings.Contains(w.stand, ","))
	},
		func(w *wish, random io.Reader) (string, string) {
			var list []string
			for range 1 + max(1, strings.Count(w.stand, ",")) {
				list = append(list, base64.StdEncoding.EncodeToString(read(random, 16)))
			}
			return strings.Join(list, ","), fmt.Sprintf("%d keys of 16 bytes, base64", len(list))
		}),
	makes("base64 with prefix", func(w *wish) bool { return w.says("base64:") },
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.bytes, 32)
			return "base64:" + base64.StdEncoding.EncodeToString(read(random, n)),
				fmt.Sprintf("%d bytes, base64 with a prefix%s", n, w.asked())
		}),
	makes("url-safe base64",
		func(w *wish) bool { return w.says("base64url", "url-safe", "urlsafe", "url safe") },
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.bytes, or(w.chars, 32))
			size := fmt.Sprintf("%d bytes", n)
			if w.bytes == 0 && w.chars > 0 {
				size = fmt.Sprintf("%d characters", w.chars)
			}
			return cut(base64.RawURLEncoding.EncodeToString(read(random, n)), w.chars), size +
				", URL-safe base64" + w.asked()
		}),
	makes("base64",
		func(w *wish) bool { return w.says("base64") || strings.Contains(w.name, "_BASE64") },
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.bytes, 32)
			return base64.StdEncoding.EncodeToString(read(random,
				n)), fmt.Sprintf("%d bytes, base64%s", n, w.asked())
		}),
	makes("hex digits", func(w *wish) bool {
		return w.bytes == 0 && (hexStand.MatchString(w.stand) || w.chars > 0 &&
			(w.says("hex") || strings.Contains(w.name, "_HEX")))
	},
		func(w *wish, random io.Reader) (string, string) {
			n, why := w.chars, w.asked()
			if hexStand.MatchString(w.stand) {
				n, why = len(w.stand), why+", as its placeholder"
			}
			return cut(hex.EncodeToString(read(random, (n+1)/2)),
				n), fmt.Sprintf("%d hex digits%s", n, why)
		}),
	makes("bytes in hex", func(w *wish) bool {
		return w.says("hex") || w.bytes > 0 || strings.Contains(w.name, "_HEX")
	},
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.bytes, 32)
			return hex.EncodeToString(read(random, n)), fmt.Sprintf("%d bytes, hex%s", n, w.asked())
		}),
	makes("digits", func(w *wish) bool { return digitsOnly.MatchString(w.say) },
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.chars, 6)
			return draw(random, "0123456789", n), fmt.Sprintf("%d digits%s", n, w.asked())
		}),
	makes("letters, digits and signs",
		func(w *wish) bool { return w.chars > 0 && mixedComment.MatchString(w.comment) },
		func(w *wish, random io.Reader) (string, string) {
			return draw(random, alphabet+"-_.+=", w.chars-1) + "-",
				fmt.Sprintf("%d letters, digits and signs%s", w.chars, w.asked())
		}),
	makes("so many letters", func(w *wish) bool { return w.chars > 0 || w.upTo > 0 },
		func(w *wish, random io.Reader) (string, string) {
			n := or(w.chars, min(24, w.upTo))
			return letters(random, n), fmt.Sprintf("%d letters and digits%s", n, w.asked())
		}),
	makes("password", func(w *wish) bool { return passwordKey.MatchString(w.key) },
		func(w *wish, random io.Reader) (string, string) {
			return letters(random, 24),
				"24 letters and digits"
		}),
	makes("framework's default", func(w *wish) bool { return w.framework.SecretOf(w.name) != nil },
		func(w *wish, random io.Reader) (string, string) {
			return ofFramework(w.framework.SecretOf(w.name), random)
		}),
	makes("anything", func(w *wish) bool { return true },
		func(w *wish, random io.Reader) (string, string) {
			return hex.EncodeToString(read(random, 32)), "32 bytes, hex"
		}),
}

// makeUp makes a secret, and says in which form: without a wish it is 32 bytes in hex, and for a
// password 24 letters and digits, which need no escaping anywhere.
func makeUp(random io.Reader, key, comment, stand, framework string) (value, form string) {
	w := &wish{key: key, comment: comment, stand: stand,
		say: strings.ToLower(comment + " " + stand),
		name: strings.ToUpper(key[strings.LastIndexByte(key,
			'.')+1:]), framework: ecosystem.FrameworkNamed(framework)}
	w.bytes, w.chars, w.upTo = number(byteCount, w.say), number(charCount,
		w.say), number(upToComment, w.say)
	if bits := number(bitCount, w.say); bits > 0 && w.bytes == 0 {
		w.bytes = bits / 8
	}
	if r := rule.First(formRules, w); r != nil {
		return r.Then(w, random)
	}
	return "", ""
}

// MadeUp is a value for a setting of a program that makes its secrets up for itself, in the form
// that its name asks for; empty where the key is none of a secret, or only whoever issues it can
// give it.
func MadeUp(random io.Reader, key, framework string) string {
	if !values.IsSecret(key, "") || issuedKey.MatchString(key) || vendorID.MatchString(key) {
		return ""
	}
	value, _ := makeUp(random, key, "", "", framework)
	return value
}

// vendorID are parts of names by which somebody else's service is meant.
var vendorID = expr.New(`(?i)(^|_)(aws|gcp|google|azure|github|gitlab|stripe|openai|anthropic|` +
	`twilio|sendgrid|mailgun|slack|sentry|oauth|smtp|mail|s3|cloudinary|paypal|auth0|firebase)(_|` +
	`$)`)

// ofFramework makes a secret in the form of a framework's own command.
func ofFramework(s *ecosystem.Secret, random io.Reader) (value, why string) {
	switch f := s.Form; f.As {
	case ecosystem.AsLetters:
		return letters(random, f.Size), fmt.Sprintf("%d letters and digits: the framework's form",
			f.Size)
	case ecosystem.AsBase64:
		why = fmt.Sprintf("%d bytes, base64: the framework's form", f.Size)
		if f.Prefix != "" {
			why = fmt.Sprintf("%d bytes, base64 with a prefix: the framework's form", f.Size)
		}
		return f.Prefix + base64.StdEncoding.EncodeToString(read(random, f.Size)), why
	default:
		return hex.EncodeToString(read(random,
			f.Size)), fmt.Sprintf("%d bytes, hex: the framework's form", f.Size)
	}
}

// makeUUID makes a random UUID (RFC 9562, version 4).
func makeUUID(_ *wish, random io.Reader) (value, why string) {
	b := read(random, 16)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:]), "a random UUID"
}

// number finds the number that an expression's groups hold; 0 for none, or for one that is out of
// all measure.
func number(form *expr.Expr, s string) int {
	m := form.FindStringSubmatch(s)
	for _, group := range m[min(1, len(m)):] {
		n := 0
		if _, err := fmt.Sscan(group, &n); err == nil && n > 0 && n <= 4096 {
			return n
		}
	}
	return 0
}
