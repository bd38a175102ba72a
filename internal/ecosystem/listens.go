package ecosystem

import (
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

var (
	// An address to listen on counts before any other that a line may hold.
	listenFlag = expr.New(`--?(?:[\w-]+[.-])?(?:listen|bind)(?:[.-]?addr(?:ess)?)?[= ]` +
		`(?:[\w.*-]*|\[[\d:a-f]*\]):(\d{2,5})\b`)
	// The name of such a flag tells what is spoken there.
	webFlag  = expr.New(`^--?(?:web|http|ui|api|rest)\b`)
	ownPort  = expr.New(`--port[= ](\d{2,5})\b`)
	portFlag = expr.New(
		`(?:--port[= ]|-p[= ]|\bPORT=|(?:^|[\s='"\[,])(?:0\.0\.0\.0|127\.0\.0\.1|` +
			`localhost):)(\d{2,5})\b`,
	)
)

// ListensOn finds the port on which a command line tells its program to listen.
func ListensOn(command string) int { return portBy(command, listenFlag, ownPort) }

// Listens lists all addresses that a command line tells its program to listen on. Web tells of
// those whose flags say so that they are for a browser.
func Listens(command string) (ports []int, web []bool) {
	for _, m := range listenFlag.FindAllStringSubmatch(command, -1) {
		if port := portNumber(m[1]); port > 0 && !slices.Contains(ports, port) {
			ports, web = append(ports, port), append(web, webFlag.MatchString(m[0]))
		}
	}
	return ports, web
}

// PortIn finds the port that a command line names.
func PortIn(command string) int { return portBy(command, listenFlag, portFlag) }

// portBy takes the port of the first form that fits; 0 is none.
func portBy(command string, forms ...*expr.Expr) int {
	for _, form := range forms {
		if m := form.FindStringSubmatch(command); m != nil {
			return portNumber(m[1])
		}
	}
	return 0
}

func portNumber(s string) int {
	n, err := strconv.Atoi(s)
	if err != nil || n < 1 || n > 65535 {
		return 0
	}
	return n
}

// portByCode looks through source files of the folder for the expression, of which a group is the
// port.
func (f Folder) portByCode(form *expr.Expr, files ...string) (int, stack.Place) {
	for _, name := range files {
		data, err := f.Read(name)
		if err != nil {
			continue
		}
		for _, m := range form.FindAllSubmatchIndex(data, -1) {
			for group := 2; group < len(m); group += 2 {
				if m[group] < 0 {
					continue
				}
				port := portNumber(string(data[m[group]:m[group+1]]))
				if spoken := protocol.OfPort("", port); port > 0 &&
					(spoken == "http" || spoken == protocol.Plain) {
					line, _ := position(data, int64(m[group]))
					return port, f.At(name, line)
				} // else it is that of a server which the program speaks to
			}
		}
	}
	return 0, stack.Place{}
}

// maxSources is how many files of code below a folder are looked at.
const maxSources = 1000

// sourcesBelow are the files of code of an ending below a folder of this one, in their order; none
// for an empty name.
func (f Folder) sourcesBelow(dir, ending string) (out []string) {
	if dir == "" {
		return nil
	}
	fs.WalkDir(f.FS, path.Join(f.Path, dir), func(file string, d fs.DirEntry, err error) error {
		switch {
		case err != nil || len(out) > maxSources:
			return fs.SkipAll
		case !d.IsDir() && path.Ext(file) == ending:
			out = append(out, strings.TrimPrefix(file, f.Path+"/"))
		}
		return nil
	})
	return out
}

func httpPort(port int, at stack.Place) []stack.Port {
	if port == 0 {
		return nil
	}
	return []stack.Port{{Host: port, Target: port, Transport: "tcp", Speaks: "http", At: at}}
}

var portLine = expr.New(`(?m)^(?:export )?PORT=["']?(\d+)`)

// PortSetting finds the key PORT in the folder's settings files or their templates.
func (f Folder) PortSetting() (int, stack.Place) {
	return f.PortSettingIn(".env.local", ".env", ".env.example", ".env.sample",
		".env.template", "env.example")
}

// PortSettingIn is the port that one of the files sets, the first that does; 0 for none.
func (f Folder) PortSettingIn(files ...string) (int, stack.Place) {
	return f.portByCode(portLine, files...)
}
