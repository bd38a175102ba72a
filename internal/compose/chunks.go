package compose

import (
	"bytes"
	"runtime"

	"nimbleharbor/internal/beside"
	"nimbleharbor/internal/expr"
)

// Large files are parsed in pieces, several at the same time: what a parser builds of a file is
// many times as large as the file, and of a piece it is given back as soon as that is read. The
// pieces are groups of entries of the blocks at the top. A file that can't be cut without a doubt,
// or in which anything is wrong, is parsed as a whole.
const (
	largeFile = 2 << 20
	pieceSize = 256 << 10
)

var (
	topKey = expr.New(`^[A-Za-z_][\w.-]*:[ \t]*(#.*)?\r?$`)
	// wholeOnly is what ties parts of a file together: anchors and aliases, merge keys, further
	// documents, directives.
	wholeOnly = expr.New(`(?m)(^|[\s\[{,:-])[&*][A-Za-z0-9_]|<<[ \t]*:|^(---|\.\.\.|%)`)
)

// piece is a group of entries of one block.
type piece struct {
	key  string // of the block
	from int    // where it begins, in bytes
	to   int
	line int // the number of its first line, from 1
	tree *Value
	ok   bool
}

// inPieces parses a file of at least so many bytes in pieces of about a size; ok is false where it
// has to be parsed as a whole.
func inPieces(file string, data []byte, least, size int) (tree *Value, ok bool) {
	if len(data) < least || bytes.ContainsAny(data, "&*<%") && wholeOnly.Match(data) ||
		bytes.Contains(data, []byte("\n---")) || bytes.Contains(data, []byte("\n...")) {
		return nil, false
	}
	pieces, rest := cut(data, size)
	if len(pieces) < 2 {
		return nil, false
	}
	turns := make(chan struct{}, runtime.GOMAXPROCS(0))
	var wait beside.Group
	for i := range pieces {
		p := &pieces[i]
		turns <- struct{}{}
		wait.Go(func() {
			defer func() { <-turns }()
			p.tree, p.ok = parsePiece(file, data[p.from:p.to], p.line)
		})
	}
	wait.Wait()
	tree, ok = parsePiece(file, rest, 1)
	if !ok {
		return nil, false
	}
	for i := range pieces {
		p := &pieces[i]
		block := tree.Get(p.key)
		if !p.ok || block == nil {
			return nil, false
		}
		if block.Kind == Null {
			block.Kind, block.Text = Mapping, ""
			block.Line, block.Column = p.tree.Line, p.tree.Column
		}
		for _, m := range p.tree.Members {
			if block.find(m.Key) >= 0 {
				return nil, false // said by the whole, with both places
			}
			block.add(m)
		}
	}
	return tree, true
}

// cut finds the pieces of a file; rest is the file with empty lines in their places.
func cut(data []byte, size int) (pieces []piece, rest []byte) {
	rest = make([]byte, 0, 4096)
	key, indent, line := "", -1, 0
	open := -1 // the piece that is being put together
	for at := 0; at < len(data); line++ {
		end := at + bytes.IndexByte(data[at:], '\n') + 1
		if end == at {
			end = len(data)
		}
		text := data[at:end]
		bare := bytes.TrimLeft(text, " ")
		depth := len(text) - len(bare)
		blank := len(bytes.TrimSpace(bare)) == 0 || bare[0] == '#'
		switch {
		case blank:
		case depth == 0:
			key, indent, open = "", -1, -1
			if topKey.Match(bytes.TrimRight(text, "\n")) {
				key = string(text[:bytes.IndexByte(text, ':')])
			}
		case key != "" && indent < 0:
			indent = depth
		}
		if key != "" && depth > 0 && !blank && depth == indent && bare[0] != '-' &&
			(open < 0 || at-pieces[open].from >= size) {
			pieces = append(pieces, piece{key: key, from: at, line: line + 1})
			open = len(pieces) - 1
		}
		if open >= 0 {
			pieces[open].to = end
			rest = append(rest, '\n')
		} else {
			rest = append(rest, text...)
		}
		at = end
	}
	return pieces, rest
}

// parsePiece parses a part of a file whose first line has the number given.
func parsePiece(file string, data []byte, line int) (*Value, bool) {
	root, err := parseYAML(data)
	if err != nil || root == nil {
		return nil, false
	}
	r := reader{file: file, data: data, before: line - 1}
	v := r.value(root, 0)
	return v, len(r.faults) == 0 && v.Kind == Mapping
}
