package ecosystem

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/shell"
	"nimbleharbor/internal/stack"
)

// serving finds what a Node project serves, and with which script.
type serving struct{ *nodeProject }

func (n *nodeProject) serving() serving { return serving{n} }

// servesByName are scripts that serve a project for work on it.
var servesByName = []string{"dev", "start:dev", "start-dev", "develop", "serve", "start:local",
	"start"}

// serveScript is the script that serves a project for work on it, by its name; empty if there is
// none. One that runs a file which isn't there was left behind: any other goes before it.
func (n serving) serveScript() string {
	whole := map[string]string{}
	for name, line := range n.pkg.Scripts {
		if !n.lacksFile(line) {
			whole[name] = line
		}
	}
	return cmp.Or(firstScript(whole, servesByName...), firstScript(n.pkg.Scripts, servesByName...))
}

// runsSource are programs that run a file of source code by its name.
var runsSource = []string{"node", "ts-node", "ts-node-dev", "tsx", "nodemon", "bun", "babel-node"}

// lacksFile reports whether a line runs a file of source code that isn't in the checkout. What lies
// where builds put things is made first.
func (n serving) lacksFile(line string) bool {
	for _, c := range shell.Parse(line) {
		words := Canonical(c.Words)
		if len(words) < 2 || c.Folder != "." || !slices.Contains(runsSource, words[0]) {
			continue
		}
		file := path.Clean(words[len(words)-1])
		named := OfCode(path.Ext(file)) == Named("node") && !strings.ContainsAny(file, "$*{")
		if named && !builtMain.MatchString(" "+file) && !strings.HasPrefix(file, "../") &&
			!n.exists(file) {
			return true
		}
	}
	return false
}

// serve finds what runs: the server, and workers and watchers beside it.
func (n serving) serve() {
	p := &n.out.Project
	scripts := n.pkg.Scripts
	main := n.serveScript()
	if p.NotHere != "" {
		return
	}
	line, together := scripts[main], map[string]bool{}
	if main != "" && runsAll.MatchString(line) && (len(n.out.Members) > 0 || n.startsOthers(line)) {
		main, line = n.together().serveApart(main, together)
	}
	switch {
	case main != "":
		if line = scripts[main]; !n.serveBy(main) {
			return
		}
	case n.pkg.Main != "" && len(scripts) == 0 && n.known.serves && n.exists(n.pkg.Main):
		p.Serve = &stack.Serve{Command: []string{"node", n.pkg.Main}, At: n.at("main"),
			Ports: n.ports(n.pkg.Main, n.at("main")), PortBy: stack.PortBy{Env: "PORT"}}
	}
	for _, name := range sortedKeys(scripts) {
		if name != main && !together[name] && n.runsBeside(name, main, line) {
			extra := n.process(name)
			extra.Watches = !workerName.MatchString(name)
			extra.Name = scriptAsName(name)
			p.Also = append(p.Also, extra)
		}
	}
}

// oneMember is a line that does nothing but hand over to one member.
var oneMember = expr.New(`^(yarn\s+workspace\s+\S+|pnpm\s+(-F|--filter)[= ]\S+|` +
	`turbo\s+(run\s+)?[\w:-]+\s+--filter[= ]\S+)(\s+[\w:.-]+)*$`)

// serveApart makes services of what a script starts at once, and gives the script that serves among
// them, with its line; empty if none does. The scripts of the others are marked.
func (n together) serveApart(main string, apart map[string]bool) (serves, line string) {
	p := &n.out.Project
	all, at := n.pkg.Scripts[main], n.at("scripts."+main)
	if !oneMember.MatchString(all) {
		n.out.remark(stack.Note, stack.CodeScriptRunsAll, at, fmt.Sprintf(
			"the script %s starts several things at once; here each of them is a service of its "+
				"own",
			main), "To launch only some: nharbor launch SERVICE…")
	}
	line = all
	for i, piece := range n.ownPieces(all, 0) {
		v, watches := n.pieceServed(piece, at), n.watches(piece)
		switch {
		case i == 0 && piece.script != "" && !watches:
			serves, line = piece.script, piece.line
			continue
		case i == 0 && !watches:
			v.Ports, v.PortBy = n.ports(piece.line, at), n.portBy()
			p.Serve = &v
			continue
		case watches && p.Serve == nil && serves == "":
			continue // of whatever serves it, nothing is known here
		}
		v.Watches, v.Name = watches, scriptAsName(cmp.Or(piece.script, nameOfLine(piece.line)))
		p.Also = append(p.Also, v)
		apart[piece.script] = true
	}
	return serves, line
}

// serveBy has a script serve the project. It is false for one by which files are made anew, and
// nothing is served.
func (n serving) serveBy(main string) bool {
	line := n.pkg.Scripts[main]
	serve, says := n.process(main), line
	for _, r := range n.runs(main, nil) {
		says += "\n" + strings.Join(r.words, " ")
	}
	for _, piece := range n.together().ownPieces(line, 0) {
		says += "\n" + piece.line
	}
	serve.Ports = n.ports(says, serve.At, ConfigsNamed(serve.Expands)...)
	serve.PortBy = n.portBy()
	opens := len(serve.Ports) > 0 || n.known.serves
	if !opens && (OnlyWatches(line) || n.onlyBuilds(line) || n.onlyMakes(main)) {
		n.assets(main)
		return false
	}
	if opens || !n.isCommand(line) {
		n.out.Project.Serve = &serve
	}
	return true
}

// runsBeside reports whether a script is another process of the project beside the main one, whose
// line is given: a worker, or a watcher that isn't the same in another way.
func (n serving) runsBeside(name, main, mainLine string) bool {
	line := n.pkg.Scripts[name]
	says := name + " " + line
	if strings.HasPrefix(name, "test") || strings.HasPrefix(name, "build") ||
		main != "" && n.runsAlong(main)[name] { // which the main script starts itself
		return false
	}
	if slices.ContainsFunc(n.out.Project.Also, func(o stack.Serve) bool {
		return o.Watches && strings.HasPrefix(scriptAsName(name), o.Name+"-")
	}) {
		return false
	}
	if workerName.MatchString(name) {
		return true
	}
	if !watcherName.MatchString(name) || n.out.Project.Serve == nil ||
		!watchLine.MatchString(says) || otherWatch.MatchString(says) {
		return false
	}
	return !n.sameTool(line, mainLine) && !runsAll.MatchString(line)
}

// runsAlong are the scripts that a script comes to run, by the names in its lines.
func (n serving) runsAlong(script string) map[string]bool {
	along := map[string]bool{script: true}
	for open := []string{script}; len(open) > 0; open = open[1:] {
		words := strings.FieldsFunc(n.pkg.Scripts[open[0]],
			func(r rune) bool { return strings.ContainsRune(" \t\"'&;|", r) })
		for _, w := range words {
			for _, prefix := range []string{"npm:", ""} {
				name := strings.TrimPrefix(w, prefix)
				if strings.Contains(w, "*") && !strings.Contains(w, ":") {
					continue // a pattern of files
				}
				for script := range n.pkg.Scripts {
					if !along[script] && nameFits(name, script) {
						along[script] = true
						open = append(open, script)
					}
				}
			}
		}
	}
	return along
}

// sameTool reports whether two lines run the same tool, which serves what it watches by itself.
func (n serving) sameTool(watch, serve string) bool {
	a, b := strings.Fields(watch), strings.Fields(serve)
	return n.known.flag != "" && len(a) > 0 && len(b) > 0 && a[0] == b[0] &&
		ManagerNamed(a[0]).Scripts == nil
}

// OnlyWatches reports whether a line makes files anew when others change, and serves nothing as far
// as it shows.
func OnlyWatches(line string) bool {
	return onlyWatches.MatchString(wrapped.ReplaceAllString(line, "")) && PortIn(line) == 0
}

// wrapped is what stands before a command to set variables for it.
var wrapped = expr.New(`^((cross-env|env|dotenv)\s+)?(-\S+\s+)*(\w+=\S*\s+)*(--\s+)?`)

// buildsFile is a line that runs one file, by its name one that builds.
var buildsFile = expr.New(
	`^(?:node|tsx|ts-node|bun)(?:\s+-\S+)*\s+((?:[\w.-]+/)*(?:\w+[-_.])?(?:build|bundle|compile|esbuild|rollup)` +
		`[\w.-]*\.[cm]?[jt]s)\b`)

// listens is a call of JavaScript's that serves.
var listens = expr.New(`\b(listen|serve|createServer|Server)\s*\(`)

// onlyBuilds reports whether a line runs a file of the project that builds by its name, and has no
// call that serves.
func (n serving) onlyBuilds(line string) bool {
	m := buildsFile.FindStringSubmatch(line)
	return m != nil && n.exists(m[1]) && !listens.MatchString(n.text(m[1]))
}

// onlyMakes reports whether all that a script comes to makes files, once or anew.
func (n serving) onlyMakes(script string) bool {
	list := n.runs(script, nil)
	return len(list) > 0 && !slices.ContainsFunc(list, func(r ran) bool {
		line := strings.Join(r.words, " ")
		return !OnlyWatches(line) && !makesOnce.MatchString(line) &&
			!slices.Contains(makesBefore, r.words[0])
	})
}

// assets adds the build by which a server of another kind gets its pages' scripts and styles,
// without which it has none.
func (n serving) assets(script string) {
	if !slices.ContainsFunc(n.runs(script, nil),
		func(r ran) bool { return makesOnce.MatchString(strings.Join(r.words, " ")) }) {
		return
	}
	s := n.step(stack.Build, n.at("scripts."+script),
		n.tool.call(append(slices.Clone(n.tool.run), script)...)...)
	s.Expands = n.scriptLines(script)
	n.out.Project.Steps = slices.DeleteFunc(n.out.Project.Steps,
		func(o stack.Step) bool { return o.Role == stack.Build })
	n.out.step(s)
}

// AssetScripts are those of a package's scripts that make what a server of another kind hands out:
// once, and anew whenever something changes; watch is empty if there is none.
func AssetScripts(scripts map[string][]string) (builds []string, watch string) {
	for _, name := range sortedKeys(scripts) {
		line := strings.Join(scripts[name], " && ")
		switch {
		case strings.TrimSpace(line) == "" || runsAll.MatchString(line) ||
			engineCalls.MatchString(line):
		case assetBuild.MatchString(name) && !watchLine.MatchString(line):
			if by := scripts["build"]; name == "build" ||
				!strings.Contains(strings.Join(by, " "), name) {
				builds = append(builds, name)
			}
		case watch == "" && watcherName.MatchString(name) && watchLine.MatchString(name+" "+line) &&
			!otherWatch.MatchString(name+" "+line):
			watch = name
		}
	}
	return builds, watch
}

// assetBuild are names of scripts that make pages' scripts and styles.
var assetBuild = expr.New(`^(build([:-](css|js|assets?|styles?|s[ac]ss|client|front-?end|ui|web))?|` +
	`(css|js|assets?|styles?|s[ac]ss)([:-](build|compile))?)$`)

// makesOnce is a line that builds pages' scripts and styles for a server of another kind.
var makesOnce = expr.New(`^(mix|encore (dev|prod(uction)?))(\s|$)`)

// makesBefore are programs that only tidy up before others make something.
var makesBefore = []string{"rimraf", "rm", "mkdir", "cp", "copyfiles", "cpx", "del-cli", "echo"}

// isCommand reports whether a line runs what the package offers as a command: a tool then, unless
// more speaks for a server.
func (n serving) isCommand(line string) bool {
	bins := []any{n.pkg.Bin}
	if named, ok := n.pkg.Bin.(map[string]any); ok {
		bins = nil
		for _, file := range named {
			bins = append(bins, file)
		}
	}
	return slices.ContainsFunc(strings.Fields(line), func(word string) bool {
		return slices.ContainsFunc(bins, func(bin any) bool {
			file, _ := bin.(string)
			return file != "" && path.Clean(word) == path.Clean(file)
		})
	})
}

var (
	goesBelow  = expr.New(`--prefix\b|\bcd\s+\S|--cwd\b`)
	entersPart = expr.New(`\byarn --cwd\b|\s-C\s`)
	callsRun   = expr.New(`npm:|yarn:|bun:|npm run|yarn |pnpm |bun run|\brun-p\b|npm-run-all`)
)

// startsOthers reports whether a line starts what lies in other folders.
func (n serving) startsOthers(line string) bool {
	for _, c := range shell.Parse(line) {
		if _, _, ok := TaskRun(c.Words); ok {
			return true
		}
	}
	return goesBelow.MatchString(line) || entersPart.MatchString(line) ||
		callsRun.MatchString(line) && n.scriptsGoBelow()
}

func (n serving) scriptsGoBelow() bool {
	for _, line := range n.pkg.Scripts {
		if goesBelow.MatchString(line) {
			return true
		}
	}
	return false
}

func (n serving) process(script string) stack.Serve {
	return stack.Serve{
		Command: n.tool.call(append(slices.Clone(n.tool.run), script)...),
		At:      n.at("scripts." + script),
		Expands: n.scriptLines(script),
	}
}

// portBy tells how the script's server takes another port.
func (n serving) portBy() stack.PortBy {
	if n.known.flag == "" {
		return stack.PortBy{Env: "PORT"}
	}
	words := []string{n.known.flag, "{port}"}
	return stack.PortBy{Words: slices.Concat(n.tool.node.forward, words)}
}

var nodeListens = expr.New(
	`(?:listen\(\s*\{?\s*(?:port:\s*)?|PORT["'\]]*\s*\)?\s*(?:\|\||\?\?)\s*["']?|` +
		`\b[pP]ort\s*[:=]\s*["']?|` +
		`\bconst\s+(?:[A-Z]+_)*PORT\s*(?::\s*number\s*)?=\s*["']?)(\d{2,5})`)

// ports finds where a serve script listens: what its lines say, a PORT setting, its tool's
// settings, its code, its framework.
func (n serving) ports(line string, at stack.Place, configs ...string) []stack.Port {
	if port := PortIn(line); port > 0 {
		return httpPort(port, at)
	}
	if n.known.flag == "" || !n.known.ownPort {
		if port, at := n.PortSetting(); port > 0 {
			return httpPort(port, at)
		}
	}
	if n.known.settings != "" {
		files := append(configs, n.named(n.known.settings)...)
		if port, at := n.portByCode(nodeSettingsPort, files...); port > 0 {
			return httpPort(port, at)
		}
	}
	if n.known.flag == "" {
		var files []string
		for _, word := range strings.Fields(line) {
			switch path.Ext(word) {
			case ".js", ".mjs", ".cjs", ".ts", ".mts":
				files = append(files, path.Clean(word))
			}
		}
		for _, name := range []string{n.pkg.Main, "server.js", "index.js", "app.js", "main.js",
			"server.mjs",
			"index.mjs", "server.ts", "index.ts", "bin/www", "src/server.js", "src/index.js",
			"src/app.js", "src/server.ts", "src/main.ts", "src/index.ts", "src/app.ts",
			"src/constants.ts", "src/config.ts", "src/constants.js", "src/config.js"} {
			if name != "" && !slices.Contains(files, name) && n.exists(name) {
				files = append(files, name)
			}
		}
		if port, at := n.portByCode(nodeListens, files...); port > 0 {
			return httpPort(port, at)
		}
	}
	if n.known.port > 0 {
		return httpPort(n.known.port, at)
	}
	return nil
}
