// Package spelling finds the word that somebody meant.
package spelling

import (
	"cmp"
	"slices"
	"strings"
)

// Nearest is the one of the words known that differs from word by the fewest letters, and by fewer
// than within; empty if there is none. Of several the first by the alphabet counts.
func Nearest(word string, known []string, within int) string {
	best := ""
	for _, k := range known {
		if d := Edits(word, k); d < within || d == within && best != "" && k < best {
			best, within = k, d
		}
	}
	return best
}

// Near are those of the words known that look like word, the likeliest first, and at most so many:
// what differs by little, or has it within.
func Near(word string, known []string, most int) []string {
	type candidate struct {
		word string
		off  int
	}
	var list []candidate
	for _, k := range known {
		off := Edits(strings.ToLower(word), strings.ToLower(k))
		if off <= len(word)/3+1 || len(word) > 1 &&
			(strings.Contains(k, word) || strings.Contains(word, k)) {
			list = append(list, candidate{k, off})
		}
	}
	slices.SortStableFunc(list, func(a, b candidate) int { return cmp.Compare(a.off, b.off) })
	var out []string
	for _, c := range list[:min(len(list), most)] {
		out = append(out, c.word)
	}
	return out
}

// Edits counts the letters to change, add or remove to make one word of the other.
func Edits(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		before := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			before, row[j+1] = row[j+1], min(row[j+1]+1, row[j]+1, before+cost)
		}
	}
	return row[len(b)]
}
