package diagnose

import (
	"html"
	"strings"

	"nimbleharbor/internal/expr"
)

var (
	noText = expr.New(`(?is)<(script|style|head)\b.*?</(script|style|head)\s*>|<!--.*?-->`)
	block  = expr.New(`(?i)</?(p|div|h\d|li|tr|td|th|pre|br|title|section|table|ul|ol|dt|dd)\b[^>]*>`)
	tag    = expr.New(`(?s)<[^>]{0,1000}>`)
)

// PlainText is what a person reads of a page in HTML, a line for each part; any other text is left
// as it is.
func PlainText(page string) string {
	if !strings.Contains(page, "<") {
		return page
	}
	text := noText.ReplaceAllString(page, " ")
	text = block.ReplaceAllString(text, "\n")
	return html.UnescapeString(tag.ReplaceAllString(text, ""))
}
