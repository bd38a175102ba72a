package fill

import (
	"crypto/ecdh"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/bcrypt"

	"nimbleharbor/internal/ecosystem"
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

// generate makes a secret up, in the form that the placeholder, the comment, the name and the
// framework ask for.
func (m deciding) generate(f *File, s *Setting) {
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
		if dir := path.Dir(f.Path); p.Framework == "" ||
			dir != p.Path && !strings.HasPrefix(dir, p.Path+"/") && p.Path != "." {
			continue
		}
		// Of several in a folder, the one that wants secrets in a form of its own.
		rank := 2 * len(p.Path)
		if len(ecosystem.FrameworkNamed(p.Framework).Secrets) > 0 {
			rank++
		}
		if rank > best {
			best, name = rank, p.Framework
		}
	}
	return name
}

// pair makes both halves of a key pair, where the file has a private key and the public one beside
// it.
func (m deciding) pair(f *File, s *Setting) bool {
	if !privateKey.MatchString(s.Key) {
		return false
	}
	public := publicOf(f, s)
	say := strings.ToLower(s.Comment + " " + s.was + " " + s.Key)
	isPEM := slices.ContainsFunc([]string{"pem", "rsa", "rs256", "ed25519", "begin "},
		func(word string) bool { return strings.Contains(say, word) })
	if public == nil && !isPEM {
		return false
	}
	k, ok := keyPair(say, s.was, m.opt.Random)
	if !ok {
		return false
	}
	if strings.Contains(say, "base64") && strings.Contains(k.private, "BEGIN") {
		k.private = base64.StdEncoding.EncodeToString([]byte(k.private))
		k.public = base64.StdEncoding.EncodeToString([]byte(k.public))
		k.form += " in base64"
	}
	s.value, s.Origin, s.form = k.private, Generated, k.form
	s.remark("", "%s", k.form)
	switch {
	case public == nil:
	case !(public.there && public.value != "") && public.Origin != Answered:
		public.value, public.Origin, public.Remark = k.public, Derived, "belongs to "+s.Key
	case public.there:
		s.remark(stack.Warning, "%s was there before and does not belong to it", public.Key)
	}
	return true
}

// publicOf is the setting of the public key beside that of a private one; nil for none.
func publicOf(f *File, s *Setting) *Setting {
	wanted := privateKey.ReplaceAllStringFunc(s.Key, func(p string) string {
		return strings.NewReplacer("PRIVATE", "PUBLIC", "private", "public", "Private",
			"Public").Replace(p)
	})
	for i := range f.Settings {
		if f.Settings[i].Key == wanted {
			return &f.Settings[i]
		}
	}
	return nil
}

// keys are a pair, as they are written, and what they are.
type keys struct{ private, public, form string }

// keyPair makes a pair of the kind that a setting speaks of, in the form of what was there; ok is
// false if none can be made.
func keyPair(say, was string, random io.Reader) (k keys, ok bool) {
	switch {
	case strings.Contains(say, "vapid"):
		key, err := ecdh.P256().NewPrivateKey(read(random, 32))
		for err != nil {
			key, err = ecdh.P256().NewPrivateKey(read(random, 32))
		}
		return keys{base64.RawURLEncoding.EncodeToString(key.Bytes()),
			base64.RawURLEncoding.EncodeToString(key.PublicKey().Bytes()),
			"a key pair for push messages, P-256"}, true
	case strings.Contains(say, "ed25519") || strings.Contains(say, "eddsa"):
		key := ed25519.NewKeyFromSeed(read(random, ed25519.SeedSize))
		return keys{inPEM(key), inPublicPEM(key.Public()), "an Ed25519 key pair, PEM"}, true
	}
	key, err := rsa.GenerateKey(random, 2048)
	if err != nil {
		return keys{}, false
	}
	k = keys{inPEM(key), inPublicPEM(key.Public()), "an RSA key pair of 2048 bits, PEM"}
	if strings.Contains(was, "BEGIN RSA") {
		k.private = string(pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY",
			Bytes: x509.MarshalPKCS1PrivateKey(key)}))
	}
	return k, true
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

// hash makes the hash of a password in the form that the comment asks for: Argon2id (RFC 9106) or
// else bcrypt.
func hash(random io.Reader, password, comment string) (string, error) {
	if strings.Contains(strings.ToLower(comment), "argon2") {
		salt := read(random, 16)
		sum := argon2.IDKey([]byte(password), salt, 3, 64<<10, 4, 32)
		enc := base64.RawStdEncoding.EncodeToString
		return fmt.Sprintf("$argon2id$v=%d$m=65536,t=3,p=4$%s$%s", argon2.Version, enc(salt),
			enc(sum)), nil
	}
	out, err := bcrypt.GenerateFromPassword([]byte(password), 12)
	return string(out), err
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
