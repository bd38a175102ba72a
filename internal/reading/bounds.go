package reading

import (
	"bytes"
	"fmt"
)

// maxTables is how many tables a TOML file may have that is read: its parser looks at each of them
// for each. Lock files of large applications have some thousands.
const maxTables = 20_000

// TOML makes sure that a TOML file is none that would take its parser for ever.
func TOML(data []byte) error {
	tables := 0
	for line := range bytes.Lines(data) {
		if bytes.HasPrefix(bytes.TrimLeft(line, " \t"), []byte("[")) {
			if tables++; tables > maxTables {
				return fmt.Errorf("it has more than %d tables, and no more are read", maxTables)
			}
		}
	}
	return nil
}

// Bounds of Markdown. A parser of it goes down with each sign of a quote or a list, and looks back
// over all of them.
const (
	// of quotes and lists at the beginning of a line, and columns of it before its text
	maxMarks  = 30
	maxColumn = 40      // of blanks before a text
	maxLine   = 8 << 20 // bytes
	maxRepeat = 2000    // brackets or stars in a paragraph that wait for their other half
)

// Markdown is a text as it can be given to a parser of Markdown: lines that would take it for ever
// are empty in it, so that all others keep their numbers. Nobody has written those to be read.
func Markdown(data []byte) []byte {
	var out []byte
	begin, open := 0, 0
	for begin < len(data) {
		end := bytes.IndexByte(data[begin:], '\n')
		if end < 0 {
			end = len(data) - begin - 1
		}
		line := data[begin : begin+end+1]
		if len(bytes.TrimSpace(line)) == 0 {
			open = 0
		}
		open += bytes.Count(line, []byte("[")) + bytes.Count(line, []byte("*"))/2 +
			bytes.Count(line, []byte("<"))/4
		if deep(line) || len(line) > maxLine || open > maxRepeat {
			if out == nil {
				out = bytes.Clone(data)
			}
			for i := begin; i < begin+len(line); i++ {
				if out[i] != '\n' && out[i] != '\r' {
					out[i] = ' '
				}
			}
			open = 0
		}
		begin += len(line)
	}
	if out == nil {
		return data
	}
	return out
}

// deep reports whether a line begins with more signs of quotes and lists, or further to the right,
// than people write.
func deep(line []byte) bool {
	marks, column := 0, 0
	for _, c := range line {
		switch c {
		case ' ':
			column++
		case '\t':
			column += 4
		case '>', '-', '*', '+', '.', ')', '0', '1', '2', '3', '4', '5', '6', '7', '8', '9':
			marks, column = marks+1, 0
		default:
			return marks > maxMarks && column > 0 || column > maxColumn && marks > 0
		}
		if marks > 4*maxMarks {
			rest := bytes.TrimSpace(line)
			return bytes.ContainsAny(rest, "> ") // a rule of many dashes is none of these
		}
	}
	return false
}
