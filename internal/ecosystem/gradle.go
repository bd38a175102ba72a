package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

var gradle = &Manager{
	Name: "gradle",
	Obeys: []string{"*.gradle", "*.gradle.kts", "gradle.properties", "gradle/*",
		"gradle/wrapper/*", "buildSrc/*"},
	Tools: []Tool{{Name: "gradle", Called: []string{"gradle"},
		Packages: map[string]string{"pacman": "gradle", "apt": "gradle", "dnf": "gradle",
			"brew": "gradle", "apk": "gradle"}}},
	Verbs: []Verb{
		{stack.Test, []string{"gradle test|check", "gradle clean test|check"}},
		{Serves, []string{"gradle bootRun|run|quarkusDev|:*"}},
		{stack.Build, []string{"gradle assemble|build|classes|jar|bootJar $",
			"gradle clean assemble|build|classes|jar|bootJar $"}},
	},
	Aliases: map[string]string{"./gradlew": "gradle", "gradlew": "gradle"},
}

// gradleProject is a project of Gradle while it is read.
type gradleProject struct {
	Folder
	out      *Finding
	manifest string
	text     string
	gradle   string // how Gradle is called: the checkout's own copy, if it has one
	// where it lies below the project that it is a member of; empty for one of its own
	below string
}

func readGradle(f Folder) (*Finding, error) {
	settings := f.first("settings.gradle.kts", "settings.gradle")
	manifest := f.first("build.gradle.kts", "build.gradle")
	if manifest == "" {
		manifest = settings
	}
	if manifest == "" || path.Base(f.Path) == "buildSrc" {
		return nil, nil // buildSrc is a part of the build of the folder above it
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	p := &gradleProject{Folder: f, manifest: manifest, text: string(data), gradle: "gradle",
		out: f.finding("java", "gradle", manifest, manifest)}
	for _, m := range gradleModule.FindAllStringSubmatch(f.text(settings), -1) {
		for _, q := range quoted.FindAllStringSubmatch(m[1], -1) {
			p.out.Members = append(p.out.Members, strings.ReplaceAll(q[1], ":", "/"))
		}
	}
	if m := gradleDefault.FindStringSubmatch(p.text); m != nil {
		for _, q := range quoted.FindAllStringSubmatch(m[1], -1) {
			p.out.Project.Alone = append(p.out.Project.Alone, q[1])
		}
	}
	uses := map[string]stack.Place{}
	for _, m := range gradleUses.FindAllStringSubmatch(p.text, -1) {
		uses[m[1]] = p.line(m[1])
	}
	p.out.uses("", uses)
	p.runtimes()
	if p.out.Within == nil {
		p.build()
	}
	if p.has("org.flywaydb.flyway") {
		p.out.step(f.step(stack.Migrate, p.line("org.flywaydb.flyway"), p.call("flywayMigrate")...))
	}
	decide(gradleServers, p)
	if p.out.Project.Serve != nil {
		for i := range p.out.Project.Steps {
			// a server for development needs no package
			if st := &p.out.Project.Steps[i]; st.Role == stack.Build {
				st.Command[len(st.Command)-1] = "classes"
			}
		}
	}
	if p.out.Within == nil {
		p.out.step(f.step(stack.Test, f.At(manifest, 1), p.gradle, "--console=plain", "test"))
	}
	f.android(p.out, p.text)
	return p.out, nil
}

func (p *gradleProject) has(texts ...string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(p.text, t) })
}

func (p *gradleProject) line(text string) stack.Place { return p.lineWith(p.manifest, text) }

// call is a command that runs a task of the project.
func (p *gradleProject) call(task string, more ...string) []string {
	if p.below != "" {
		task = ":" + strings.ReplaceAll(p.below, "/", ":") + ":" + task
	}
	return append([]string{p.gradle, "--console=plain", task}, more...)
}

// runtimes finds how Gradle is called, the version of Java that is wanted, and package sources
// other than the public one.
func (p *gradleProject) runtimes() {
	if w := p.out.Within; w != nil {
		if p.below = strings.TrimPrefix(strings.TrimPrefix(p.Path, w.Project.Path),
			"/"); w.Project.Path == "." {
			p.below = p.Path
		}
		if len(w.Project.Steps) > 0 && w.Project.Steps[0].Command[0] == "./gradlew" {
			p.gradle = strings.Repeat("../", 1+strings.Count(p.below, "/")) + "gradlew"
		}
	}
	if p.Has("gradlew") {
		p.gradle, p.below = "./gradlew", ""
		p.out.names("gradle", p.At("gradlew", 1), "its own copy of gradle")
	}
	properties := gradleProperty.FindStringSubmatch(p.Folder.text("gradle.properties"))
	if m := gradleJava.FindStringSubmatchIndex(p.text); m != nil {
		line, _ := position([]byte(p.text), int64(m[0]))
		p.out.wants("java", ">="+p.text[m[2]:m[3]], p.At(p.manifest, line))
	} else if properties != nil {
		p.out.wants("java", ">="+properties[1],
			p.lineWith("gradle.properties", strings.TrimSpace(properties[0])))
	} else if p.out.Within == nil {
		p.out.wants("java", "*", p.At(p.manifest, 1))
	}
	if p.gradle == "gradle" && p.out.Within == nil {
		p.out.wants("gradle", "*", p.At(p.manifest, 1))
	}
	for _, m := range mavenRepo.FindAllStringSubmatchIndex(p.text, -1) {
		line, _ := position([]byte(p.text), int64(m[2]))
		near := p.text[m[0]:min(len(p.text), m[1]+200)]
		p.out.source(p.text[m[2]:m[3]], strings.Contains(near, "credentials"), "",
			p.At(p.manifest, line))
	}
}

// build builds all that belongs to the project.
func (p *gradleProject) build() {
	s := p.step(stack.Build, p.At(p.manifest, 1), p.gradle, "--console=plain", "assemble")
	s.Inputs = append(p.in(p.manifest, "gradle.lockfile", "gradle.properties", "settings.gradle",
		"settings.gradle.kts"), p.folders("src")...)
	for _, m := range p.out.Members {
		s.Inputs = append(s.Inputs, p.folders(m+"/build.gradle", m+"/build.gradle.kts",
			m+"/src")...)
	}
	slices.Sort(s.Inputs)
	s.Inputs = slices.Compact(s.Inputs)
	p.out.step(s)
}

var gradleServers = []rule[*gradleProject]{
	{"spring boot", func(p *gradleProject) bool { return p.has("org.springframework.boot") },
		func(p *gradleProject) {
			p.javaServer(p.out, "spring-boot", p.line("org.springframework.boot"),
				p.call("bootRun"))
		}},
	{"quarkus", func(p *gradleProject) bool { return p.has("io.quarkus") }, func(p *gradleProject) {
		p.javaServer(p.out, "quarkus", p.line("io.quarkus"),
			p.call("quarkusDev", "-Dquarkus.console.enabled=false"))
	}},
	{"a program that is run", func(p *gradleProject) bool {
		return p.has("io.micronaut.application", "io.ktor.plugin") || gradleApp.MatchString(p.text)
	},
		func(p *gradleProject) {
			port, portAt := p.PortSetting()
			p.out.Project.Serve = &stack.Serve{Command: p.call("run"), At: p.At(p.manifest, 1),
				Ports:  httpPort(port, portAt),
				PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
		}},
}
