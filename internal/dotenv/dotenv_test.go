package dotenv

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
)

func none(string) (string, bool) { return "", false }

// shown writes the settings of a file one a line, for comparing.
func shown(t *testing.T, text string) string {
	t.Helper()
	f, err := Parse(".env", []byte(text))
	if err != nil {
		t.Fatalf("Parse(%q): %v", text, err)
	}
	var out []string
	for _, s := range f.Settings {
		line := fmt.Sprintf("%d %s=%s", s.Line, s.Key, s.Value)
		if !s.HasValue {
			line = fmt.Sprintf("%d %s", s.Line, s.Key)
		}
		if s.Comment != "" {
			line += " # " + strings.ReplaceAll(s.Comment, "\n", " / ")
		}
		out = append(out, line)
	}
	return strings.Join(out, "\n")
}

func TestParse(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, text, want string }{
		{"bare values", "A=1\nB = two words \nC=\n", "1 A=1\n2 B=two words\n3 C="},
		{"no line end at the end", "A=1", "1 A=1"},
		{"CRLF and a byte order mark", "\xef\xbb\xbfA=1\r\nB=\"2\"\r\n", "1 A=1\n2 B=2"},
		{"export", "export A=1\nexport\tB=2\nexported=3", "1 A=1\n2 B=2\n3 exported=3"},
		{"comments above and behind", "# one\n#  two\nA=1 # three\n\n# far\n\nB=2",
			"1 A=1 # one / two / three\n7 B=2"},
		{"a hash inside", "A=a#b\nB='x # y'\nC=#c", "1 A=a#b\n2 B=x # y\n3 C=#c"},
		{"only a comment behind", "A= # nothing", "1 A= # nothing"},
		{"quotes", `A="a b" ` + "\nB='it is \"so\"'\nC=\"\"", "1 A=a b\n2 B=it is \"so\"\n3 C="},
		{"escapes", `A="a\nb\t\"c\" \\ \q"`, "1 A=a\nb\t\"c\" \\ \\q"},
		{"no escapes in single quotes", `A='a\nb'`, `1 A=a\nb`},
		{"a quote escaped in single quotes", `A='Let\'s go' # c`, `1 A=Let's go # c`},
		{"a folder in single quotes", "A='C:\\dir\\'\nB='2'", "1 A=C:\\dir\\\n2 B=2"},
		{"several lines", "A=\"one\ntwo\"\nB='x\ny' # c\nC=3", "1 A=one\ntwo\n3 B=x\ny # c\n5 C=3"},
		{"bare keys", "A\nB # taken over\n", "1 A\n2 B # taken over"},
		{"equal signs in the value", "A=b=c==", "1 A=b=c=="},
		{"dots and dashes in names", "app.name=x\nmy-key=y", "1 app.name=x\n2 my-key=y"},
		{"nothing", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := shown(t, c.text)
			// In the first case of comments the setting stands on the third line.
			if c.name == "comments above and behind" {
				c.want = strings.Replace(c.want, "1 A", "3 A", 1)
			}
			if got != c.want {
				t.Errorf("got\n%s\nwant\n%s", got, c.want)
			}
		})
	}
}

func TestParseFails(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ text, where, says string }{
		{"A=1\nB=\"open\nC=2\n", ".env:2:3", "closing one is missing"},
		{"A='open", ".env:1:3", "closing one is missing"},
		{"A=\"x\" y", ".env:1:6", "follows the closing quote"},
		{"two words=1", ".env:1:1", "letters, digits and _"},
		{"  =1", ".env:1:3", "letters, digits and _"},
		{"just some text", ".env:1:1", "KEY=VALUE"},
		{"A=\x00", ".env", "binary"},
	} {
		_, err := Parse(".env", []byte(c.text))
		faults := stack.AllFaults(err)
		if err == nil || faults[0].Where() != c.where || !strings.Contains(faults[0].Text, c.says) {
			t.Errorf("Parse(%q): %v; want %q at %s", c.text, err, c.says, c.where)
		}
	}
	_, err := Parse(".env", []byte("one bad\nA=1\nanother bad\n"))
	if faults := stack.AllFaults(err); len(faults) != 2 || faults[1].At.Line != 3 {
		t.Errorf("of two faults these were reported: %v", err)
	}
	_, err = Parse(".env", []byte("PASSWORD=\"hunter2-canary\nB=1"))
	if err == nil || strings.Contains(fmt.Sprintf("%+v", *stack.AllFaults(err)[0]), "canary") {
		t.Errorf("the fault shows a value: %v", err)
	}
}

func TestValues(t *testing.T) {
	t.Parallel()
	text := "HOST=db\nURL=postgres://${HOST}:${PORT:-5432}/x\nRAW='${HOST}'\nHOST=other\n" +
		"FROM_SHELL\nSHELL_WINS=mine\nUSES=$SHELL_WINS\nPRICE=\"5\\$\"\n"
	f, err := Parse(".env", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	shell := map[string]string{"FROM_SHELL": "yes", "SHELL_WINS": "theirs"}
	got, err := f.Values(func(k string) (string, bool) { v, ok := shell[k]; return v, ok })
	want := map[string]string{"HOST": "other", "URL": "postgres://db:5432/x", "RAW": "${HOST}",
		"FROM_SHELL": "yes", "SHELL_WINS": "mine", "USES": "theirs", "PRICE": "5$"}
	if err != nil || !maps.Equal(got, want) {
		t.Errorf("got  %v, %v\nwant %v", got, err, want)
	}
	f, err = Parse(".env", []byte("A=1\nB=${C:?needed}\nD=${\n"))
	if err != nil {
		t.Fatal(err)
	}
	_, err = f.Values(none)
	if faults := stack.AllFaults(err); err == nil || len(faults) != 2 || faults[0].At.Line != 2 ||
		faults[1].At.Line != 3 {
		t.Errorf("Values with two wrong expressions: %v", err)
	}
}

func TestRawValues(t *testing.T) {
	t.Parallel()
	got := RawValues([]byte("\xef\xbb\xbfA=\"x\" # y\r\n# c\n\nB=$A'\nFROM_SHELL\nABSENT\nC=a=b"),
		func(k string) (string, bool) { return "yes", k == "FROM_SHELL" })
	if want := map[string]string{"A": "\"x\" # y", "B": "$A'", "FROM_SHELL": "yes",
		"C": "a=b"}; !maps.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

func TestSetKeepsTheRest(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, text, key, value, want string }{
		{"in the middle", "# c\nA=1 # one\nB=2\n", "A", "9", "# c\nA=9 # one\nB=2\n"},
		{"CRLF", "A=1\r\nB=2\r\n", "B", "x", "A=1\r\nB=x\r\n"},
		{"quotes stay", "A='old'\nB=\"old\"", "A", "n w", "A='n w'\nB=\"old\""},
		{"double quotes stay", "A=\"old\" # c", "A", "n w", "A=\"n w\" # c"},
		{"quotes where needed", "A=\n", "A", "two words", "A=\"two words\"\n"},
		{"a dollar sign", "A=\n", "A", "pa$$word", "A='pa$$word'\n"},
		{"both quotes", "A=\n", "A", `it's "$5"`, "A=\"it's \\\"\\$5\\\"\"\n"},
		{"several lines", "A=1\nB=2\n", "A", "x\ny", "A=\"x\\ny\"\nB=2\n"},
		{"all occurrences", "A=1\nB=2\nA=3\n", "A", "9", "A=9\nB=2\nA=9\n"},
		{"a bare key", "A\nB=2\n", "A", "1", "A=1\nB=2\n"},
		{"a new key", "A=1", "B", "2", "A=1\nB=2\n"},
		{"a new key, CRLF", "A=1\r\n", "B", "2", "A=1\r\nB=2\r\n"},
		{"export and blanks", "export A =  1\n", "A", "2", "export A =  2\n"},
		{"over several lines", "A=\"one\ntwo\"\nB=1\n", "A", "x", "A=\"x\"\nB=1\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f, err := Parse(".env", []byte(c.text))
			if err != nil {
				t.Fatal(err)
			}
			if err := f.Set(c.key, c.value); err != nil {
				t.Fatal(err)
			}
			if got := string(f.Bytes()); got != c.want {
				t.Errorf("got  %q\nwant %q", got, c.want)
			}
			if got, err := f.Values(none); err != nil || got[c.key] != c.value {
				t.Errorf("it reads back as %q, %v", got[c.key], err)
			}
		})
	}
	f, _ := Parse(".env", nil)
	if err := f.Set("two words", "x"); err == nil {
		t.Error("a key with a blank was accepted")
	}
}

func TestAddFrom(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, file, template, want, added string }{
		{"behind what both have", "A=mine\n# end\nC=3\n",
			"# first\nA=1\n# what B is for\nB='2' # two\nC=3\n",
			"A=mine\n# what B is for\nB='2' # two\n# end\nC=3\n", "B"},
		{"before the first", "# B here\nB=2\n", "A=1\nB=2\n", "A=1\n# B here\nB=2\n", "A"},
		{"at the end, without a line end, CRLF", "A=1\r\nB=2", "A=1\nB=2\nC=\"x\ny\"\n",
			"A=1\r\nB=2\r\nC=\"x\r\ny\"\r\n", "C"},
		{"into an empty file", "", "A=1\nB=2\n", "A=1\nB=2\n", "A B"},
		{"behind a byte order mark", "\xef\xbb\xbfB=1\n", "A=1\nB=2\n", "\xef\xbb\xbfA=1\nB=1\n",
			"A"},
		{"behind a comment without a line end", "# mine", "A=1\n", "# mine\nA=1\n", "A"},
		{"nothing new", "B=1\nA=2", "A=1\nB=2\n", "B=1\nA=2", ""},
		{"twice in the template", "Z=1\n", "A=1\nA=2\n", "A=1\nZ=1\n", "A"},
	} {
		file, err := Parse(".env", []byte(c.file))
		if err != nil {
			t.Fatal(err)
		}
		template, err := Parse(".env.example", []byte(c.template))
		if err != nil {
			t.Fatal(err)
		}
		added, err := file.AddFrom(template)
		if err != nil || string(file.Bytes()) != c.want || strings.Join(added, " ") != c.added {
			t.Errorf("%s: %q, added %v, %v; want %q", c.name, file.Bytes(), added, err, c.want)
		}
	}
}

func FuzzParseIsLossless(f *testing.F) {
	for _, s := range []string{"A=1\n", "A='x\ny'\r\nexport B=\"${A}\" # c\n",
		"\xef\xbb\xbf# c\nA", "A=\\", "A=\"\\\""} {
		f.Add([]byte(s), "new value")
	}
	f.Fuzz(func(t *testing.T, data []byte, value string) {
		file, err := Parse(".env", data)
		if err != nil {
			return
		}
		testbound.Within(t, 256, 10*time.Second, func() {
			file.Values(func(string) (string, bool) { return "", false })
		})
		if string(file.Bytes()) != string(data) {
			t.Fatalf("reading alone changed %q to %q", data, file.Bytes())
		}
		if strings.ContainsRune(value, 0) {
			return
		}
		keys := map[string]bool{"NEW": true}
		for _, s := range file.Settings {
			keys[s.Key] = true
		}
		for key := range keys {
			again, _ := Parse(".env", data)
			if err := again.Set(key, value); err != nil {
				t.Fatalf("Set(%q, %q) in %q: %v", key, value, data, err)
			}
			s, ok := again.Get(key)
			got := ""
			if ok {
				one := File{Settings: []Setting{*s}}
				values, err := one.Values(none)
				if err != nil {
					t.Fatalf("after Set(%q, %q): %v", key, value, err)
				}
				got = values[key]
			}
			if got != value {
				t.Fatalf("Set(%q, %q) in %q reads back as %q from %q", key, value, data, got,
					again.Bytes())
			}
		}
	})
}

func BenchmarkParse10000Lines(b *testing.B) {
	var text strings.Builder
	for i := range 10000 {
		fmt.Fprintf(&text, "KEY_%d=\"value ${KEY_%d} of a line\" # comment\n", i, max(0, i-1))
	}
	data := []byte(text.String())
	b.ReportAllocs()
	for b.Loop() {
		f, err := Parse(".env", data)
		if err != nil || len(f.Settings) != 10000 {
			b.Fatal(err)
		}
	}
}

func BenchmarkEdit10000Lines(b *testing.B) {
	var text strings.Builder
	changes := map[string]string{}
	for i := range 5000 {
		fmt.Fprintf(&text, "# what it is for\nKEY_%d=value of a line # comment\n", i)
		if i%100 == 0 {
			changes[fmt.Sprintf("KEY_%d", i)] = "another value"
		}
	}
	f, err := Parse(".env", []byte(text.String()))
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	for b.Loop() {
		again := *f
		if err := again.Edit(changes); err != nil {
			b.Fatal(err)
		}
	}
}

// TestLooseEnds finds what reads like a variable and is none.
func TestLooseEnds(t *testing.T) {
	t.Parallel()
	f, err := Parse(".env", []byte("A=1\nB=$A-$C\nHASH=$2y$10$abc.x\nD='$E'\nF=${G:-x}\nH=$HOME\nI=\"p$a$b\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprint(f.LooseEnds(func(name string) (string, bool) {
		return "/root",
			name == "HOME"
	}))
	if want := "[{B C 2} {HASH abc 3} {I a 7} {I b 7}]"; got != want {
		t.Errorf("loose are %s, want %s", got, want)
	}
}
