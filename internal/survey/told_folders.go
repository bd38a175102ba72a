package survey

import (
	"path"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// retired is what a README says of a folder that is no longer in use.
type retired struct {
	word string
	at   stack.Place
}

const aPath = `\.?/?([\w@.-]+(?:/[\w@.-]+)*)/?`

var (
	// outWords are words for what is no longer in use, as they stand beside a folder's name.
	outWords = expr.New(`(?i)\b(retired|deprecated|obsolete|abandoned|unmaintained|archived|superseded|discontinued|` +
		`no longer (?:used|in use|maintained|supported|developed|needed)|not (?:used|in use) any ?more|` +
		`kept (?:only )?(?:for reference|for history|for posterity))\b`)
	// notOut takes that back.
	notOut = expr.New(`(?i)\b(not|never|isn't|is n't|aren't|won't be) (yet )?(retired|deprecated|obsolete|abandoned|` +
		`unmaintained|archived|superseded|discontinued)\b`)
	// folderWord is a folder as a README writes it: as code, as a link's target, or in bold.
	folderWord = expr.New("`" + aPath + "`|\\]\\(" + aPath + `\)|\*\*` + aPath + `\*\*`)
	// ofItself is a README's word of what it lies in.
	ofItself = expr.New(`(?i)\bthis (project|app|application|service|front-?end|back-?end|folder|directory|package|` +
		`version|code) (is|has been)\b`)
	sentenceEnd = expr.New(`[.!?;](\s|$)|\n\s*\n|\n\s*([-*+|]|\d+\.)\s`)
)

// outOfUse are the folders of which a README says that they are retired: in a sentence, an entry of
// a list or a row of a table that names no other folder.
func (s *natives) outOfUse() map[string]retired {
	if s.retired != nil {
		return s.retired
	}
	s.retired = map[string]retired{}
	for _, file := range s.Instructions {
		text := strings.Join(s.ReadmeOf(file).Lines, "\n")
		for from := 0; from < len(text); {
			end := len(text)
			if m := sentenceEnd.FindStringIndex(text[from:]); m != nil {
				end = from + m[1]
				if rest := text[from+m[0] : end]; strings.Contains(rest, "\n") {
					end = from + m[0] + 1 // the sign of the next entry belongs to it
				}
			}
			s.retire(file, text[from:end], 1+strings.Count(text[:from], "\n"))
			from = end
		}
	}
	return s.retired
}

// retire notes the one folder that a sentence calls retired.
func (s *natives) retire(file, sentence string, line int) {
	said := outWords.FindStringIndex(sentence)
	if said == nil || notOut.MatchString(sentence) {
		return
	}
	folder := ""
	for _, m := range folderWord.FindAllStringSubmatch(sentence, -1) {
		name := path.Join(path.Dir(file), strings.Join(m[1:], ""))
		if !s.Commands.IsFolder(name) || name == folder {
			continue
		}
		if folder != "" {
			return // nobody says which of them
		}
		folder = name
	}
	if folder == "" && ofItself.MatchString(sentence) {
		folder = path.Dir(file)
	}
	if folder == "" || folder == "." {
		return
	}
	begin := len(sentence) - len(strings.TrimLeft(sentence, "\n "))
	word := strings.Join(strings.Fields(strings.ToLower(sentence[said[0]:said[1]])), " ")
	at := stack.Place{File: file, Line: line + strings.Count(sentence[:max(begin, said[0])], "\n")}
	if _, there := s.retired[folder]; !there {
		s.retired[folder] = retired{word, at}
	}
}
