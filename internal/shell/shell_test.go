package shell

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/testbound"
)

// told writes commands in few words: [SET] WORDS @FOLDER and marks.
func told(list []Command) string {
	var out []string
	for _, c := range list {
		text := strings.Join(c.Words, "|")
		if len(c.Set) > 0 {
			text = fmt.Sprintf("%v %s", c.Set, text)
		}
		if c.Folder != "." {
			text += " @" + c.Folder
		}
		for mark, on := range map[string]bool{" $": c.Expands, " >": c.Plumbed, " &": c.Background,
			" ?": c.Maybe} {
			if on {
				text += mark
			}
		}
		out = append(out, strings.TrimSpace(text))
	}
	return strings.Join(out, "; ")
}

func TestParse(t *testing.T) {
	t.Parallel()
	for line, want := range map[string]string{
		"npm ci":                                "npm|ci",
		"npm ci && npm run build":               "npm|ci; npm|run|build",
		"cd web && npm ci":                      "cd|web; npm|ci @web",
		"(cd web && npm ci) && make":            "cd|web; npm|ci @web; make",
		"cd a; cd ../b; x":                      "cd|a; cd|../b @a; x @b",
		"A=1 B='x y' node x.js":                 "[A=1 B=x y] node|x.js",
		"TOKEN=abc":                             "[TOKEN=abc]",
		`node -e "a \"b\""`:                     `node|-e|a "b"`,
		"echo $HOME":                            "echo|$HOME $",
		"ls *.go":                               "ls|*.go $",
		"a | b":                                 "a >; b >",
		"a > f":                                 "a >",
		"a & b":                                 "a &; b",
		"a || b":                                "a; b ?",
		"if x; then y; fi":                      "x ?; y ?",
		"docker run -p 1:2 \\\n  x":             "docker|run|-p|1:2|x",
		"npm run 'it' -- \"--port\" 80":         "npm|run|it|--|--port|80",
		"it's \"open":                           "it's|\"open $",
		"":                                      "",
		"# only a remark":                       "",
		"a\nb":                                  "a; b",
		"sh -c 'a && b'":                        "sh|-c|a && b",
		"export KEY='a b' OTHER":                "export|KEY=a b|OTHER",
		`C:\tools\x.exe`:                        "C:toolsx.exe",
		"until nc -z db 5432; do sleep 1; done": "nc|-z|db|5432 ?; sleep|1 ?",
	} {
		if got := told(Parse(line)); got != want {
			t.Errorf("%q reads %q, want %q", line, got, want)
		}
	}
}

func TestWords(t *testing.T) {
	t.Parallel()
	for line, want := range map[string][]string{
		"npm run dev":              {"npm", "run", "dev"},
		`echo "a b"`:               {"echo", "a b"},
		"a && b":                   {"sh", "-c", "a && b"},
		"PORT=1 a":                 {"sh", "-c", "PORT=1 a"},
		"a $PORT":                  {"sh", "-c", "a $PORT"},
		"a > b":                    {"sh", "-c", "a > b"},
		"cd x":                     {"sh", "-c", "cd x"},
		"a *.js":                   {"sh", "-c", "a *.js"},
		"unfinished \"quote":       {"sh", "-c", "unfinished \"quote"},
		"":                         {"sh", "-c", ""},
		"bundle exec rails -b ::1": {"bundle", "exec", "rails", "-b", "::1"},
	} {
		if got := Words(line); !slices.Equal(got, want) {
			t.Errorf("%q is %q, want %q", line, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, line := range []string{"a && (cd b; c) | d > e", "x='y", "$(a)", "if", "a \\\nb",
		"<<EOF\nx\nEOF"} {
		f.Add(line)
	}
	f.Fuzz(func(t *testing.T, line string) {
		var all []Command
		testbound.Within(t, 256, 10*time.Second, func() { all = Everything(line) })
		for _, c := range slices.Concat(Parse(line), all) {
			if len(c.Words) == 0 && len(c.Set) == 0 {
				t.Errorf("%q has a command of nothing", line)
			}
		}
		if len(Words(line)) == 0 {
			t.Errorf("%q has no words", line)
		}
	})
}
