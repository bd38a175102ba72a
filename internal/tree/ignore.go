package tree

import (
	"path"
	"strings"

	"nimbleharbor/internal/ecosystem"
)

// ignores are the rules of the ignore files from the top of a checkout down to one folder. The form
// is git's (gitignore, "Pattern format"): the last rule that fits decides.
type ignores struct {
	base   string // the folder that the rules lie in
	rules  []ignoreRule
	parent *ignores
}

type ignoreRule struct {
	parts    []string
	literal  string // the whole pattern, if it is one name without wildcards
	anchored bool   // it fits only from the base on; otherwise any name below
	keep     bool   // it takes back what earlier rules have ignored
	folders  bool   // it fits folders only
}

// with adds the rules of an ignore file that lies in the folder.
func (i *ignores) with(folder, text string) *ignores {
	out := &ignores{base: folder, parent: i}
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimRight(line, "\r")
		if !strings.HasSuffix(line, `\ `) {
			line = strings.TrimRight(line, " \t")
		}
		if line == "" || line[0] == '#' {
			continue
		}
		var r ignoreRule
		if line[0] == '!' {
			r.keep, line = true, line[1:]
		}
		line = strings.TrimPrefix(line, `\`)
		if strings.HasSuffix(line, "/") {
			r.folders, line = true, strings.TrimRight(line, "/")
		}
		r.anchored = strings.Contains(line, "/")
		line = strings.TrimPrefix(line, "/")
		if line == "" {
			continue
		}
		r.parts = strings.Split(line, "/")
		if len(r.parts) == 1 && !strings.ContainsAny(line, `*?[\`) {
			r.literal = line
		}
		out.rules = append(out.rules, r)
	}
	if len(out.rules) == 0 {
		return i
	}
	return out
}

// ignoresAll reports whether an ignore file leaves nothing: in a checkout, whose files are there
// although it does, git was told to take them all the same.
func ignoresAll(text string) bool {
	all := false
	for _, line := range strings.Fields(text) {
		switch {
		case line[0] == '!':
			return false
		case line == "*" || line == "/*" || line == "**":
			all = true
		}
	}
	return all
}

// ignored reports whether a file or folder of the folder dir is ignored.
func (i *ignores) ignored(dir, name string, folder bool) bool {
	for set := i; set != nil; set = set.parent {
		for k := len(set.rules) - 1; k >= 0; k-- {
			if r := &set.rules[k]; (folder || !r.folders) && r.fits(set.base, dir, name) {
				return !r.keep
			}
		}
	}
	return false
}

func (r *ignoreRule) fits(base, dir, name string) bool {
	if !r.anchored {
		if r.literal != "" {
			return r.literal == name
		}
		ok, _ := path.Match(r.parts[0], name)
		return ok
	}
	rel := dir
	if base != "." {
		rel = strings.TrimPrefix(strings.TrimPrefix(dir, base), "/")
	}
	if rel == "." {
		rel = ""
	}
	if r.literal != "" {
		return rel == "" && r.literal == name
	}
	return ecosystem.MatchParts(r.parts, strings.Split(path.Join(rel, name), "/"))
}
