package ecosystem

import (
	"strings"
	"unicode"
)

// Language is how the code of an ecosystem is told apart into tokens, and how it gets at its
// environment.
type Language struct {
	// Comments begin what is none of the program's up to the end of the line; Blocks are the two
	// ends of what is none over several lines.
	Comments []string
	Blocks   [][2]string
	Quotes   []Quote
	// Patterns is true where a slash in the place of a value begins a regular expression.
	Patterns bool

	// Accesses are the ways to an environment variable.
	Accesses []Access
	// Else are the words and signs behind an access with which code goes on where the variable is
	// absent, or looks whether it is; ElseCalls are methods of the value that do so, and MustCalls
	// those that give up.
	Else, ElseCalls, MustCalls []string
	// Schemas are how libraries that check the environment at the start list its variables.
	Schemas []Schema
}

// Quote is a way to write a text. Of several that fit the longest opening counts.
type Quote struct {
	Open, Close string
	// Code opens code inside of the text, up to the brace that closes; empty for none.
	Code string
	// Raw is true where a backslash stands for itself, Lines where the text may go over lines.
	Raw, Lines bool
	// Most is how long in bytes a text in it can be; 0 for any length. A mark that is used for
	// other things, too, opens nothing where no text of that length is closed.
	Most int
}

// The forms that many languages share.
var (
	doubled     = Quote{Open: `"`, Close: `"`}
	single      = Quote{Open: `'`, Close: `'`}
	tripled     = Quote{Open: `"""`, Close: `"""`, Lines: true}
	letter      = Quote{Open: `'`, Close: `'`, Most: 8}
	slashes     = []string{"//"}
	hash        = []string{"#"}
	starred     = [][2]string{{"/*", "*/"}}
	usualElse   = []string{"||", "??", "?:", "&&", "==", "!=", "or"}
	endsWithout = []string{"orElseThrow"}
)

// Access is one way to a variable: an object that holds all of them, or a call with the name as its
// first argument, whose second, if it has one, is what counts where the variable is absent.
type Access struct {
	// Path is how it stands in the code. A star at its beginning stands for any beginning of the
	// first name, whatever its case.
	Path string
	// Holds is true for an object: the name stands behind a dot, in brackets, or among those that
	// are taken out of it.
	Holds bool
	// Methods is true for a call that can be one of several methods, env.bool("NAME").
	Methods bool
	// Must is true for one that fails without the variable, and Sets for one that gives it a value
	// where it has none.
	Must, Sets bool
	// Default and Required are words by which a call is told what counts without the variable, or
	// that there must be one: named arguments, and methods called on it.
	Default, Required []string
	// With are texts one of which the file has to contain besides; empty for none.
	With []string
}

// Hint is a text that stands in every file of code in which the access occurs: a short one that
// many share, so that most files need no closer look.
func (a *Access) Hint() string {
	for _, common := range []string{".env", "env", "ENV", "Env"} {
		if strings.Contains(a.Path, common) {
			return common
		}
	}
	if end, any := strings.CutPrefix(a.Path, "*"); any {
		// what stands there whatever the beginning is: its last word in capitals, and the rest
		return end[max(0, strings.LastIndexFunc(end, unicode.IsUpper)):]
	}
	return a.Path
}

// imported are names of packages as they stand in an import: behind a quote. A file is searched for
// that in no time where it has few.
func imported(packages ...string) (out []string) {
	for _, p := range packages {
		out = append(out, `"`+p, `'`+p)
	}
	return out
}

// holds are accesses by objects with those paths.
func holds(must bool, paths ...string) (out []Access) {
	for _, p := range paths {
		out = append(out, Access{Path: p, Holds: true, Must: must})
	}
	return out
}

// callsFor are accesses by calls of those paths.
func callsFor(must bool, paths ...string) (out []Access) {
	for _, p := range paths {
		out = append(out, Access{Path: p, Must: must})
	}
	return out
}

// Schema finds variables in a list with which code checks the environment before it does anything
// else: a variable in it is needed, unless its entry says otherwise.
type Schema struct {
	// Library are texts one of which a file must contain, and With others, so that the list is one
	// of the environment.
	Library, With []string
	// Roots begin the entry of a variable behind its name and a colon. None where entries are the
	// fields of a class that is made of Class, directly or by way of others: they are called like
	// the variables, whatever the case, behind what Prefix is set to in the class.
	Roots         []string
	Class, Prefix string
	// Named are arguments of a field that say what its variable is called.
	Named []string
	// Open are words in an entry by which its variable may be absent; Needed, where there are any,
	// those by which it may not, and all others then may.
	Open, Needed []string
}
