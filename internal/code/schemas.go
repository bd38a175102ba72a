package code

import (
	"slices"
	"strings"

	"nimbleharbor/internal/ecosystem"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// listed are the variables that a program lists in a schema of the environment.
func (p listing) listed(schema *ecosystem.Schema) []stack.Read {
	has := func(word string) bool { return strings.Contains(p.source, word) }
	if !slices.ContainsFunc(schema.Library, has) || !slices.ContainsFunc(schema.With, has) {
		return nil
	}
	if schema.Class != "" {
		return p.fields(schema)
	}
	var out []stack.Read
	for i := range p.tokens {
		if !p.is(i+1, ":") || !p.is(i-1, "{", ",") || !envName.MatchString(p.tokens[i].text) {
			continue
		}
		if !slices.ContainsFunc(schema.Roots, func(r string) bool { return p.spells(i+2, r) }) {
			continue
		}
		open, needed := says(schema, p.tokens[i+2:p.entryEnd(i+2)])
		out = p.lists(out, i, p.tokens[i].text, open, needed)
	}
	return out
}

// spells reports whether names with dots between them stand at a token.
func (p *program) spells(i int, names string) bool {
	for k, name := range strings.Split(names, ".") {
		if k > 0 && !p.is(i+2*k-1, ".") || !p.is(i+2*k, name) {
			return false
		}
	}
	return true
}

// says tells whether a variable may be absent, by the words of its entry, and whether it is needed.
func says(s *ecosystem.Schema, entry []token) (open, needed bool) {
	has := func(words []string) bool {
		return slices.ContainsFunc(entry, func(t token) bool {
			return t.kind == name && slices.Contains(words, t.text)
		})
	}
	open = has(s.Open)
	return open, !open && (len(s.Needed) == 0 || has(s.Needed))
}

// lists adds a variable that an entry names which begins with a token.
func (p listing) lists(out []stack.Read, i int, variable string, open, needed bool) []stack.Read {
	if ecosystem.Given(variable) {
		return out
	}
	return append(out, stack.Read{Name: variable, Default: open, Must: needed, At: p.place(i)})
}

// entryEnd is the token behind an entry of a list: a comma, or what closes the list.
func (p *program) entryEnd(i int) int {
	for ; i < len(p.tokens) && !p.is(i, ",", ";", "}", ")", "]"); i++ {
		if p.pairs[i] > i {
			i = p.pairs[i]
		}
	}
	return min(i, len(p.tokens))
}

// fielded is a class whose fields may be variables.
type fielded struct {
	name     string
	of       []string // what it is made of
	from, to int      // the lines of its body
	prefix   string
	counts   bool
}

// variableName is what a field may be called in the environment.
var variableName = expr.New(`^[A-Za-z_]\w*$`)

// fields are the variables that classes list as their fields.
func (p listing) fields(schema *ecosystem.Schema) (out []stack.Read) {
	for _, c := range p.classes(schema) {
		if !c.counts {
			continue
		}
		indent := -1
		for line := c.from; line < c.to; line++ {
			i := p.first[line]
			if i < 0 {
				continue
			}
			if indent < 0 {
				indent = p.indent(i)
			}
			if p.indent(i) != indent || p.tokens[i].kind != name || !p.is(i+1, ":") ||
				strings.HasPrefix(p.tokens[i].text, "model_") {
				continue
			}
			out = p.field(out, schema, c, i)
		}
	}
	return out
}

// field adds the variable of one field. It is open where the field has a value, unless that only
// describes it.
func (p listing) field(out []stack.Read, schema *ecosystem.Schema, c *fielded, i int) []stack.Read {
	end, value := i+2, 0
	for ; end < len(p.tokens) && (p.tokens[end].line == p.tokens[end-1].line ||
		p.pairs[end-1] >= 0 && p.pairs[end-1] < end-1 && p.tokens[end].line ==
			p.tokens[end-1].line); end++ {
		if p.is(end, "=") && value == 0 {
			value = end + 1
		}
		if p.pairs[end] > end {
			end = p.pairs[end]
		}
	}
	variable := strings.ToUpper(c.prefix + p.tokens[i].text)
	open, needed := says(schema, p.tokens[i+2:end])
	if value > 0 && !p.is(value, "Field") {
		open, needed = true, false
	} else if bracket := p.called(value + 1); value > 0 && bracket >= 0 {
		for k, a := range p.arguments(bracket) {
			first := p.token(a[0])
			switch {
			case k == 0 && a[1] == a[0]+1 && !first.is("..."):
				open, needed = true, false // its value
			case p.is(a[0], schema.Named...) && p.is(a[0]+1, "=") &&
				variableName.MatchString(p.token(a[0]+2).text):
				variable = p.token(a[0] + 2).text
			}
		}
	}
	return p.lists(out, i, variable, open, needed)
}

// classes finds those whose fields are variables: made of the schema's, directly or by way of
// others, and all that such a one is made of, which takes over its prefix.
func (p listing) classes(schema *ecosystem.Schema) (all []*fielded) {
	byName := map[string]*fielded{}
	settings := map[string]bool{schema.Class: true}
	for i := range p.tokens {
		open := i + 2
		if !p.is(i, "class") || p.first[p.tokens[i].line] != i || !p.is(open, "(") ||
			p.pairs[open] < 0 {
			continue
		}
		c := &fielded{name: p.tokens[i+1].text, from: int(p.tokens[p.pairs[open]].line) + 1}
		for k := open + 1; k < p.pairs[open]; k++ {
			if p.tokens[k].kind == name {
				c.of = append(c.of, p.tokens[k].text)
			}
		}
		c.to = c.from
		for ; c.to < len(p.first) && (p.first[c.to] < 0 ||
			p.indent(p.first[c.to]) > p.indent(i)); c.to++ {
			c.prefix = c.prefix + p.prefixIn(schema, c.to, c.prefix)
		}
		// a class stands before those that are made of it
		if slices.ContainsFunc(c.of, func(of string) bool { return settings[of] }) {
			settings[c.name] = true
		}
		byName[c.name], all = c, append(all, c)
	}
	for _, c := range all {
		if settings[c.name] {
			count(byName, c, c.prefix)
		}
	}
	return all
}

// count counts a class, and what it is made of.
func count(byName map[string]*fielded, c *fielded, prefix string) {
	if c == nil || c.counts {
		return
	}
	c.counts = true
	if c.prefix == "" {
		c.prefix = prefix
	}
	for _, of := range c.of {
		count(byName, byName[of], c.prefix)
	}
}

// prefixIn is what a line sets the prefix of all variables to, where nothing has by then.
func (p listing) prefixIn(schema *ecosystem.Schema, line int, known string) string {
	if known != "" || p.first[line] < 0 {
		return ""
	}
	for i := p.first[line]; i < len(p.tokens) && int(p.tokens[i].line) == line; i++ {
		if p.tokens[i].text == schema.Prefix && p.is(i+1, "=", ":") && p.token(i+2).kind == text {
			return p.tokens[i+2].text
		}
	}
	return ""
}
