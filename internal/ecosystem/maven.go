package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

var maven = &Manager{
	Name:  "maven",
	Obeys: []string{"pom.xml", ".mvn/*", ".mvn/wrapper/*"},
	Tools: []Tool{{Name: "mvn", Called: []string{"maven"},
		Packages: map[string]string{"pacman": "maven", "apt": "maven", "dnf": "maven",
			"brew": "maven", "apk": "maven"}}},
	Verbs: []Verb{
		{stack.Test, []string{"mvn test|verify", "mvn clean test|verify"}},
		{Serves, []string{"mvn spring-boot:run|quarkus:dev"}},
		{stack.Build, []string{"mvn compile|package|install $",
			"mvn clean compile|package|install $"}},
	},
	Aliases: map[string]string{"./mvnw": "mvn", "mvnw": "mvn"},
}

type pom struct {
	ArtifactID string `xml:"artifactId"`
	Packaging  string `xml:"packaging"`
	Parent     struct {
		ArtifactID string `xml:"artifactId"`
	} `xml:"parent"`
	Modules      []string `xml:"modules>module"`
	Repositories []struct {
		ID  string `xml:"id"`
		URL string `xml:"url"`
	} `xml:"repositories>repository"`
	Dependencies []struct {
		GroupID    string `xml:"groupId"`
		ArtifactID string `xml:"artifactId"`
	} `xml:"dependencies>dependency"`
	Plugins []struct {
		ArtifactID string `xml:"artifactId"`
	} `xml:"build>plugins>plugin"`
	DefaultGoal string `xml:"build>defaultGoal"`
}

func (p *pom) uses(parts ...string) bool {
	for _, part := range parts {
		for _, d := range p.Dependencies {
			if strings.HasPrefix(d.ArtifactID, part) {
				return true
			}
		}
		for _, d := range p.Plugins {
			if d.ArtifactID == part {
				return true
			}
		}
	}
	return false
}

// mavenProject is a project of Maven while it is read.
type mavenProject struct {
	Folder
	out  *Finding
	m    pom
	text string
	mvn  string // how Maven is called: the checkout's own copy, if it has one
}

const mavenManifest = "pom.xml"

func readMaven(f Folder) (*Finding, error) {
	if !f.Has(mavenManifest) {
		return nil, nil
	}
	data, err := f.Read(mavenManifest)
	if err != nil {
		return nil, err
	}
	p := &mavenProject{Folder: f, text: string(data), mvn: "mvn"}
	if err := parseXML(f, mavenManifest, data, &p.m); err != nil {
		return nil, err
	}
	p.out = f.finding("java", "maven", mavenManifest, mavenManifest)
	p.out.Project.Name, p.out.Members = p.m.ArtifactID, p.m.Modules
	p.out.Project.Alone = strings.Fields(p.m.DefaultGoal)
	uses := map[string]stack.Place{}
	for _, d := range p.m.Dependencies {
		uses[d.GroupID+":"+d.ArtifactID] = p.line("<artifactId>" + d.ArtifactID)
	}
	p.out.uses(p.m.ArtifactID, uses)
	p.runtimes()
	if p.out.Within == nil {
		p.build()
	}
	decide(mavenMigrations, p)
	decide(mavenServers, p)
	if p.out.Project.Serve != nil && len(p.m.Modules) == 0 {
		p.compileOnly()
	}
	if p.out.Within == nil {
		p.add(stack.Test, p.At(mavenManifest, 1), "test")
	}
	f.android(p.out, p.text)
	return p.out, nil
}

func (p *mavenProject) line(text string) stack.Place { return p.lineWith(mavenManifest, text) }

// add adds a step of Maven's.
func (p *mavenProject) add(role stack.Role, at stack.Place, words ...string) *stack.Step {
	p.out.step(p.step(role, at, append([]string{p.mvn, "--batch-mode"}, words...)...))
	return &p.out.Project.Steps[len(p.out.Project.Steps)-1]
}

// runtimes finds how Maven is called, the version of Java that is wanted, and package sources other
// than the public one.
func (p *mavenProject) runtimes() {
	w := p.out.Within
	if p.Has("mvnw") {
		p.mvn = "./mvnw"
		p.out.names("maven", p.At("mvnw", 1), "its own copy of maven")
	} else if w != nil && len(w.Project.Steps) > 0 && w.Project.Steps[0].Command[0] == "./mvnw" {
		p.mvn = strings.Repeat("../",
			1+strings.Count(strings.TrimPrefix(p.Path, w.Project.Path+"/"), "/")) + "mvnw"
	}
	if match := pomJava.FindStringSubmatchIndex(p.text); match != nil {
		line, _ := position([]byte(p.text), int64(match[0]))
		p.out.wants("java", ">="+p.text[match[2]:match[3]], p.At(mavenManifest, line))
	} else if w == nil {
		p.out.wants("java", "*", p.At(mavenManifest, 1))
	}
	if p.mvn == "mvn" && w == nil {
		p.out.wants("mvn", "*", p.At(mavenManifest, 1))
	}
	logins := p.Folder.text("settings.xml") + p.Folder.text(".mvn/settings.xml")
	for _, r := range p.m.Repositories {
		if host := hostOf(r.URL); host != "" && !slices.Contains(java.Public, host) {
			p.out.source(r.URL, strings.Contains(logins, "<id>"+r.ID+"</id>"), "", p.line(r.URL))
		}
	}
}

// build builds all modules. Everything that they need of each other goes into the local repository.
func (p *mavenProject) build() {
	goal := "package"
	if len(p.m.Modules) > 0 {
		goal = "install"
	}
	s := p.add(stack.Build, p.At(mavenManifest, 1), "--quiet", "-DskipTests", goal)
	s.Inputs = append(p.in(mavenManifest), p.folders("src")...)
	for _, module := range p.m.Modules {
		s.Inputs = append(s.Inputs, p.folders(path.Join(module, "pom.xml"),
			path.Join(module, "src"))...)
	}
	s.Outputs = p.target(p.m.Modules)
}

// compileOnly leaves out of the build what a server for development doesn't need: it takes classes,
// and no package.
func (p *mavenProject) compileOnly() {
	for i := range p.out.Project.Steps {
		if st := &p.out.Project.Steps[i]; st.Role == stack.Build {
			st.Command = []string{p.mvn, "--batch-mode", "--quiet", "compile"}
		}
	}
}

var mavenMigrations = []rule[*mavenProject]{
	{"flyway's plugin", func(p *mavenProject) bool { return p.m.uses("flyway-maven-plugin") },
		func(p *mavenProject) {
			p.add(stack.Migrate, p.line("flyway-maven-plugin"), "flyway:migrate").Inputs =
				p.folders("src/main/resources/db/migration")
		}},
	{"liquibase's plugin", func(p *mavenProject) bool { return p.m.uses("liquibase-maven-plugin") },
		func(p *mavenProject) {
			p.add(stack.Migrate, p.line("liquibase-maven-plugin"), "liquibase:update")
		}},
	{"the service itself", func(p *mavenProject) bool {
		return p.m.uses("flyway-core", "liquibase-core")
	},
		func(p *mavenProject) {
			p.out.remark(stack.Note, stack.CodeMigratesItself, p.line("-core"),
				"the service brings its database up to date by itself when it starts", "")
		}},
}

var mavenServers = []rule[*mavenProject]{
	{"spring boot", func(p *mavenProject) bool {
		return p.m.uses("spring-boot-maven-plugin") || p.m.Parent.ArtifactID == springParent &&
			p.m.uses("spring-boot-starter-web", "spring-boot-starter-webflux")
	},
		func(p *mavenProject) {
			p.javaServer(p.out, "spring-boot",
				p.line(p.named("spring-boot-maven-plugin", springParent)),
				[]string{p.mvn, "--batch-mode", "spring-boot:run"})
		}},
	{"quarkus", func(p *mavenProject) bool { return p.m.uses("quarkus-maven-plugin") },
		func(p *mavenProject) {
			p.javaServer(p.out, "quarkus", p.line("quarkus-maven-plugin"),
				[]string{p.mvn, "--batch-mode", "quarkus:dev", "-Dquarkus.console.enabled=false"})
		}},
	{"a class that is run", func(p *mavenProject) bool { return p.m.uses("exec-maven-plugin") },
		func(p *mavenProject) {
			port, portAt := p.PortSetting()
			p.out.Project.Serve = &stack.Serve{Command: []string{p.mvn, "--batch-mode", "--quiet",
				"compile", "exec:java"}, At: p.line("exec-maven-plugin"), Ports: httpPort(port,
				portAt), PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
		}},
}

// springParent is the parent project that brings the plugin by which an application is run.
const springParent = "spring-boot-starter-parent"

// named is the first of the texts that the manifest has, or the last.
func (p *mavenProject) named(texts ...string) string {
	for _, text := range texts {
		if strings.Contains(p.text, text) {
			return text
		}
	}
	return texts[len(texts)-1]
}

// target is what a build leaves behind.
func (f Folder) target(modules []string) []string {
	if len(modules) == 0 {
		return []string{path.Join(f.Path, "target")}
	}
	return nil
}
