// Package protocol knows the protocols that services speak: one value for each, one file for each
// value, and All lists them. A value holds everything that anybody has to know of its protocol: the
// images and programs that serve it, its usual ports, the schemes of addresses and the names of
// settings that mean it, how its server is told its first user, how a port is asked for it, and
// what the answers mean.
//
// To add a protocol, write its file and add it to All; TestProtocolsAreWhole says what it still
// lacks.
package protocol

import (
	"path"
	"slices"
	"strings"
	"unicode"

	"nimbleharbor/internal/expr"
)

// Protocol is all that is known of one protocol.
type Protocol struct {
	Name string // as it stands in answers and in nharbor.toml
	// Ports are those on which it is usually spoken, the one first that a server takes by itself.
	Ports []int
	// Programs are its servers by the names of their programs; Clients are programs that set a
	// server up.
	Programs, Clients []string
	// Drivers are packages with which programs of any language speak to it, and to nothing else.
	Drivers []string
	// Through are packages that may speak it, among other protocols.
	Through []string
	// Scheme is that of an address which is put together.
	Scheme string
	// SignIn is how others sign in; nil where nobody does.
	SignIn *SignIn

	// Beside is how one is run beside a stack of which nothing offers one; nil where that is not
	// known.
	Beside *Beside

	// Kernel is a limit below which its server may refuse to start; nil where there is none.
	Kernel *Kernel

	images  *expr.Expr     // base names of images that serve it; nil for none
	schemes *expr.Expr     // schemes of addresses, in lower case; nil for none
	implied map[string]int // ports of schemes for which it is not the first of Ports
	keys    *expr.Expr     // names of settings that are about it; nil for none

	// byUse is true where a port alone says nothing: only what a program is told, or a person,
	// makes it this protocol.
	byUse bool
	// Gentle is true where a question would change what is asked: a debugger's port may go on or
	// end with the first who connects. Such a port is looked at, and not spoken to.
	Gentle bool
	// relative is the protocol that may answer in this one's place and is as good.
	relative string

	// ask finds out whether an open connection speaks it; nil where there is no question, so that
	// accepting is answering.
	ask func(*talk) answer
	// datagram is true where ask may be put over UDP too.
	datagram bool
	// banner recognises the first bytes that a server sends, whether it was asked or not; nil for
	// none.
	banner func([]byte) bool
	// complains gives what a server's first bytes complain of; nil where they never do.
	complains func([]byte) string
	// hello is what a stranger is sent to find out whether it speaks this, and hears what the reply
	// must be like.
	hello string
	hears func([]byte) bool
	// reply judges what comes back to hello, where that is all the question there is: ask and hears
	// follow from it. ok is false for what is none of this protocol.
	reply func([]byte) (a answer, ok bool)
}

// Kernel is a limit of the kernel on whose machine a server runs.
type Kernel struct {
	Name  string
	Least uint64
	// Unless reports whether the environment makes it not matter.
	Unless func(env map[string]string) bool
}

// RunsAs are the words of an image's first start by which it makes a database and a user, KEY=VALUE
// each; a password is told as dots. They are empty where nobody signs in, or the image makes none.
func (p *Protocol) RunsAs(user, database string) (out []string) {
	if p.SignIn == nil {
		return nil
	}
	add := func(keys []string, value string) {
		if len(keys) > 0 && value != "" {
			out = append(out, keys[0]+"="+value)
		}
	}
	add(p.SignIn.Database, database)
	if user != "" && user != p.SignIn.DefaultUser {
		add(p.SignIn.User, user)
		add(p.SignIn.Password, "…")
		add(p.SignIn.RootPassword, "…")
	} else if root := p.SignIn.RootPassword; len(root) > 0 {
		add(root, "…")
	} else if len(p.SignIn.Database) > 0 && !p.SignIn.NoUser {
		add(p.SignIn.Password, "…")
	}
	return out
}

// Beside is how a server is run for a stack that has none.
type Beside struct {
	Image string // where no file names one with its version
	Data  string // the folder in the container where its data is
	// KEY=VALUE of its environment that let everybody in, for settings without a password
	Open []string
}

// Environment is what the server's image is given so that it makes the database, the user and the
// password.
func (p *Protocol) Environment(user, database, password string) map[string]string {
	out := map[string]string{}
	if p.SignIn == nil || len(p.SignIn.Password) == 0 || p.SignIn.NoUser && user == "" {
		return out
	}
	set := func(keys []string, value string) {
		if len(keys) > 0 && value != "" {
			out[keys[0]] = value
		}
	}
	set(p.SignIn.Database, database)
	if user != p.SignIn.DefaultUser {
		set(p.SignIn.User, user)
		set(p.SignIn.Password, password)
	}
	if len(p.SignIn.RootPassword) > 0 {
		set(p.SignIn.RootPassword, password)
	} else {
		set(p.SignIn.Password, password)
	}
	if password == "" && p.Beside != nil {
		for _, kv := range p.Beside.Open {
			key, value, _ := strings.Cut(kv, "=")
			out[key] = value
		}
	}
	return out
}

// SignIn is how a server's image is told its first user, and what one signs in with.
type SignIn struct {
	User, Database, Password, RootPassword []string // keys of the image's environment
	// the key without which its image refuses to begin
	Must        string
	DefaultUser string // where none is told
	// of an address with a user that the image has made
	Query      string
	NoUser     bool // one signs in without a user's name
	NoDatabase bool // the path of an address names no database
	// a user has no database but the one that was made with it
	OneDatabase bool
}

// All are the protocols that are known. The one whose banner is more telling comes first.
var All []*Protocol

// Each asks with the banners of all others at hand, which a plain variable could not express.
func init() {
	All = []*Protocol{web, webTLS, websocket, grpc, postgres, mysql, sqlserver, mongodb, redis,
		memcached, search, amqp,
		kafka, nats, mqtt, ldap, ssh, ftp, imap, smtp, s3, dns, jdwp, inspector, debugpy, delve}
	for _, p := range All {
		if p.reply != nil {
			p.ask = exchange(p.hello, p.reply)
			p.hears = func(b []byte) bool { _, ok := p.reply(b); return ok }
		}
	}
}

// Plain is the name for what is asked for nothing but that it accepts.
const Plain = "tcp"

// Named gives the protocol of that name, or nil.
func Named(name string) *Protocol {
	for _, p := range All {
		if p.Name == name {
			return p
		}
	}
	return nil
}

// IsNamed reports whether a text names a server of the protocol, by a word that its addresses or its
// images are called by too.
func (p *Protocol) IsNamed(text string) bool {
	return slices.ContainsFunc(strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}), func(word string) bool {
		return p.schemes != nil && p.schemes.MatchString(word) || OfImage(word) == p
	})
}

// Names lists the words for protocols that a person may use, Plain among them.
func Names() []string {
	out := []string{}
	for _, p := range All {
		out = append(out, p.Name)
	}
	return append(out, Plain)
}

// aside are images that only look at what they are named after.
var aside = expr.New(`admin|express|commander|exporter|insight|[-_]ui$`)

// OfImage gives the protocol that an image serves by its name, or nil.
func OfImage(image string) *Protocol {
	base := ImageName(image)
	if base == "server" { // it is its maker who tells of what
		base = ImageName(path.Dir(image))
	}
	if base == "" || aside.MatchString(base) {
		return nil
	}
	for _, p := range All {
		if p.images != nil && p.images.MatchString(base) {
			return p
		}
	}
	return nil
}

// besideServers are packages that speak to a server and are none.
var besideServers = expr.New(`client|tools|dev|^lib|contrib`)

// OfPackage gives the protocol whose server a system's package brings, or nil.
func OfPackage(name string) *Protocol {
	if besideServers.MatchString(name) {
		return nil
	}
	if p := OfProgram(name); p != nil {
		return p
	}
	return OfImage(name)
}

// ImageName is the last part of an image's reference, without tag and digest.
func ImageName(image string) string {
	name, _, _ := strings.Cut(path.Base(image), "@")
	name, _, _ = strings.Cut(name, ":")
	if name == "." || name == "/" {
		return ""
	}
	return name
}

// OfPort tells what is spoken on a port of a container: by the port, else by the image, else Plain.
func OfPort(image string, target int) string {
	for _, p := range All {
		if !p.byUse && slices.Contains(p.Ports, target) {
			return p.Name
		}
	}
	if p := OfImage(image); p != nil && p.ask != nil && p.CalledBy(ImageName(image)) {
		return p.Name
	}
	return Plain
}

// CalledBy reports whether a program or an image is called after the protocol itself.
func (p *Protocol) CalledBy(name string) bool {
	return p.Name == name || slices.Contains(p.Programs, name)
}

// OfProgram gives the protocol that a program serves, or nil.
func OfProgram(program string) *Protocol {
	for _, p := range All {
		if slices.Contains(p.Programs, program) {
			return p
		}
	}
	return nil
}

// OfClient gives the protocol whose servers a program sets up, or nil.
func OfClient(program string) *Protocol {
	for _, p := range All {
		if slices.Contains(p.Clients, program) {
			return p
		}
	}
	return nil
}

// OfScheme gives the protocol that an address of this scheme means, or nil. Web addresses mean none
// of their own.
func OfScheme(scheme string) *Protocol {
	scheme = strings.ToLower(scheme)
	for _, p := range All {
		if p.schemes != nil && p != web && p.schemes.MatchString(scheme) {
			return p
		}
	}
	return nil
}

// DefaultPort is the port that an address of this scheme means when it names none; 0 if it isn't
// known.
func DefaultPort(scheme string) int {
	scheme = strings.ToLower(scheme)
	for _, p := range All {
		if p.schemes == nil || !p.schemes.MatchString(scheme) {
			continue
		}
		if port, ok := p.implied[scheme]; ok {
			return port
		}
		return p.Ports[0]
	}
	return 0
}

// About reports whether a setting may be about the protocol, by its name or the beginning of it.
func (p *Protocol) About(key string) bool { return p.keys != nil && p.keys.MatchString(key) }

// OfKey lists the protocols that a setting may be about.
func OfKey(key string) []*Protocol {
	return slices.DeleteFunc(slices.Clone(All), func(p *Protocol) bool { return !p.About(key) })
}

// PasswordKeys lists the keys of an image's environment whose values it takes over into its store
// of data when that is made, and never again; none for an image that has no such store.
func PasswordKeys(image string) []string {
	p := OfImage(image)
	if p == nil || p.SignIn == nil || len(p.SignIn.User) == 0 {
		return nil
	}
	var out []string
	for _, key := range slices.Concat(p.SignIn.Password, p.SignIn.RootPassword) {
		if !slices.Contains(out, key) {
			out = append(out, key)
		}
	}
	return out
}

// MustHave is the setting without which an image refuses to start and that this environment lacks;
// empty for none.
func MustHave(image string, env map[string]string) string {
	p := OfImage(image)
	if p == nil || p.SignIn == nil || p.SignIn.Must == "" {
		return ""
	}
	for _, key := range append([]string{p.SignIn.Must}, p.SignIn.RootPassword...) {
		if _, given := env[key]; given {
			return ""
		}
	}
	return p.SignIn.Must
}

// Made reports whether an image that gets this environment makes a database or a user when it first
// starts.
func (in *SignIn) Made(env map[string]string) bool {
	return slices.ContainsFunc(slices.Concat(in.Database, in.User, in.Password),
		func(key string) bool { return env[key] != "" })
}

// sqlThrough are packages that speak to whichever SQL database a program is told of.
var sqlThrough = []string{"sqlx", "diesel", "diesel-async", "sea-orm", "sqlalchemy", "sqlmodel",
	"tortoise-orm", "peewee", "django", "databases", "alembic", "gorm.io/gorm",
	"github.com/jmoiron/sqlx", "entgo.io/ent", "github.com/uptrace/bun", "typeorm", "sequelize",
	"knex", "kysely", "objection", "prisma", "@prisma/client", "drizzle-orm", "@mikro-orm/core",
	"rails", "activerecord", "sequel", "laravel/framework", "illuminate/database", "doctrine/orm",
	"doctrine/dbal", "doctrine/doctrine-bundle",
	"org.springframework.boot:spring-boot-starter-data-jpa",
	"org.springframework.boot:spring-boot-starter-jdbc", "org.hibernate.orm:hibernate-core",
	"ecto_sql", "Microsoft.EntityFrameworkCore", "Dapper"}
