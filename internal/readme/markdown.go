package readme

import (
	"slices"
	"sort"
	"strings"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
)

// fences are the languages of blocks that hold commands; those of most readers show no colours for
// one of them.
var fences = []string{"", "sh", "bash", "shell", "zsh", "console", "shell-session", "terminal",
	"shellsession", "cmd", "powershell", "text", "bat", "fish"}

// isShell reports whether a block of that language holds nothing but commands.
func isShell(lang string) bool {
	return lang != "" && lang != "text" && slices.Contains(fences, lang)
}

// closeHead is a head as many people write one, which CommonMark doesn't take for one (section
// 4.2): no blank behind #.
var closeHead = expr.New(`^#{1,6}[^\s#!/]`)

// htmlHead is a head in HTML, which READMEs have for pictures and places in the middle.
var htmlHead = expr.New(`(?i)<h[1-6][^>]*>(.*?)</h[1-6]>`)

var htmlTag = expr.New(`<[^<>]*>`)

// markdown reads a text as CommonMark says.
func (r *reader) markdown(data []byte) {
	data = reading.Markdown(data)
	m := &marked{reader: r, data: data}
	for i, b := range data {
		if b == '\n' {
			m.ends = append(m.ends, i)
		}
	}
	doc := goldmark.DefaultParser().Parse(text.NewReader(data))
	ast.Walk(doc, func(n ast.Node, entering bool) (ast.WalkStatus, error) {
		if entering {
			return m.node(n), nil
		}
		return ast.WalkContinue, nil
	})
}

// marked is a text in Markdown.
type marked struct {
	*reader
	data []byte
	ends []int // the offsets at which lines end
}

// line is the number of the line of an offset.
func (m *marked) lineAt(offset int) int { return 1 + sort.SearchInts(m.ends, offset) }

func (m *marked) node(n ast.Node) ast.WalkStatus {
	switch n := n.(type) {
	case *ast.Heading:
		if n.Lines().Len() > 0 {
			at := n.Lines().At(0)
			m.section(string(at.Value(m.data)), m.lineAt(at.Start))
		}
	case *ast.HTMLBlock:
		for i := range n.Lines().Len() {
			at := n.Lines().At(i)
			if h := htmlHead.FindSubmatch(at.Value(m.data)); h != nil {
				m.section(htmlTag.ReplaceAllString(string(h[1]), ""), m.lineAt(at.Start))
			}
		}
	case *ast.FencedCodeBlock:
		if lang := strings.ToLower(string(n.Language(m.data))); slices.Contains(fences, lang) {
			m.block(m.lines(n), isShell(lang))
		}
	case *ast.CodeBlock:
		m.block(m.lines(n), false)
	case *ast.TextBlock, *ast.Paragraph:
		lines := m.lines(n)
		for _, l := range lines {
			if closeHead.MatchString(l.text) {
				m.section(strings.TrimLeft(l.text, "#"), l.number)
			}
		}
		if _, item := n.Parent().(*ast.ListItem); item && len(lines) == 1 {
			m.entry(lines[0])
		}
	case *ast.CodeSpan:
		m.codeSpan(n)
		return ast.WalkSkipChildren
	}
	return ast.WalkContinue
}

func (m *marked) lines(n ast.Node) []line {
	out := make([]line, 0, n.Lines().Len())
	for i := range n.Lines().Len() {
		at := n.Lines().At(i)
		out = append(out, line{m.lineAt(at.Start), strings.TrimRight(string(at.Value(m.data)),
			"\r\n")})
	}
	return out
}

func (m *marked) codeSpan(n *ast.CodeSpan) {
	var b strings.Builder
	at := -1
	for c := n.FirstChild(); c != nil; c = c.NextSibling() {
		if t, ok := c.(*ast.Text); ok {
			if at < 0 {
				at = t.Segment.Start
			}
			b.Write(t.Segment.Value(m.data))
		}
	}
	m.span(line{m.lineAt(max(0, at)), b.String()})
}
