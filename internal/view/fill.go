package view

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/fill"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// Fill shows what was decided for each setting. Values of secrets are shown only if reveal is set.
func (t *Text) Fill(p *fill.Plan, dryRun, reveal bool) {
	t.Reveals = reveal
	if len(p.Files) == 0 && len(p.Unknown) == 0 {
		t.Line("No settings file is known here, and no template for one.")
		t.Remarks(p.Remarks)
		return
	}
	for i, f := range p.Files {
		if i > 0 {
			t.Blank()
		}
		filledFile(t, &f, dryRun)
	}
	if len(p.Links) > 0 {
		t.Blank()
		t.Title("One value, several places")
		for _, l := range p.Links {
			var at []string
			for _, m := range l.Members {
				at = append(at, m.File+" "+m.Key)
			}
			t.Line("  %s: %s", l.Name, strings.Join(at, ", "))
		}
	}
	t.Remarks(p.Remarks)
}

// filledFile shows a settings file, each setting with where its value is from.
func filledFile(t *Text, f *fill.File, dryRun bool) {
	state, from := "unchanged", ""
	switch {
	case f.Written:
		state = "written, readable by you alone"
	case dryRun:
		state = "not written: this is a dry run"
	}
	if f.Template != "" {
		from = " from " + f.Template
	}
	t.Title(fmt.Sprintf("%s%s, %s", f.Path, from, state))
	var rows [][]string
	for i := range f.Settings {
		s := &f.Settings[i]
		remark := s.Remark
		if s.Level != "" {
			remark = "warning: " + remark
		}
		rows = append(rows, []string{s.Key, s.Origin, valueOf(t, s), remark})
	}
	t.table(2, rows)
	for _, r := range f.Remarks {
		t.Line("  %s", r)
	}
}

// valueOf is a setting's value as it can be shown.
func valueOf(t *Text, s *fill.Setting) string {
	value := t.shown(strings.ReplaceAll(s.Value(), "\n", " "))
	switch {
	case s.Origin == fill.Missing:
		return ""
	case s.Secret && !t.Reveals && value != "":
		return "(hidden)"
	}
	if most := max(16, min(48, t.Width/3)); Width(value) > most {
		value = string([]rune(value)[:most-1]) + "…"
	}
	return value
}

// Loud says what must not be passed over: settings files with secrets that git keeps or would keep.
func (t *Text) Loud(p *fill.Plan) {
	by := map[string][]string{}
	for i := range p.Files {
		if f := &p.Files[i]; f.Secret() {
			by[f.Git] = append(by[f.Git], f.Path)
		}
	}
	if list := by[fill.Tracked]; len(list) > 0 {
		t.Blank()
		first := "git rm --cached " + shell.Word(list[0])
		if dir := path.Dir(list[0]); dir != "." {
			first = fmt.Sprintf("git -C %s rm --cached %s", shell.Word(dir),
				shell.Word(path.Base(list[0])))
		}
		if len(list) > 1 {
			first += ", and so the others"
		}
		t.Line("warning: git keeps %s with secrets inside. Take it out with: %s", some(list), first)
	}
	if list := by[fill.Untracked]; len(list) > 0 {
		var names []string
		for _, f := range list {
			if base := path.Base(f); !slices.Contains(names, base) {
				names = append(names, base)
			}
		}
		t.Blank()
		t.Line("warning: git does not ignore %s, with secrets inside. Add to .gitignore: %s",
			some(list), strings.Join(names, ", "))
	}
}

// some names the first of a list, and how many more there are.
func some(list []string) string {
	if len(list) <= 3 {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:3], ", "), len(list)-3)
}

// unknown shows the files of which nothing says what they hold.
func unknown(t *Text, p *fill.Plan) {
	for i, u := range p.Unknown {
		t.Line("%s must be there (%s:%d)%s, and nothing says what it holds.", u.Path, u.At.File,
			u.At.Line, usedBy(u.Services))
		if i == len(p.Unknown)-1 {
			t.Line("  Ask who made the application; if it may be empty: touch %s", u.Path)
		}
	}
	if len(p.Unknown) > 0 && len(p.Missing) > 0 {
		t.Blank()
	}
}

// NextOf is what comes next for a stack that is as it should be: to launch it or, where nothing is
// known that could be launched, to say what serves.
func NextOf(s *stack.Stack) string {
	if len(s.Services) == 0 {
		return "name what serves in nharbor.toml; nharbor survey --write drafts it"
	}
	return "nharbor launch"
}

// Filled concludes how the settings stand, and what is next once they are written. With dry nothing
// was written.
func (t *Text) Filled(p *fill.Plan, dry bool, next string) {
	switch {
	case !p.Complete && len(p.Missing) == 0:
		t.Missing(p)
	case !p.Complete:
		t.Missing(p)
		t.Blank()
		t.Line("Give them with --set KEY=VALUE or, so that they stay out of the shell's history, " +
			"with --answers FILE or nharbor locker put KEY. To leave one empty: nharbor fill " +
			"--set KEY=")
	case len(p.Restart) > 0:
		t.Line("Every setting has its value, and these still run with the old ones: %s. Next: "+
			"nharbor restart %s", strings.Join(p.Restart, ", "), strings.Join(p.Restart, " "))
	case p.Insists():
		t.Line("The code insists on values that nothing here gives; see the warning.")
	case p.Lacks():
		t.Line("Settings are wanted from a file that isn't there; see the problem.")
	case len(p.Files) == 0:
		t.Line("Nothing is known that is to be filled. Next: %s", next)
	default:
		if dry {
			next = "nharbor fill, without --dry-run"
		}
		all := concluded(p.Loose())
		if p.ByCodeAlone() && len(p.Loose().Empty) == 0 {
			all = "What the code is known to insist on has a value; no template says what else " +
				"there is."
		}
		t.Line("%s Next: %s", all, next)
	}
}

// concluded tells how far the settings have what they need.
func concluded(l fill.Loose) string {
	var open []string
	if len(l.Standing) > 0 {
		open = append(open, some(l.Standing)+verb(l.Standing, " holds", " hold")+" a placeholder")
	}
	if len(l.Empty) > 0 {
		open = append(open, some(l.Empty)+verb(l.Empty, " is", " are")+
			" empty, and nothing says whether a value is needed")
	}
	if len(l.Copied) > 0 {
		open = append(open, some(l.Copied)+verb(l.Copied, " is", " are")+
			" copied with the values of the sample")
	}
	if len(open) == 0 {
		return "Every setting has its value."
	}
	return "All that is known to be needed has a value. Look at the rest: " +
		strings.Join(open, "; ") + "."
}

// verb is the form that goes with as many.
func verb(list []string, one, several string) string {
	if len(list) == 1 {
		return one
	}
	return several
}

// Missing shows the settings that only a person can give.
func (t *Text) Missing(p *fill.Plan) {
	unknown(t, p)
	if len(p.Missing) == 0 {
		return
	}
	t.Line("%s still missing:", Count(len(p.Missing), "setting is", "settings are"))
	for _, m := range p.Missing {
		t.Line("  %s in %s%s", m.Key, m.File, usedBy(m.Services))
		// A file without a template has for comments where the code asks; why says more of that.
		place, _, _ := strings.Cut(m.Why, " ")
		if m.Hint != "" && (place == "" || !strings.HasPrefix(m.Hint, place+" ")) {
			t.Line("    %s", m.Hint)
		}
		if m.Why != "" {
			t.Line("    %s", m.Why)
		}
	}
}

func usedBy(services []string) string {
	if len(services) == 0 {
		return ""
	}
	return ", used by " + strings.Join(services, ", ")
}

// Kept lists what the locker holds, without any value.
func (t *Text) Kept(list [][3]string, recipient string) {
	if len(list) == 0 {
		t.Line("The locker is empty. An issued secret that you give to nharbor fill is kept " +
			"here, or by: nharbor locker put KEY")
	} else {
		rows := make([][]string, len(list))
		for i, one := range list {
			rows[i] = one[:]
		}
		t.table(0, rows)
	}
	t.Blank()
	t.Line("Your public key, for colleagues who pack secrets for you: %s", recipient)
}
