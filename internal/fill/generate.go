package fill

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/pem"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

var (
	byteCount = expr.New(
		`(?i)(\d+)[- ](?:random |secure )*bytes?|(?:rand(?:om)?[_-]?(?:bytes)?|urandom|token_hex|token_bytes|` +
			`token_urlsafe|randomBytes|SecureRandom\.hex)[ (]+(?:-(?:hex|base64) )?(\d+)|rand -(?:hex|base64) (\d+)`)
	charCount = expr.New(
		`(?i)(\d+)[-_ ](?:random |hex(?:adecimal)? |alphanumeric |letters and )*(?:char(?:acter)?s?|digits|letters|` +
			`signs|long)|(?:length|len)(?: of|:)? (\d+)`)
	bitCount = expr.New(`(?i)\b(128|192|256|384|512)[- ]?bits?\b`)
	// asksForm is a comment that says how a secret is to be made up.
	asksForm = expr.New(
		`(?i)\d+[- ](random |hex |secure )*(bytes?|char|digits|letters)|\brandom|openssl rand|\buuid|generate (a|one|` +
			`it|with)|make (one )?up|any (string|value)|\bhex\b|base64|urandom|secrets\.token|key:generate|rails ` +
			`secret|phx\.gen\.secret`)
	hexStand     = expr.New(`^[0-9a-f]{16,}$`)
	uuidStand    = expr.New(`(?i)^[0-9a-fx]{8}-[0-9a-fx]{4}-[0-9a-fx]{4}-[0-9a-fx]{4}-[0-9a-fx]{12}$`)
	passwordKey  = expr.New(`(?i)(^|[_.-])(pass(word|wd|phrase)?|pwd)$`)
	hashKey      = expr.New(`(?i)(pass(word|wd)?|pwd)[_.-]?(hash|digest|bcrypt|crypt)$`)
	privateKey   = expr.New(`(?i)private[_.-]?key`)
	publicKey    = expr.New(`(?i)public[_.-]?key`)
	digitsOnly   = expr.New(`(?i)\d+ digits\b|\bpin\b`)
	upToComment  = expr.New(`(?i)(?:at most|max(?:imum|\.)?|up to|no more than) (\d+) (?:char|letters|signs)`)
	listOfKeys   = expr.New(`(?i)(comma|,)[- ]?separated|several keys|list of`)
	mixedComment = expr.New(`(?i)(special|punctuation|symbol)`)
)

// generate makes a secret up, in the form that the placeholder, the comment, the name and the framework ask for.
func (m *maker) generate(f *File, s *Setting) {
	if hashKey.MatchString(s.Key) {
		// What a hash is of, somebody must know.
		s.Origin = Missing
		s.remark("", "a password, of which the hash is kept")
		return
	}
	if m.pair(f, s) {
		return
	}
	s.Origin = Generated
	s.value, s.form = makeUp(m.opt.Random, s.Key, s.Comment, s.was, m.framework(f))
	s.remark("", "%s", s.form)
}

// framework is that of the project which a settings file belongs to.
func (m *maker) framework(f *File) string {
	best, name := -1, ""
	for i := range m.stack.Projects {
		p := &m.stack.Projects[i]
		if dir := path.Dir(f.Path); (dir == p.Path || strings.HasPrefix(dir, p.Path+"/") || p.Path == ".") &&
			len(p.Path) > best && (p.Framework != "" || name == "") {
			best, name = len(p.Path), p.Framework
		}
	}
	return name
}

// makeUp makes a secret, and says in which form. Without a wish it is 32 bytes in hex, and for a password 24 letters
// and digits, which need no escaping anywhere.
func makeUp(random io.Reader, key, comment, stand, framework string) (value, form string) {
	say := strings.ToLower(comment + " " + stand)
	name := strings.ToUpper(key[strings.LastIndexByte(key, '.')+1:])
	bytes, chars := number(byteCount, say), number(charCount, say)
	if bits := number(bitCount, say); bits > 0 && bytes == 0 {
		bytes = bits / 8
	}
	asked := ", as its comment asks"
	if bytes == 0 && chars == 0 && !asksForm.MatchString(comment) {
		asked = ""
	}
	tail := ""
	if asked != "" && !asksForm.MatchString(comment) && number(charCount, comment)+number(byteCount,
		comment)+number(bitCount, comment)+number(upToComment, comment) == 0 {
		asked = ", as its placeholder asks"
	}
	switch {
	case framework == "laravel" && name == "APP_KEY", strings.Contains(say, "key:generate"):
		return "base64:" + base64.StdEncoding.EncodeToString(read(random, 32)),
			"32 bytes, base64 with a prefix: the framework's form"
	case framework == "rails" && (name == "SECRET_KEY_BASE" || strings.Contains(say, "rails secret")):
		return hex.EncodeToString(read(random, 64)), "64 bytes, hex: the framework's form"
	case framework == "rails" && strings.HasPrefix(name, "ACTIVE_RECORD_ENCRYPTION"):
		return letters(random, 32), "32 letters and digits: the framework's form"
	case name == "RAILS_MASTER_KEY":
		return hex.EncodeToString(read(random, 16)), "16 bytes, hex: the framework's form"
	case framework == "phoenix" && name == "SECRET_KEY_BASE", strings.Contains(say, "phx.gen.secret"):
		return base64.StdEncoding.EncodeToString(read(random, 48)), "64 characters of base64: the framework's form"
	case framework == "symfony" && name == "APP_SECRET":
		return hex.EncodeToString(read(random, 16)), "16 bytes, hex: the framework's form"
	case framework == "django" && strings.HasSuffix(name, "SECRET_KEY") && bytes == 0 && chars == 0:
		return letters(random, 50), "50 letters and digits: the framework's form"
	case strings.Contains(name, "FERNET"), strings.Contains(say, "fernet"):
		return base64.URLEncoding.EncodeToString(read(random, 32)), "32 bytes, URL-safe base64 with padding"
	case strings.Contains(say, "uuid") || uuidStand.MatchString(stand) || strings.Contains(name, "_UUID"):
		b := read(random, 16)
		b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80
		return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:]), "a random UUID"
	case name == "APP_KEYS" && (listOfKeys.MatchString(comment) || strings.Contains(stand, ",")):
		var list []string
		for range 1 + max(1, strings.Count(stand, ",")) {
			list = append(list, base64.StdEncoding.EncodeToString(read(random, 16)))
		}
		return strings.Join(list, ","), fmt.Sprintf("%d keys of 16 bytes, base64", len(list))
	case strings.Contains(say, "base64:"):
		n := or(bytes, 32)
		return "base64:" + base64.StdEncoding.EncodeToString(read(random, n)),
			fmt.Sprintf("%d bytes, base64 with a prefix%s", n, asked)
	case strings.Contains(say, "base64url") || strings.Contains(say, "url-safe") || strings.Contains(say, "urlsafe") ||
		strings.Contains(say, "url safe"):
		n := or(bytes, or(chars, 32))
		return cut(base64.RawURLEncoding.EncodeToString(read(random, n)), chars),
			sized(bytes, chars, n) + ", URL-safe base64" + asked
	case strings.Contains(say, "base64") || strings.Contains(name, "_BASE64"):
		n := or(bytes, 32)
		return base64.StdEncoding.EncodeToString(read(random, n)), fmt.Sprintf("%d bytes, base64%s", n, asked)
	case strings.Contains(say, "hex"), bytes > 0, hexStand.MatchString(stand), strings.Contains(name, "_HEX"):
		if bytes == 0 && hexStand.MatchString(stand) {
			chars, tail = len(stand), ", as its placeholder"
		}
		if chars > 0 && bytes == 0 {
			return cut(hex.EncodeToString(read(random, (chars+1)/2)), chars),
				fmt.Sprintf("%d hex digits%s%s", chars, asked, tail)
		}
		n := or(bytes, 32)
		return hex.EncodeToString(read(random, n)), fmt.Sprintf("%d bytes, hex%s", n, asked)
	case digitsOnly.MatchString(say):
		n := or(chars, 6)
		return draw(random, "0123456789", n), fmt.Sprintf("%d digits%s", n, asked)
	case chars > 0 && mixedComment.MatchString(comment):
		return draw(random, alphabet+"-_.+=", chars-1) + "-", fmt.Sprintf("%d letters, digits and signs%s", chars,
			asked)
	case chars > 0:
		return letters(random, chars), fmt.Sprintf("%d letters and digits%s", chars, asked)
	case number(upToComment, say) > 0:
		n := min(24, number(upToComment, say))
		return letters(random, n), fmt.Sprintf("%d letters and digits%s", n, asked)
	case passwordKey.MatchString(key):
		return letters(random, 24), "24 letters and digits"
	case framework == "next" && (name == "AUTH_SECRET" || name == "NEXTAUTH_SECRET"):
		return base64.StdEncoding.EncodeToString(read(random, 32)), "32 bytes, base64: the framework's form"
	}
	return hex.EncodeToString(read(random, 32)), "32 bytes, hex"
}

func sized(bytes, chars, n int) string {
	if bytes == 0 && chars > 0 {
		return fmt.Sprintf("%d characters", chars)
	}
	return fmt.Sprintf("%d bytes", n)
}

// pair makes both halves of a key pair, where the file has a private key and the public one beside it.
func (m *maker) pair(f *File, s *Setting) bool {
	if !privateKey.MatchString(s.Key) {
		return false
	}
	wanted := privateKey.ReplaceAllStringFunc(s.Key, func(p string) string {
		return strings.NewReplacer("PRIVATE", "PUBLIC", "private", "public", "Private", "Public").Replace(p)
	})
	var public *Setting
	for i := range f.Settings {
		if f.Settings[i].Key == wanted {
			public = &f.Settings[i]
		}
	}
	say := strings.ToLower(s.Comment + " " + s.was + " " + s.Key)
	isPEM := strings.Contains(say, "pem") || strings.Contains(say, "rsa") || strings.Contains(say, "rs256") ||
		strings.Contains(say, "ed25519") || strings.Contains(say, "begin ")
	if public == nil && !isPEM {
		return false
	}
	var private, open, form string
	switch {
	case strings.Contains(say, "vapid"):
		key, err := ecdh.P256().NewPrivateKey(read(m.opt.Random, 32))
		for err != nil {
			key, err = ecdh.P256().NewPrivateKey(read(m.opt.Random, 32))
		}
		private, open = base64.RawURLEncoding.EncodeToString(key.Bytes()),
			base64.RawURLEncoding.EncodeToString(key.PublicKey().Bytes())
		form = "a key pair for push messages, P-256"
	case strings.Contains(say, "ed25519") || strings.Contains(say, "eddsa"):
		key := ed25519.NewKeyFromSeed(read(m.opt.Random, ed25519.SeedSize))
		private, open, form = inPEM(key), inPublicPEM(key.Public()), "an Ed25519 key pair, PEM"
	default:
		key, err := rsa.GenerateKey(m.opt.Random, 2048)
		if err != nil {
			return false
		}
		private, open, form = inPEM(key), inPublicPEM(key.Public()), "an RSA key pair of 2048 bits, PEM"
		if strings.Contains(s.was, "BEGIN RSA") {
			private = string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
				Bytes: x509.MarshalPKCS1PrivateKey(key)}))
		}
	}
	if strings.Contains(say, "base64") && strings.Contains(private, "BEGIN") {
		private, open, form = base64.StdEncoding.EncodeToString([]byte(private)),
			base64.StdEncoding.EncodeToString([]byte(open)), form+" in base64"
	}
	s.value, s.Origin, s.form = private, Generated, form
	s.remark("", "%s", form)
	if public != nil && !(public.there && public.value != "") && public.Origin != Answered {
		public.value, public.Origin, public.Remark = open, Derived, "belongs to "+s.Key
	} else if public != nil && public.there {
		s.remark(stack.Warning, "%s was there before and does not belong to it", public.Key)
	}
	return true
}

func inPEM(key any) string {
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return ""
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

func inPublicPEM(key any) string {
	der, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		return ""
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}))
}

var hashed = expr.New(`^(\$2[abxy]\$|\$argon2|\$pbkdf2|pbkdf2_|\$5\$|\$6\$|\{SSHA|scrypt:)`)

// hash makes the hash of a password in the form that the comment asks for: Argon2id (RFC 9106) or else bcrypt.
func hash(random io.Reader, password, comment string) (string, error) {
	if strings.Contains(strings.ToLower(comment), "argon2") {
		salt := read(random, 16)
		sum := argon2.IDKey([]byte(password), salt, 3, 64<<10, 4, 32)
		enc := base64.RawStdEncoding.EncodeToString
		return fmt.Sprintf("$argon2id$v=%d$m=65536,t=3,p=4$%s$%s", argon2.Version, enc(salt), enc(sum)), nil
	}
	out, err := bcrypt.GenerateFromPassword([]byte(password), 12)
	return string(out), err
}

func number(expr *expr.Expr, s string) int {
	m := expr.FindStringSubmatch(s)
	for _, group := range m[min(1, len(m)):] {
		if n, err := strconv.Atoi(group); err == nil && n > 0 && n <= 4096 {
			return n
		}
	}
	return 0
}

func or(n, otherwise int) int {
	if n > 0 {
		return n
	}
	return otherwise
}

func cut(s string, n int) string {
	if n > 0 && n < len(s) {
		return s[:n]
	}
	return s
}

// read panics when the system has no randomness, since no secret may be made without.
func read(random io.Reader, n int) []byte {
	b := make([]byte, n)
	if _, err := io.ReadFull(random, b); err != nil {
		panic("no randomness: " + err.Error())
	}
	return b
}

const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"

func letters(random io.Reader, n int) string { return draw(random, alphabet, n) }

// draw draws from a set of at most 256 signs without favouring any.
func draw(random io.Reader, set string, n int) string {
	fair := 256 / len(set) * len(set)
	out := make([]byte, 0, max(n, 0))
	for len(out) < n {
		for _, b := range read(random, n) {
			if int(b) < fair && len(out) < n {
				out = append(out, set[int(b)%len(set)])
			}
		}
	}
	return string(out)
}
