package readme

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/testbound"
)

const guide = `# Rota

Look at http://localhost:4901/docs.

## Start

` + "```sh" + `
# no head
npm start
` + "```" + `

In another terminal:

    npm run lamp

Tests
-----

    npm test   # http://127.0.0.1:4902

| a | b |
|---|---|
| http://localhost:4901 | same |
`

// TestMarkups reads the same instructions in each markup: sections with their lines, commands with
// line and folder.
func TestMarkups(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ file, text, sections, commands string }{
		"Markdown": {"README.md", guide, " 1-1, Rota 1-5, Start 5-16, Tests 16-25",
			"9 . npm start|14 . npm run lamp|19 . npm test"},
		"heads in HTML, and without a blank": {"README.md",
			"<h1 align=\"center\">Rota <img src=x></h1>\n\n#Start\n\n    npm start\n\n> ## " +
				"Tests\n> `npm test now`\n",
			" 1-1, Rota 1-3, Start 3-7, Tests 7-10", "5 . npm start|8 . npm test now"},
		"no heads": {"README.md", "```sh\n# one\n```\n\n    # two\n\n<!--\n# three\n-->\n",
			" 1-11", ""},
		"reStructuredText": {"docs/setup.rst",
			"Rota\n====\n\n.. code:: bash\n\n    npm ci\n\n.. code-block:: json\n\n    npm is a " +
				"word\n\n" +
				"Tests\n~~~~~\n\n.. warning::\n\n    make the tide table public with care\n\n" +
				"1. Then::\n\n      npm run tides\n\n   make it known\n\n   $ npm start\n\nOr " +
				"``npm test now``.\n",
			" 1-1, Rota 1-12, Tests 12-29", "6 . npm ci|21 . npm run tides|25 . npm start|27 . " +
				"npm test now"},
		"AsciiDoc": {"README.adoc",
			"= Rota\n\n== Start\n\n[source,bash]\n.In a shell\n----\n$ cd web\n$ npm ci\nadded " +
				"3\n----\n\n" +
				"[source,json]\n----\nnpm ci\n----\n\n....\nnpm start\n....\n\n== Tests\n\n. " +
				"npm test\n* Look at `npm run lamp`.\n\n npm run tides\n",
			" 1-1, Rota 1-3, Start 3-22, Tests 22-29",
			"9 web npm ci|19 . npm start|24 . npm test|25 . npm run lamp|27 . npm run tides"},
		"plain text": {"INSTALL.txt", "Start\n-----\n\nThen:\n\n    npm ci\n\nnpm start\n",
			" 1-1, Start 1-10", "6 . npm ci"},
		"no ending, Markdown": {"README", "# Start\n\n`npm run lamp`\n", " 1-1, Start 1-5",
			"3 . npm run lamp"},
		"no ending, plain": {"README", "Start\n=====\n\n\tnpm ci\n", " 1-1, Start 1-6",
			"4 . npm ci"},
	} {
		d := Read(c.file, []byte(c.text))
		var heads, commands []string
		for _, s := range d.Sections {
			heads = append(heads, fmt.Sprintf("%s %d-%d", s.Head, s.From, s.To))
		}
		for _, x := range d.Commands {
			commands = append(commands, fmt.Sprintf("%d %s %s", x.Line, x.Folder, x.Text))
		}
		if got := strings.Join(heads, ", "); got != c.sections {
			t.Errorf("%s: the sections %q, want %q", name, got, c.sections)
		}
		if got := strings.Join(commands, "|"); got != c.commands {
			t.Errorf("%s: the commands %q, want %q", name, got, c.commands)
		}
	}
}

// TestAddresses finds those on this machine, and which of them a browser opens.
func TestAddresses(t *testing.T) {
	t.Parallel()
	d := Read("README.md", []byte(guide))
	var got []string
	for _, a := range d.Addresses {
		got = append(got, fmt.Sprintf("%d:%s:%d%s %v", a.Line, a.Scheme, a.Port, a.Path, a.Page()))
	}
	want := "3:http:4901/docs true, 19:http:4902 true, 23:http:4901 true"
	if strings.Join(got, ", ") != want {
		t.Errorf("%q, want %q", got, want)
	}
	if a, ok := d.Between(4, 20); !ok || a.Port != 4902 {
		t.Errorf("between the lines there is %+v", a)
	}
	if d.At(9).Head != "Start" || d.Line(9) != "npm start" || d.Line(99) != "" {
		t.Errorf("line 9 is %q in %q", d.Line(9), d.At(9).Head)
	}
}

// FuzzRead holds the readers of all markups to end on anything, and to places within the text.
func FuzzRead(f *testing.F) {
	f.Add("# A\n```sh\n$ npm start\n```\n| user | password |\n|-|-|\n| a | b |\n")
	f.Add("A\n=\n\n.. code:: sh\n\n   npm ci\n\n``npm test now``\n")
	f.Add("== A\n[source,sh]\n----\ncd a && \\\n npm ci <<X\nX\n----\n|===\n|User |Password\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range []string{"README.md", "README.rst", "README.adoc", "README.txt",
			"README"} {
			testbound.Within(t, 256, 10*time.Second, func() {
				d := Read(name, []byte(text), "tides")
				for _, c := range d.Commands {
					if d.Line(c.Line) == "" && len(d.Lines) < c.Line {
						t.Errorf("%s: line %d of %d", name, c.Line, len(d.Lines))
					}
				}
				last := 1
				for _, s := range d.Sections {
					if s.From < last || s.To < s.From {
						t.Errorf("%s: the sections are %+v", name, d.Sections)
					}
					last = s.From
				}
				d.SignIns()
			})
		}
	})
}
