package diagnose

import (
	"embed"
	"fmt"
	"sync"

	"github.com/pelletier/go-toml/v2"

	"nimbleharbor/internal/expr"
)

// The rules for lines of logs stand in rules/*.toml. In them:
//
//	code       by which the rule is known
//	rank       "root", "direct", "follows" or "harmless": how near it comes to the root
//	passing    it counts only if nothing came up afterwards: a server gets over it by itself
//	lines      expressions, one of which a line fits; each needs a word of four letters that is in all that it fits
//	says, do   the cause and the remedy: {1} is the line's first group that holds something, {2} the second; what stands
//	           in brackets is left out where its group holds nothing
//	known      a table at the end of the file that gives, by {1}, the word {known}
//	otherwise  the remedy where that table has none
//	dotted     the remedy where {1} is a name with a dot in it
//
// Where one line fits two rules, the one that stands first is told.

//go:embed rules/*.toml
var ruleFiles embed.FS

// ruleOrder is the order of the files.
var ruleOrder = []string{"install", "machine", "data", "code"}

// rank is how near to its root a rule comes. Of several that hold, the nearer one is the cause.
type rank int

const (
	harmless rank = iota // looks bad, and is not the cause of anything here
	follows              // follows from something else
	direct
	root
)

var ranks = map[string]rank{"harmless": harmless, "follows": follows, "direct": direct,
	"root": root}

// LogRule knows a cause by a line of a log.
type LogRule struct {
	Code string

	rank               rank
	passing            bool
	lines              []*expr.Expr
	says, do           string
	known              map[string]string
	otherwise, forDots string
}

// Logs are the rules for lines of logs.
var Logs = sync.OnceValue(func() []LogRule {
	var out []LogRule
	for _, name := range ruleOrder {
		rules, err := readRules(name)
		if err != nil {
			panic(fmt.Sprintf("rules/%s.toml: %v", name, err)) // they are part of the program
		}
		out = append(out, rules...)
	}
	return out
})

func readRules(name string) ([]LogRule, error) {
	data, err := ruleFiles.ReadFile("rules/" + name + ".toml")
	if err != nil {
		return nil, err
	}
	var file struct {
		Rule []struct {
			Code      string
			Rank      string
			Passing   bool
			Lines     []string
			Says, Do  string
			Known     string
			Otherwise string
			Dotted    string
		}
		Known map[string]map[string]string
	}
	if err := toml.Unmarshal(data, &file); err != nil {
		return nil, err
	}
	var out []LogRule
	for _, r := range file.Rule {
		rule := LogRule{Code: r.Code, passing: r.Passing, says: r.Says, do: r.Do,
			known: file.Known[r.Known], otherwise: r.Otherwise, forDots: r.Dotted}
		var ok bool
		if rule.rank, ok = ranks[r.Rank]; !ok || r.Known != "" && rule.known == nil ||
			len(r.Lines) == 0 {
			return nil, fmt.Errorf("the rule %s has no rank, no line, or names no table", r.Code)
		}
		for _, line := range r.Lines {
			rule.lines = append(rule.lines, expr.Later(line))
		}
		out = append(out, rule)
	}
	return out, nil
}

// Own makes a rule of what a person has written: an expression for a line, what it means and what
// to do then. Its error says what is wrong with the expression.
func Own(code, line, says, do string) (LogRule, error) {
	if len(line) > longest {
		return LogRule{}, fmt.Errorf("the expression is longer than %d characters", longest)
	}
	e, err := expr.Of(line)
	if err != nil {
		return LogRule{}, err
	}
	if length(wordsOf(line)) < shortest {
		return LogRule{}, fmt.Errorf("the expression needs a word of %d letters or more that is "+
			"in every line it fits", shortest)
	}
	return LogRule{Code: code, rank: root, lines: []*expr.Expr{e}, says: says, do: do}, nil
}

// longest is how many characters an expression of a person's may have.
const longest = 1000
