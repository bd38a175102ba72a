package diagnose

import (
	"regexp/syntax"
	"strings"
)

// shortest is how long a word has to be, at least, by which a rule is found.
const shortest = 4

// wordsOf are words, in lower case, one of which is in every text that the expression fits; nil if
// there are none. Of several such sets the one whose shortest word is longest.
func wordsOf(expression string) []string {
	tree, err := syntax.Parse(expression, syntax.Perl)
	if err != nil {
		return nil
	}
	return required(tree.Simplify())
}

func required(re *syntax.Regexp) []string {
	switch re.Op {
	case syntax.OpLiteral:
		word := string(re.Rune)
		for _, r := range word {
			if r >= 0x80 {
				return nil
			}
		}
		return []string{strings.ToLower(word)}
	case syntax.OpCharClass: // a letter in either case is a letter
		if word, ok := oneLetter(re.Rune); ok {
			return []string{word}
		}
	case syntax.OpCapture, syntax.OpPlus:
		return required(re.Sub[0])
	case syntax.OpRepeat:
		if re.Min > 0 {
			return required(re.Sub[0])
		}
	case syntax.OpAlternate:
		var out []string
		for _, sub := range re.Sub {
			words := required(sub)
			if words == nil {
				return nil
			}
			out = append(out, words...)
		}
		return out
	case syntax.OpConcat:
		return ofConcat(re.Sub)
	}
	return nil
}

// ofConcat takes the best part of several that follow each other; words that touch are joined to
// one.
func ofConcat(parts []*syntax.Regexp) []string {
	var best, joined []string
	consider := func(words []string) {
		if words != nil && length(words) > length(best) {
			best = words
		}
	}
	for _, part := range parts {
		if part.Op == syntax.OpEmptyMatch || part.Op == syntax.OpWordBoundary ||
			part.Op == syntax.OpNoWordBoundary {
			continue
		}
		words := required(part)
		whole := isWhole(part)
		if whole && words != nil && joined != nil && len(words)*len(joined) <= 8 {
			var next []string
			for _, a := range joined {
				for _, b := range words {
					next = append(next, a+b)
				}
			}
			joined = next
		} else if whole {
			joined = words
		} else {
			joined = nil
		}
		consider(words)
		consider(joined)
	}
	return best
}

// isWhole reports whether an expression fits nothing but its words, so that what follows touches
// them.
func isWhole(re *syntax.Regexp) bool {
	switch re.Op {
	case syntax.OpLiteral:
		return true
	case syntax.OpCharClass:
		_, ok := oneLetter(re.Rune)
		return ok
	case syntax.OpCapture:
		return isWhole(re.Sub[0])
	case syntax.OpAlternate, syntax.OpConcat:
		for _, sub := range re.Sub {
			if !isWhole(sub) {
				return false
			}
		}
		return true
	}
	return false
}

// oneLetter is the letter of a class that holds one in both its cases.
func oneLetter(ranges []rune) (string, bool) {
	if len(ranges) == 2 && ranges[0] == ranges[1] && ranges[0] < 0x80 {
		return strings.ToLower(string(ranges[0])), true
	}
	if len(ranges) == 4 && ranges[0] == ranges[1] && ranges[2] == ranges[3] && ranges[2] < 0x80 &&
		ranges[0]+'a'-'A' == ranges[2] && ranges[0] >= 'A' && ranges[0] <= 'Z' {
		return string(ranges[2]), true
	}
	return "", false
}

func length(words []string) int {
	if len(words) == 0 {
		return 0
	}
	out := len(words[0])
	for _, w := range words {
		out = min(out, len(w))
	}
	return out
}

// automaton finds words in bytes of either case, all at once: it looks at each byte once, whatever
// the number of words (A. V. Aho and M. J. Corasick, Efficient string matching, 1975).
type automaton struct {
	class [256]uint16 // of a byte: its letter among those that words have, 0 for any other
	// by a state, which is a row, and a class: the row of the next state, with found in it
	next  []uint32
	width uint32
	rules [][]uint16 // by a state's number: the rules whose words end there
}

// found marks a state at which a word ends.
const found = 1 << 31

func newAutomaton(words [][]string) *automaton {
	a := &automaton{width: 1}
	for _, list := range words {
		for _, w := range list {
			for i := range len(w) {
				if c := w[i]; a.class[c] == 0 {
					a.class[c] = uint16(a.width)
					a.width++
				}
			}
		}
	}
	for c := 'A'; c <= 'Z'; c++ {
		a.class[c] = a.class[c+'a'-'A']
	}
	grow := func() uint32 {
		a.next = append(a.next, make([]uint32, a.width)...)
		a.rules = append(a.rules, nil)
		return uint32(len(a.rules) - 1)
	}
	grow()
	for rule, list := range words {
		for _, w := range list {
			s := uint32(0)
			for i := range len(w) {
				at := s*a.width + uint32(a.class[w[i]])
				if a.next[at] == 0 {
					to := grow()
					a.next[at] = to
				}
				s = a.next[at]
			}
			a.rules[s] = append(a.rules[s], uint16(rule))
		}
	}
	a.complete()
	return a
}

// complete lets every state know where each letter leads, and turns states into rows.
func (a *automaton) complete() {
	states := uint32(len(a.rules))
	back := make([]uint32, states)
	queue := make([]uint32, 0, states)
	for c := range a.width {
		if s := a.next[c]; s != 0 {
			queue = append(queue, s)
		}
	}
	for i := 0; i < len(queue); i++ {
		s := queue[i]
		a.rules[s] = append(a.rules[s], a.rules[back[s]]...)
		for c := range a.width {
			to := a.next[s*a.width+c]
			other := a.next[back[s]*a.width+c]
			if to == 0 {
				a.next[s*a.width+c] = other
				continue
			}
			back[to] = other
			queue = append(queue, to)
		}
	}
	for i, to := range a.next {
		a.next[i] = to * a.width
		if len(a.rules[to]) > 0 {
			a.next[i] |= found
		}
	}
}

// find calls hit for each place behind a word, with the rules whose word it is.
func (a *automaton) find(text []byte, hit func(end int, rules []uint16)) {
	s := uint32(0)
	next, class := a.next, &a.class
	for i, b := range text {
		s = next[s+uint32(class[b])]
		if s&found != 0 {
			s &^= found
			hit(i+1, a.rules[s/a.width])
		}
	}
}
