package report

import (
	_ "embed" // the page's form
	"fmt"
	"html/template"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/view/picture"
)

// Endings are the endings of the files that Report can fill.
var Endings = []string{".html", ".md", ".svg"}

//go:embed report.html
var reportForm string

var reportPage = template.Must(template.New("report").Parse(reportForm))

// Make writes a report in the form that the file's name asks for: one HTML page that needs
// nothing else, Markdown, or as SVG the timeline alone, which is empty where nothing has been
// launched; ok is false for any other.
func Make(r *session.Report, file string) (text string, ok bool, err error) {
	d := dataOf(r)
	switch strings.ToLower(filepath.Ext(file)) {
	case ".html", ".htm":
		var out strings.Builder
		d.Style = template.CSS(picture.TimelineStyle + picture.OrderStyle)
		err := reportPage.Execute(&out, d)
		return view.Washed(out.String()), true, err
	case ".md", ".markdown":
		return view.Washed(markdown(r, d)), true, nil
	case ".svg":
		if r.Timeline == nil {
			return "", true, nil
		}
		return picture.TimelineSVG(r.Timeline, now(r)), true, nil
	}
	return "", false, nil
}

// now is the time of the launch that a report shows, in seconds.
func now(r *session.Report) float64 {
	if r.Timeline.Took > 0 {
		return r.Timeline.Took
	}
	return r.Made.Sub(r.Started).Seconds()
}

// page is a report in rows and sentences.
type page struct {
	Name, Made, Version, Verdict, Sub, Open string
	Well                                    bool
	Checkouts                               []string
	Parts                                   []part
	Style                                   template.CSS
}

// part is one chapter of it; what is empty is left out.
type part struct {
	ID, Title, Lead string
	SVG             template.HTML
	Head            []string
	Rows            [][]string
	ByHand          []session.ByHand
	text            string // in the place of the SVG, where there is none
}

func dataOf(r *session.Report) *page {
	d := &page{Name: r.Name, Made: r.Made.Format("2 January 2006, 15:04"), Version: r.Version,
		Open: r.Check.Open, Well: r.Check.Answers}
	d.verdict(r)
	for _, c := range r.Stack.Checkouts {
		d.Checkouts = append(d.Checkouts, checkoutLine(c, r.Name))
	}
	add := func(p part) {
		p.withoutEmpty()
		if p.SVG != "" || len(p.Rows) > 0 || len(p.ByHand) > 0 {
			d.Parts = append(d.Parts, p)
		}
	}
	add(part{ID: "ports", Title: "Ports", Rows: portRows(r.Check.Ports),
		Head: []string{"service", "address", "verdict", "says", "why, and what to do"}})
	var failures [][]string
	for _, x := range r.Check.Failures {
		failures = append(failures, []string{x.ID.Title(), string(x.State), x.Text,
			view.Sentences(x.Cause, x.Remedy)})
	}
	add(part{ID: "failures", Title: "What went wrong",
		Head: []string{"step or service", "state", "text",
			"cause, and what to do"}, Rows: failures})
	add(part{ID: "took", Title: "What it took", Head: []string{"service", "what was learned",
		"because of", "on"}, Rows: tookRows(r.Took)})
	if r.Timeline != nil {
		p := picture.Picture{Now: now(r), Width: 110}
		brief, rest := picture.Brief(r.Timeline, 40)
		add(part{ID: "timeline", Title: "How the launch went",
			SVG:  template.HTML(picture.TimelinePart(r.Timeline, now(r))),
			text: strings.Join(p.Lines(brief), "\n") + "\n" + rest + "\n\n" + p.Legend()})
		add(part{ID: "done", Title: "What was done",
			Head: []string{"step or service", "command or image", "how it went",
				"last time", ""}, Rows: doneRows(r)})
	}
	if len(r.Order.Nodes) > 0 {
		add(part{ID: "order", Title: "What starts after what",
			SVG:  template.HTML(picture.OrderPart(r.Order, r.Timeline)),
			text: "```mermaid\n" + picture.Mermaid(r.Order, r.Timeline) + "```"})
	}
	add(part{ID: "services", Title: "Services",
		Head: []string{"service", "runs", "what", "ports", "read at"}, Rows: serviceRows(r.Stack)})
	add(part{ID: "waits", Title: "Why one waits for the other",
		Head: []string{"service", "waits for", "until it is",
			"because", "read at"}, Rows: waitRows(r.Stack)})
	add(part{ID: "projects", Title: "Projects",
		Head: []string{"folder", "manager", "steps", "read at"}, Rows: projectRows(r.Stack)})
	add(part{ID: "settings", Title: "Settings files", Head: []string{"file", "made from", "has",
		"holds its own value of"}, Rows: settingsRows(r.Settings)})
	lacks, has := needRows(r.Needs)
	add(part{ID: "lacks", Title: "What this machine lacks",
		Head: []string{"", "what", "wanted", "found", "remedy"}, Rows: lacks})
	add(part{ID: "has", Title: "What it needs and has", Head: []string{"what", "found", "wanted"},
		Rows: has})
	add(part{ID: "remarks", Title: "Remarks", Head: []string{"", "what", "where", "what to do"},
		Rows: remarkRows(r.Stack.Remarks)})
	add(part{ID: "readme", Title: "What the README asks for",
		Head: []string{"where", "command", "who does it"}, Rows: readmeRows(r.Stack.Readme)})
	lead := "Command by command, in the order of the launch. With this program: nharbor clone, " +
		"then nharbor launch."
	if slices.ContainsFunc(r.Stack.Services,
		func(v stack.Service) bool { return v.Runs == stack.Container }) {
		lead += " Containers get here what they hardly run without; whatever else their compose " +
			"file asks for stands there."
	}
	add(part{ID: "by-hand", Title: "How to do it by hand", Lead: lead, ByHand: r.ByHand})
	var machine [][]string
	for _, m := range r.Machine {
		machine = append(machine, m[:])
	}
	add(part{ID: "machine", Title: "The machine", Head: []string{"what", "is"}, Rows: machine})
	return d
}

// tookRows are what launches had to learn, and nothing in the checkout says.
func tookRows(lessons []memory.Lesson) (rows [][]string) {
	for _, l := range lessons {
		what := "waits until " + l.After + " answers"
		if l.Provide != "" {
			what = "has a " + l.Provide + " run beside the stack"
		}
		rows = append(rows, []string{l.Service, what, l.Because, l.At.Format("2 January 2006")})
	}
	return rows
}

// withoutEmpty leaves columns out in which nothing stands.
func (p *part) withoutEmpty() {
	for i := len(p.Head) - 1; i >= 0; i-- {
		if slices.ContainsFunc(p.Rows, func(row []string) bool { return row[i] != "" }) {
			continue
		}
		p.Head = slices.Delete(slices.Clone(p.Head), i, i+1)
		for k, row := range p.Rows {
			p.Rows[k] = slices.Delete(slices.Clone(row), i, i+1)
		}
	}
}

func checkoutLine(c stack.Checkout, root string) string {
	line := c.Path
	if line == "." {
		line = root
	}
	for _, more := range [][2]string{{" from ", c.Address}, {", branch ", c.Branch},
		{", tag ", c.Tag}, {", commit ", c.Commit[:min(8, len(c.Commit))]}} {
		if more[1] != "" {
			line += more[0] + more[1]
		}
	}
	return line
}

func portRows(ports []stack.PortCheck) (rows [][]string) {
	for _, p := range ports {
		says := p.Speaks
		if p.Status > 0 {
			says = fmt.Sprintf("%s %d", says, p.Status)
		}
		if p.Title != "" {
			says += " “" + p.Title + "”"
		}
		if p.LatencyMs > 0 {
			says += fmt.Sprintf(", %.0f ms", p.LatencyMs)
		}
		rows = append(rows, []string{p.Service, p.URL(), string(p.Verdict),
			strings.Trim(says, ", "), view.Sentences(p.Cause, p.Remedy)})
	}
	return rows
}

func serviceRows(s *stack.Stack) (rows [][]string) {
	for _, v := range s.Services {
		runs := string(v.Runs)
		if v.Kind == stack.Once {
			runs += ", once"
		}
		rows = append(rows, []string{v.Name, runs, view.What(v),
			strings.Replace(view.Ports(v.Ports), "port ", "", 1), view.Where(v.At)})
	}
	return rows
}

// doneRows are the steps and services of the launch in the order in which they began.
func doneRows(r *session.Report) (rows [][]string) {
	p := picture.Picture{Now: now(r)}
	for _, row := range r.Timeline.Rows {
		command, last, waited := "", "", ""
		if name, ok := row.ID.Service(); ok {
			if v := r.Stack.Service(name); v != nil {
				command = view.What(*v)
			}
		} else if id, ok := row.ID.Step(); ok {
			if st := r.Stack.Step(id); st != nil {
				command = strings.Join(st.Command, " ")
			}
		}
		if row.Last > 0 {
			last = view.Seconds(row.Last)
		}
		if row.Critical {
			waited = "everything waited for it"
		}
		rows = append(rows, []string{row.ID.Title(), command, p.Note(row, r.Timeline), last,
			waited})
	}
	return rows
}

func waitRows(s *stack.Stack) (rows [][]string) {
	for _, v := range s.Services {
		for _, a := range v.After {
			rows = append(rows, []string{v.Name, a.Service, string(a.Until), a.Reason,
				view.Where(a.At)})
		}
	}
	return rows
}

func projectRows(s *stack.Stack) (rows [][]string) {
	for _, p := range s.Projects {
		var steps []string
		for _, st := range p.Steps {
			steps = append(steps, strings.Join(st.Command, " "))
		}
		evidence := ""
		if len(p.Evidence) > 0 {
			evidence = view.Where(p.Evidence[0].Place())
		}
		rows = append(rows, []string{p.Path, strings.Trim(p.Manager+", "+p.Framework, ", "),
			strings.Join(steps, "; "), evidence})
	}
	return rows
}

func settingsRows(files []session.SettingsFile) (rows [][]string) {
	for _, f := range files {
		from, own := f.Template, strings.Join(f.Own, ", ")
		if from == "" {
			from = "no template"
		}
		if len(f.Open) > 0 {
			own = strings.TrimPrefix(own+"; still open: "+strings.Join(f.Open, ", "), "; ")
		}
		rows = append(rows, []string{f.Path, from, view.Count(f.Settings, "setting", "settings"),
			own})
	}
	return rows
}

func needRows(a *needs.Answer) (lacks, has [][]string) {
	for _, n := range a.Needs {
		level := "missing"
		switch {
		case n.Met:
			has = append(has, []string{n.Name, n.Found, n.Wanted})
			continue
		case n.Level != needs.Required:
			level = "warning"
		}
		lacks = append(lacks, []string{level, n.Name, n.Wanted, n.Found, n.Remedy})
	}
	return lacks, has
}

func remarkRows(remarks []stack.Remark) (rows [][]string) {
	for _, x := range view.ByWeight(remarks) {
		rows = append(rows, []string{string(x.Level), x.Text, view.Where(x.At), x.Remedy})
	}
	return rows
}

func readmeRows(demands []stack.ReadmeDemand) (rows [][]string) {
	for _, x := range demands {
		does := "not done by a launch. " + x.Why
		if x.Covered {
			does = x.By.Title()
		}
		rows = append(rows, []string{view.Where(x.At), x.Command, strings.TrimSpace(does)})
	}
	return rows
}

// verdict is the report in a sentence, and what is to be said beside it.
func (d *page) verdict(r *session.Report) {
	c := r.Check.Counts
	switch {
	case !r.Check.Launched && r.Timeline == nil:
		d.Verdict, d.Well = "It has not been launched here.", false
	case !r.Check.Launched:
		d.Verdict, d.Well = "It is not running now.", false
	case r.Check.Answers:
		d.Verdict = fmt.Sprintf("It runs: %s as they should be.",
			view.Count(c.Expected, "service is", "services are"))
		if c.Expected == 1 {
			d.Verdict = "It runs: its one service is as it should be."
		}
	default:
		d.Verdict = fmt.Sprintf("It does not run as it should: of %s, %d run and %d answer.",
			view.Count(c.Expected, "service", "services"), c.Running, c.Answering)
	}
	if t := r.Timeline; t != nil && t.Took > 0 {
		d.Sub = fmt.Sprintf("Launched on %s; after %s everything had settled.",
			r.Started.Format("2 January 2006, 15:04"), view.Seconds(t.Took))
	}
}

// markdown writes a report as Markdown, the order as what many viewers of Markdown draw.
func markdown(r *session.Report, d *page) string {
	var out strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&out, format+"\n", args...) }
	row := func(cells []string) {
		for i, c := range cells {
			cells[i] = inCell(c)
		}
		say("| %s |", strings.Join(cells, " | "))
	}
	say("# %s\n\n%s\n", inCell(d.Name), strings.TrimSpace(d.Verdict+" "+d.Sub))
	for _, c := range d.Checkouts {
		say("- %s", inCell(c))
	}
	for _, p := range d.Parts {
		say("\n## %s\n", p.Title)
		if p.Lead != "" {
			say("%s\n", p.Lead)
		}
		switch {
		case strings.HasPrefix(p.text, "```"):
			say("%s", p.text)
		case p.text != "":
			say("```\n%s\n```", strings.ReplaceAll(p.text, "```", "'''")) // a name can't end it
		}
		if len(p.Rows) > 0 {
			row(p.Head)
			say("|%s", strings.Repeat("---|", len(p.Head)))
		}
		for _, cells := range p.Rows {
			row(slices.Clone(cells))
		}
		for _, h := range p.ByHand {
			say("%s:\n", inCell(h.Title))
			for _, line := range h.Lines {
				say("    %s", strings.ReplaceAll(line, "\n", "\n    "))
			}
			say("")
		}
	}
	say("\nMade on %s by nharbor %s. It holds no secrets.", d.Made, d.Version)
	return out.String()
}

// markdownSigns has all that means something in a line of Markdown, a backslash first of all: one
// in front of another sign would take the escape away.
var markdownSigns = strings.NewReplacer(`\`, `\\`, "\n", " ", "\r", " ", "|", `\|`, "<", "&lt;",
	">", "&gt;", "&", "&amp;",
	"`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "!", `\!`, "#", `\#`, "~", `\~`)

// inCell is a text as it can stand in a line of Markdown, as text.
func inCell(s string) string {
	return markdownSigns.Replace(s)
}
