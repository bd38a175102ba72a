// Package expr holds regular expressions that are made ready when they are first asked. The program
// knows some hundreds of them, a call of it uses a few, and making all of them ready took longer
// than anything else that happens at its start.
package expr

import (
	"regexp"
	"sync"
)

// Expr is a regular expression in the notation of package regexp. Its methods are those of
// *regexp.Regexp of the same names, and it may be used by several goroutines at once.
type Expr struct {
	text string
	once sync.Once
	made *regexp.Regexp
}

var all []*Expr

// New keeps an expression for later. It is meant for variables of packages: a wrong one panics when
// it is first used, and Check finds it before.
func New(text string) *Expr {
	e := &Expr{text: text}
	all = append(all, e)
	return e
}

// Check makes every expression ready that the variables of the program's packages hold, and panics
// at one that is wrong.
func Check() (count int) {
	for _, e := range all {
		e.Ready()
	}
	return len(all)
}

// Ready gives the expression as package regexp has it.
func (e *Expr) Ready() *regexp.Regexp {
	e.once.Do(func() { e.made = regexp.MustCompile(e.text) })
	return e.made
}

// String is the expression as it is written.
func (e *Expr) String() string { return e.text }

// MatchString reports whether the text contains a match.
func (e *Expr) MatchString(s string) bool { return e.Ready().MatchString(s) }

// Match reports whether the bytes contain a match.
func (e *Expr) Match(b []byte) bool { return e.Ready().Match(b) }

// FindString gives the first match, or nothing.
func (e *Expr) FindString(s string) string { return e.Ready().FindString(s) }

// FindStringIndex gives where the first match begins and ends.
func (e *Expr) FindStringIndex(s string) []int { return e.Ready().FindStringIndex(s) }

// FindStringSubmatch gives the first match and its groups.
func (e *Expr) FindStringSubmatch(s string) []string { return e.Ready().FindStringSubmatch(s) }

// FindSubmatch gives the first match and its groups.
func (e *Expr) FindSubmatch(b []byte) [][]byte { return e.Ready().FindSubmatch(b) }

// FindStringSubmatchIndex gives where the first match and its groups begin and end.
func (e *Expr) FindStringSubmatchIndex(s string) []int { return e.Ready().FindStringSubmatchIndex(s) }

// FindSubmatchIndex gives where the first match and its groups begin and end.
func (e *Expr) FindSubmatchIndex(b []byte) []int { return e.Ready().FindSubmatchIndex(b) }

// FindAllStringSubmatch gives the first n matches, all for -1, and their groups.
func (e *Expr) FindAllStringSubmatch(s string, n int) [][]string {
	return e.Ready().FindAllStringSubmatch(s, n)
}

// FindAllStringSubmatchIndex gives where the first n matches, all for -1, and their groups begin
// and end.
func (e *Expr) FindAllStringSubmatchIndex(s string, n int) [][]int {
	return e.Ready().FindAllStringSubmatchIndex(s, n)
}

// FindAllSubmatchIndex gives where the first n matches, all for -1, and their groups begin and end.
func (e *Expr) FindAllSubmatchIndex(b []byte, n int) [][]int {
	return e.Ready().FindAllSubmatchIndex(b, n)
}

// ReplaceAllString puts with, in which $1 stands for a group, into the place of each match.
func (e *Expr) ReplaceAllString(s, with string) string {
	return e.Ready().ReplaceAllString(s, with)
}

// ReplaceAllStringFunc puts what f makes of each match into its place.
func (e *Expr) ReplaceAllStringFunc(s string, f func(string) string) string {
	return e.Ready().ReplaceAllStringFunc(s, f)
}

// FindAllSubmatch gives the first n matches, all for -1, and their groups.
func (e *Expr) FindAllSubmatch(b []byte, n int) [][][]byte {
	return e.Ready().FindAllSubmatch(b, n)
}

// ReplaceAllFunc puts what f makes of each match into its place.
func (e *Expr) ReplaceAllFunc(b []byte, f func([]byte) []byte) []byte {
	return e.Ready().ReplaceAllFunc(b, f)
}

// Later keeps an expression for later that is made while the program runs. A wrong one panics when
// it is first used.
func Later(text string) *Expr { return &Expr{text: text} }

// Of makes an expression of what a person has written.
func Of(text string) (*Expr, error) {
	made, err := regexp.Compile(text)
	if err != nil {
		return nil, err
	}
	e := &Expr{text: text}
	e.once.Do(func() { e.made = made })
	return e, nil
}
