package ecosystem

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

type csproj struct {
	Sdk    string `xml:"Sdk,attr"`
	Groups []struct {
		Framework  string `xml:"TargetFramework"`
		Frameworks string `xml:"TargetFrameworks"`
		Old        string `xml:"TargetFrameworkVersion"`
		WPF        string `xml:"UseWPF"`
		Forms      string `xml:"UseWindowsForms"`
		Maui       string `xml:"UseMaui"`
		Output     string `xml:"OutputType"`
	} `xml:"PropertyGroup"`
	Items []struct {
		Packages []struct {
			Name string `xml:"Include,attr"`
		} `xml:"PackageReference"`
	} `xml:"ItemGroup"`
}

func (c *csproj) uses(prefix string) bool {
	for _, g := range c.Items {
		for _, p := range g.Packages {
			if strings.HasPrefix(p.Name, prefix) {
				return true
			}
		}
	}
	return false
}

var (
	slnProject = expr.New(
		`(?m)^Project\("[^"]*"\)\s*=\s*"[^"]*",\s*"([^"]+\.(?:cs|fs|vb)proj)"|<Project Path="([^"]+\.(?:cs|fs|` +
			`vb)proj)"`)
	netVersion   = expr.New(`^net(?:coreapp)?(\d+\.\d+)(-\w+)?`)
	appURL       = expr.New(`"applicationUrl"\s*:\s*"[^"]*?http://[^":]+:(\d{2,5})`)
	nugetSource  = expr.New(`<add\s+key="([^"]+)"\s+value="(https?://[^"]+)"`)
	nugetLogin   = expr.New(`(?s)<packageSourceCredentials>(.*?)</packageSourceCredentials>`)
	trailingComs = expr.New(`,(\s*[}\]])`)
)

// dotnet is .NET, whose program is its package manager too.
var dotnet = &Ecosystem{
	Name:     "dotnet",
	Compiled: true,
	Managers: []*Manager{{Name: "dotnet", Lists: true, Locks: []string{"packages.lock.json"},
		Obeys: []string{
			"*.??proj", "Directory.Build.*", "Directory.Packages.props", "[Nn]u[Gg]et.[Cc]onfig",
			"global.json", ".config/dotnet-tools.json"}}},
	Frameworks: []*Framework{{Name: "aspnet", Config: dotnetConfig},
		{Name: "worker", Config: dotnetConfig}},
	Given: []string{"ASPNETCORE_URLS", "ASPNETCORE_ENVIRONMENT", "DOTNET_ENVIRONMENT",
		"DOTNET_URLS", "DOTNET_RUNNING_IN_CONTAINER"},
	Manifests: []string{"*.sln", "*.slnx", "*.csproj", "*.fsproj", "*.vbproj"},
	Endings:   []string{".cs"},
	Language:  csharp,
	Tools: []Tool{{Name: "dotnet", Called: []string{"dotnet"},
		Images: []string{"dotnet/sdk", "sdk"},
		Packages: map[string]string{"pacman": "dotnet-sdk", "dnf": "dotnet-sdk-8.0",
			"brew": "dotnet", "apk": "dotnet8-sdk"}}},
	Logins: []string{".nuget/NuGet/NuGet.Config", ".config/NuGet/NuGet.Config"},
	Public: []string{"api.nuget.org", "www.nuget.org"},
	Verbs: []Verb{
		{SetsUp, []string{"dotnet tool"}},
		{stack.Install, []string{"dotnet restore"}},
		{stack.Test, []string{"dotnet test"}},
		{Serves, []string{"dotnet run|watch"}},
		{stack.Build, []string{"dotnet build"}},
	},
}

var csharp = &Language{
	Comments: slashes,
	Blocks:   starred,
	Quotes: []Quote{doubled, letter, tripled, {Open: `$"`, Close: `"`, Code: "{"},
		{Open: `@"`, Close: `"`, Raw: true, Lines: true}},
	Accesses: callsFor(false, "Environment.GetEnvironmentVariable"),
	Else:     append([]string{"?", "??="}, usualElse...),
}

func readDotnet(f Folder) (*Finding, error) {
	solution := ""
	if list := append(f.named("*.sln"), f.named("*.slnx")...); len(list) > 0 {
		solution = list[0] // the older form counts
	}
	projects := append(append(f.named("*.csproj"), f.named("*.fsproj")...), f.named("*.vbproj")...)
	if solution == "" && len(projects) == 0 {
		return nil, nil
	}
	if solution == "" {
		return readDotnetProject(f, projects[0], nil)
	}
	data, err := f.Read(solution)
	if err != nil {
		return nil, err
	}
	out := f.finding("dotnet", "dotnet", solution, "solution")
	for _, m := range slnProject.FindAllSubmatch(data, -1) {
		file := strings.ReplaceAll(string(m[1])+string(m[2]), `\`, "/")
		if dir := path.Dir(path.Clean(file)); dir != "." && !strings.HasPrefix(dir, "..") {
			out.Members = append(out.Members, dir)
		}
	}
	f.dotnetCommon(out, solution)
	install := f.step(stack.Install, f.At(solution, 1), "dotnet", "restore", solution)
	build := f.step(stack.Build, f.At(solution, 1), "dotnet", "build", solution, "--no-restore")
	install.Inputs = f.in(solution, "global.json", "nuget.config", "NuGet.Config",
		"Directory.Packages.props", "Directory.Build.props")
	for _, m := range out.Members {
		entries, _ := fs.ReadDir(f.FS, path.Join(f.Path, m))
		for _, e := range entries {
			locks := e.Name() == "packages.lock.json"
			if locks {
				install.Command = []string{"dotnet", "restore", solution, "--locked-mode"}
			}
			if locks || strings.HasSuffix(e.Name(), "proj") {
				install.Inputs = append(install.Inputs, path.Join(f.Path, m, e.Name()))
			}
		}
	}
	out.step(install)
	out.step(build)
	out.step(f.step(stack.Test, f.At(solution, 1), "dotnet", "test", solution))
	if len(projects) > 0 {
		own, err := readDotnetProject(f, projects[0], out)
		if err != nil {
			return nil, err
		}
		out.Project.Serve, out.Project.Framework, out.Project.NotHere = own.Project.Serve, own.Project.Framework,
			own.Project.NotHere
	}
	return out, nil
}

// dotnetCommon reads what holds for all projects of a folder: the SDK's version, sources, central
// packages.
func (f Folder) dotnetCommon(out *Finding, manifest string) {
	var global struct {
		SDK struct{ Version, RollForward string }
	}
	if text := f.text("global.json"); text != "" &&
		json.Unmarshal([]byte(trailingComs.ReplaceAllString(text, "$1")),
			&global) == nil && global.SDK.Version != "" {
		constraint := rollsForward(global.SDK.Version, global.SDK.RollForward)
		out.wants("dotnet", constraint, f.lineWith("global.json", global.SDK.Version))
	}
	if f.Has("Directory.Packages.props") {
		out.evidence(f.At("Directory.Packages.props", 1),
			"the packages' versions, for all projects")
	}
	for _, name := range []string{"nuget.config", "NuGet.Config", "NuGet.config"} {
		text := f.text(name)
		logins := nugetLogin.FindString(text)
		for _, m := range nugetSource.FindAllStringSubmatchIndex(text, -1) {
			address := text[m[4]:m[5]]
			if host := hostOf(address); slices.Contains(dotnet.Public, host) {
				continue
			}
			line, _ := position([]byte(text), int64(m[4]))
			out.source(address, strings.Contains(logins, "<"+text[m[2]:m[3]]), logins,
				f.At(name, line))
		}
	}
}

// target is the framework that the project is built for, the first if there are several.
func (c *csproj) target() string {
	for _, g := range c.Groups {
		if first, _, _ := strings.Cut(g.Frameworks, ";"); g.Framework+first != "" {
			return strings.TrimSpace(g.Framework + first)
		}
	}
	return ""
}

// otherSystems are the ends of targets that only one system can build or run.
var otherSystems = map[string][]string{"windows": {"-windows"}, "darwin": {"-ios", "-mac"},
	"": {"-android"}}

// elsewhere tells why the project can't be run on a system; empty if it can.
func (c *csproj) elsewhere(target, system string) string {
	for only, ends := range otherSystems {
		for _, end := range ends {
			if only != system && netVersion.MatchString(target) && strings.Contains(target, end) {
				return "its target is another system: " + target
			}
		}
	}
	why := ""
	for _, g := range c.Groups {
		switch {
		case g.Old != "":
			why = "it is for the .NET Framework " + strings.TrimPrefix(g.Old, "v") +
				", which runs on Windows alone"
		case g.Maui == "true":
			why = "it is a program for phones and desktops, which takes the kits of those systems"
		case g.WPF == "true" || g.Forms == "true":
			why = "it is a program with Windows' own windows"
		}
	}
	if system == "windows" {
		return ""
	}
	return why
}

func readDotnetProject(f Folder, manifest string, solution *Finding) (*Finding, error) {
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	var c csproj
	if err := parseXML(f, manifest, data, &c); err != nil {
		return nil, err
	}
	out := f.finding("dotnet", "dotnet", manifest, manifest)
	p := &out.Project
	p.Name = strings.TrimSuffix(manifest, path.Ext(manifest))
	uses := map[string]stack.Place{}
	for _, g := range c.Items {
		for _, one := range g.Packages {
			uses[one.Name] = f.lineWith(manifest, one.Name)
		}
	}
	out.uses(p.Name, uses)
	if solution == nil {
		f.dotnetCommon(out, manifest)
	}
	target := c.target()
	p.NotHere = c.elsewhere(target, f.system())
	if len(p.Runtimes) == 0 {
		if m := netVersion.FindStringSubmatch(target); m != nil {
			out.wants("dotnet", ">="+m[1], f.lineWith(manifest, target))
		} else if out.Within == nil {
			out.wants("dotnet", "*", f.At(manifest, 1))
		}
	}
	if p.NotHere != "" {
		return out, nil
	}
	alone := out.Within == nil && solution == nil
	dotnetSteps(f, out, &c, manifest, alone)
	dotnetServe(f, out, &c, manifest)
	if p.Serve == nil && c.uses("Microsoft.NET.Test.Sdk") && alone {
		out.step(f.step(stack.Test, f.At(manifest, 1), "dotnet", "test", manifest))
	}
	return out, nil
}

// dotnetSteps adds what comes before a project serves; alone is true for one of no solution.
func dotnetSteps(f Folder, out *Finding, c *csproj, manifest string, alone bool) {
	if alone {
		s := f.step(stack.Install, f.At(manifest, 1), "dotnet", "restore", manifest)
		s.Inputs = f.in(manifest, "packages.lock.json", "global.json", "nuget.config",
			"NuGet.Config")
		if f.Has("packages.lock.json") {
			s.Command = append(s.Command, "--locked-mode")
		}
		out.step(s)
		out.step(f.step(stack.Build, f.At(manifest, 1), "dotnet", "build", manifest,
			"--no-restore"))
	}
	if c.uses("Microsoft.EntityFrameworkCore.") && f.exists("Migrations") {
		s := f.step(stack.Migrate, f.lineWith(manifest, "Microsoft.EntityFrameworkCore"), "dotnet",
			"ef", "database", "update", "--project", manifest)
		s.Inputs = f.folders("Migrations")
		out.step(s)
	}
}

// dotnetServe has a web project or a worker serve, by its kind.
func dotnetServe(f Folder, out *Finding, c *csproj, manifest string) {
	p := &out.Project
	v := &stack.Serve{Command: []string{"dotnet", "run", "--no-restore", "--project", manifest},
		At: f.At(manifest, 1), Source: stack.FromFramework}
	switch {
	case strings.HasPrefix(c.Sdk, "Microsoft.NET.Sdk.Web"):
		port, at := f.portByCode(appURL, "Properties/launchSettings.json")
		if port == 0 {
			port, at = 5000, f.At(manifest, 1)
		}
		v.Ports = httpPort(port, at)
		v.PortBy = stack.PortBy{Words: []string{"--", "--urls", "http://localhost:{port}"}}
		p.Framework, p.Serve = "aspnet", v
	case strings.HasPrefix(c.Sdk, "Microsoft.NET.Sdk.Worker"):
		p.Framework, p.Serve = "worker", v
	}
}

var dotnetConfig = []string{"appsettings.json", "appsettings.Development.json",
	"appsettings.Local.json"}

// rollsForward are the SDKs that a version in global.json allows: of the same feature band, unless
// the policy says otherwise.
func rollsForward(version, policy string) string {
	switch strings.TrimPrefix(strings.ToLower(policy), "latest") {
	case "disable":
		return "=" + version
	case "feature":
		return "~" + version
	case "minor":
		return "^" + version
	case "major":
		return ">=" + version
	}
	parts := strings.Split(version, ".")
	if band, err := strconv.Atoi(parts[len(parts)-1]); len(parts) == 3 && err == nil {
		return fmt.Sprintf(">=%s, <%s.%s.%d", version, parts[0], parts[1], band/100*100+100)
	}
	return "~" + version
}
