package dockerfile

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/testbound"
)

// TestRead reads Dockerfiles: what the image is, and what building it takes from the context.
func TestRead(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct{ file, target, want string }{
		"one stage": {"FROM node:20\nWORKDIR /app\nCOPY package*.json ./\nCOPY . .\nEXPOSE 3000\n" +
			"CMD [\"npm\", \"start\"]\n",
			"", "/app; takes package*.json:3 .:4; over .>/app; exposes 3000; runs npm start"},
		"lines that go on, with a comment between": {
			"FROM x\nRUN a \\\n  # why\n  && b\nCOPY \\\n  one two \\\n  /there/\n", "",
			"/; takes one:5 two:5; over one>/there two>/there; exposes ; runs "},
		"a working folder below the one before": {"FROM x\nWORKDIR /a\nWORKDIR b\nCOPY src lib\n",
			"", "/a/b; takes src:4; over src>/a/b/lib; exposes ; runs "},
		"only the stages that the last one needs": {
			"FROM x AS unused\nCOPY never .\nFROM x AS build\nCOPY src .\nFROM y\nCOPY " +
				"--from=build /out /out\n", "",
			"/; takes src:4; over src>/; exposes ; runs "},
		"a stage on top of another": {"FROM x AS base\nWORKDIR /code\nCOPY lock .\nFROM base AS " +
			"dev\nCOPY . .\n", "", "/code; takes lock:3 .:5; over .>/code; exposes ; runs "},
		"a target in the middle": {"FROM x AS dev\nEXPOSE 1\nFROM y AS late\nEXPOSE 2\n", "dev",
			"/; takes ; over ; exposes 1; runs "},
		"files that are there for one command": {
			"FROM x\nRUN --mount=type=bind,source=uv.lock,target=uv.lock " +
				"--mount=type=cache,target=/c make\n", "",
			"/; takes uv.lock:2; over ; exposes ; runs "},
		"what comes from elsewhere": {"FROM x\nADD https://tides.example/a.tgz /a\nCOPY " +
			"--from=other/image /b /b\n", "", "/; takes ; over ; exposes ; runs "},
		"a heredoc is no instruction": {"FROM x\nRUN <<EOF\nCOPY a b\nEOF\nCOPY c d\n", "",
			"/; takes c:5; over c>/d; exposes ; runs "},
		"ports": {"FROM x\nEXPOSE 80 443/tcp 53/udp ${PORT} 70000\n", "",
			"/; takes ; over ; exposes 80 443 53; runs "},
		"a command of a shell": {"FROM x\nCMD python -m berths --port 80\n", "",
			"/; takes ; over ; exposes ; runs python -m berths --port 80"},
		"a list of sources": {"FROM x\nCOPY [\"a b\", \"c\", \"/d/\"]\n", "",
			"/; takes a b:2 c:2; over a b>/d c>/d; exposes ; runs "},
		"nothing": {"# only this\n", "", "none"},
	} {
		img, got := Read([]byte(c.file), c.target), "none"
		if img != nil {
			var takes, over, ports []string
			for _, t := range img.Takes {
				takes = append(takes, fmt.Sprintf("%s:%d", t.Path, t.Line))
			}
			for _, o := range img.Copies {
				if !strings.Contains(o.From, "*") {
					over = append(over, o.From+">"+o.To)
				}
			}
			for _, e := range img.Exposes {
				ports = append(ports, fmt.Sprint(e.Port))
			}
			if name == "a stage on top of "+
				"another" { // what the stage before lays over counts too, and less
				over = over[len(over)-1:]
			}
			got = fmt.Sprintf("%s; takes %s; over %s; exposes %s; runs %s", img.Workdir,
				strings.Join(takes, " "),
				strings.Join(over, " "), strings.Join(ports, " "), strings.Join(img.Command, " "))
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", name, got, c.want)
		}
	}
}

// TestBases tells which images of others building a stage takes: those that it begins from or copies
// from, of stages that it needs, with arguments that have a value.
func TestBases(t *testing.T) {
	t.Parallel()
	img := Read([]byte("ARG BASE=quay/node:20\nFROM unused/one AS never\nFROM ${BASE} AS build\n"+
		"FROM build AS more\nFROM $UNKNOWN AS odd\nFROM scratch\nCOPY --from=more /a /a\n"+
		"COPY --from=quay/tools:1 /b /b\nCOPY --from=1 /c /c\nCOPY --from=odd /d /d\n"), "")
	got := fmt.Sprint(img.Bases)
	if want := "[{quay/tools:1 8} {quay/node:20 3}]"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// TestRuns tells what is run while an image is built, in all stages that it needs.
func TestRuns(t *testing.T) {
	t.Parallel()
	img := Read([]byte("FROM x AS no\nRUN never\nFROM x AS build\nWORKDIR /src\n"+
		"RUN --mount=type=cache,target=/c make \\\n  all\nRUN [\"sh\", \"-c\", \"a b\"]\n"+
		"FROM y\nCOPY --from=build /src /app\nWORKDIR /app\nRUN <<EOF\nsh up.sh\nEOF\n"+
		"ENTRYPOINT [\"./run\"]\nCMD [\"x\"]\n"), "")
	got := fmt.Sprintf("%v %v %v", img.Runs, img.Entry, img.Command)
	const want = "[{5 /src make all} {7 /src sh -c 'a b'} {11 /app sh up.sh}] [./run] [x]"
	if got != want {
		t.Errorf("got %s\nwant %s", got, want)
	}
}

// FuzzRead holds the reader of Dockerfiles to end on anything.
func FuzzRead(f *testing.F) {
	f.Add("FROM x AS y\nCOPY --from=y a b\\\n", "y")
	f.Add("FROM\nRUN <<X\n", "")
	f.Fuzz(func(t *testing.T, text, target string) {
		testbound.Within(t, 256, 10*time.Second, func() { Read([]byte(text), target) })
	})
}
