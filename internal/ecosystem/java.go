package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

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

var (
	pomJava = expr.New(
		`<(?:java\.version|maven\.compiler\.release|maven\.compiler\.source|release)>\s*(?:1\.)?(\d+)`)
	gradleJava = expr.New(
		`(?:JavaLanguageVersion\.of\(\s*|JavaVersion\.VERSION_(?:1_)?|(?:source|` +
			`target)Compatibility\s*=\s*['"]?(?:1\.)?|jvmToolchain\(\s*)(\d+)`)
	gradleProperty = expr.New(
		`(?mi)^\s*(?:java|jdk|jvm)[._-]?(?:target|version|toolchain)(?:\.version)?\s*=\s*(?:1\.)?(\d+)`)
	springPort     = expr.New(`(?m)^\s*server\.port\s*[=:]\s*(?:\$\{[A-Z_]+:)?(\d{2,5})`)
	springYAMLPort = expr.New(
		`(?m)^server:\s*(?:#.*)?\n(?:[ \t]+.*\n|\s*\n)*?[ \t]+port:\s*(?:\$\{[A-Z_]+:)?(\d{2,5})`)
	quarkusPort  = expr.New(`(?m)^\s*(?:%dev\.)?quarkus\.http\.port\s*=\s*(?:\$\{[A-Z_]+:)?(\d{2,5})`)
	gradleModule = expr.New(`(?m)^\s*include\b\s*\(?(.*)$`)
	quoted       = expr.New(`["']:?([^"']+)["']`)
	mavenRepo    = expr.New(`maven\s*\{[^}]*?url\s*=?\s*(?:uri\()?\s*["']([^"']+)["']([^}]*(?:\{[^}]*\})?)`)
	gradleApp    = expr.New(
		`(?m)(?:id\s*\(?\s*['"]application['"]|apply plugin:\s*['"]application['"]|^\s*application\s*$)`)
	javaMain = expr.New(`public static void main\(`)
)

// javaServer works out how a JVM project serves, and on which port.
func (f Folder) javaServer(out *Finding, framework string, at stack.Place, command []string) {
	p := &out.Project
	p.Framework = framework
	var port int
	var portAt stack.Place
	env := "SERVER_PORT"
	if framework == "quarkus" {
		env = "QUARKUS_HTTP_PORT"
		port, portAt = f.portByCode(quarkusPort, "src/main/resources/application.properties")
	} else {
		if port, portAt = f.portByCode(springPort, "src/main/resources/application.properties",
			"src/main/resources/application-dev.properties"); port == 0 {
			port, portAt = f.portByCode(springYAMLPort, "src/main/resources/application.yml",
				"src/main/resources/application.yaml")
		}
	}
	if port == 0 {
		port, portAt = 8080, at
	}
	p.Serve = &stack.Serve{Command: command, At: at, Ports: httpPort(port, portAt), PortBy: stack.PortBy{Env: env},
		Source: stack.FromFramework}
}

func readMaven(f Folder) (*Finding, error) {
	const manifest = "pom.xml"
	if !f.Has(manifest) {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	var m pom
	if err := parseXML(f, manifest, data, &m); err != nil {
		return nil, err
	}
	out := f.finding("java", "maven", manifest, "pom.xml")
	p := &out.Project
	p.Name, out.Members = m.ArtifactID, m.Modules
	text := string(data)
	mvn := "mvn"
	if f.Has("mvnw") {
		mvn = "./mvnw"
		out.evidence(f.At("mvnw", 1), "its own copy of maven")
	} else if out.Within != nil {
		if own := out.Within.Project.Steps; len(own) > 0 && own[0].Command[0] == "./mvnw" {
			mvn = strings.Repeat("../", 1+strings.Count(strings.TrimPrefix(f.Path, out.Within.Project.Path+"/"),
				"/")) + "mvnw"
		}
	}
	if match := pomJava.FindStringSubmatchIndex(text); match != nil {
		line, _ := position(data, int64(match[0]))
		out.wants("java", ">="+text[match[2]:match[3]], f.At(manifest, line))
	} else if out.Within == nil {
		out.wants("java", "*", f.At(manifest, 1))
	}
	if mvn == "mvn" && out.Within == nil {
		out.wants("mvn", "*", f.At(manifest, 1))
	}
	for _, r := range m.Repositories {
		if host := hostOf(r.URL); host != "" && host != "repo.maven.apache.org" && host != "repo1.maven.org" {
			out.source(r.URL, strings.Contains(f.text("settings.xml")+f.text(".mvn/settings.xml"), "<id>"+r.ID+"</id>"),
				"", f.lineWith(manifest, r.URL))
		}
	}
	if out.Within == nil {
		// Everything that the modules need of each other goes into the local repository.
		goal := "package"
		if len(m.Modules) > 0 {
			goal = "install"
		}
		s := f.step(stack.Build, f.At(manifest, 1), mvn, "--batch-mode", "--quiet", "-DskipTests", goal)
		s.Inputs = append(f.in(manifest), f.folders("src")...)
		for _, module := range m.Modules {
			s.Inputs = append(s.Inputs, f.folders(path.Join(module, "pom.xml"), path.Join(module, "src"))...)
		}
		s.Outputs = f.target(m.Modules)
		out.step(s)
	}
	if m.uses("flyway-maven-plugin") {
		s := f.step(stack.Migrate, f.lineWith(manifest, "flyway-maven-plugin"), mvn, "--batch-mode", "flyway:migrate")
		s.Inputs = f.folders("src/main/resources/db/migration")
		out.step(s)
	} else if m.uses("liquibase-maven-plugin") {
		out.step(f.step(stack.Migrate, f.lineWith(manifest, "liquibase-maven-plugin"), mvn, "--batch-mode",
			"liquibase:update"))
	} else if m.uses("flyway-core") || m.uses("liquibase-core") {
		out.remark(stack.Note, "migrates-itself", f.lineWith(manifest, "-core"),
			"the service brings its database up to date by itself when it starts", "")
	}
	switch {
	case m.uses("spring-boot-maven-plugin"):
		f.javaServer(out, "spring-boot", f.lineWith(manifest, "spring-boot-maven-plugin"),
			[]string{mvn, "--batch-mode", "spring-boot:run"})
	case m.uses("quarkus-maven-plugin"):
		f.javaServer(out, "quarkus", f.lineWith(manifest, "quarkus-maven-plugin"),
			[]string{mvn, "--batch-mode", "quarkus:dev", "-Dquarkus.console.enabled=false"})
	case m.uses("exec-maven-plugin"):
		at := f.lineWith(manifest, "exec-maven-plugin")
		port, portAt := f.portSetting()
		p.Serve = &stack.Serve{Command: []string{mvn, "--batch-mode", "--quiet", "compile", "exec:java"}, At: at,
			Ports: httpPort(port, portAt), PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
	}
	if out.Within == nil {
		out.step(f.step(stack.Test, f.At(manifest, 1), mvn, "--batch-mode", "test"))
	}
	f.android(out, text)
	return out, nil
}

// target is what a build leaves behind.
func (f Folder) target(modules []string) []string {
	if len(modules) == 0 {
		return []string{path.Join(f.Path, "target")}
	}
	return nil
}

func readGradle(f Folder) (*Finding, error) {
	build := f.first("build.gradle.kts", "build.gradle")
	settings := f.first("settings.gradle.kts", "settings.gradle")
	manifest := build
	if manifest == "" {
		manifest = settings
	}
	if manifest == "" {
		return nil, nil
	}
	data, err := f.Read(manifest)
	if err != nil {
		return nil, err
	}
	out := f.finding("java", "gradle", manifest, manifest)
	p := &out.Project
	text := string(data)
	for _, m := range gradleModule.FindAllStringSubmatch(f.text(settings), -1) {
		for _, q := range quoted.FindAllStringSubmatch(m[1], -1) {
			out.Members = append(out.Members, strings.ReplaceAll(q[1], ":", "/"))
		}
	}
	gradle, task := "gradle", func(name string) string { return name }
	if f.Has("gradlew") {
		gradle = "./gradlew"
		out.evidence(f.At("gradlew", 1), "its own copy of gradle")
	} else if w := out.Within; w != nil {
		rel := strings.TrimPrefix(strings.TrimPrefix(f.Path, w.Project.Path), "/")
		if w.Project.Path == "." {
			rel = f.Path
		}
		if len(w.Project.Steps) > 0 && w.Project.Steps[0].Command[0] == "./gradlew" {
			gradle = strings.Repeat("../", 1+strings.Count(rel, "/")) + "gradlew"
		}
		task = func(name string) string { return ":" + strings.ReplaceAll(rel, "/", ":") + ":" + name }
	}
	if m := gradleJava.FindStringSubmatchIndex(text); m != nil {
		line, _ := position(data, int64(m[0]))
		out.wants("java", ">="+text[m[2]:m[3]], f.At(manifest, line))
	} else if p := f.text("gradle.properties"); gradleProperty.MatchString(p) {
		m := gradleProperty.FindStringSubmatch(p)
		out.wants("java", ">="+m[1], f.lineWith("gradle.properties", strings.TrimSpace(m[0])))
	} else if out.Within == nil {
		out.wants("java", "*", f.At(manifest, 1))
	}
	if gradle == "gradle" && out.Within == nil {
		out.wants("gradle", "*", f.At(manifest, 1))
	}
	for _, m := range mavenRepo.FindAllStringSubmatchIndex(text, -1) {
		line, _ := position(data, int64(m[2]))
		out.source(text[m[2]:m[3]], strings.Contains(text[m[0]:min(len(text), m[1]+200)], "credentials"), "",
			f.At(manifest, line))
	}
	if out.Within == nil {
		s := f.step(stack.Build, f.At(manifest, 1), gradle, "--console=plain", "assemble")
		s.Inputs = append(f.in(manifest, "gradle.lockfile", "gradle.properties", "settings.gradle",
			"settings.gradle.kts"), f.folders("src")...)
		for _, m := range out.Members {
			s.Inputs = append(s.Inputs, f.folders(m+"/build.gradle", m+"/build.gradle.kts", m+"/src")...)
		}
		slices.Sort(s.Inputs)
		s.Inputs = slices.Compact(s.Inputs)
		out.step(s)
	}
	if strings.Contains(text, "org.flywaydb.flyway") {
		out.step(f.step(stack.Migrate, f.lineWith(manifest, "org.flywaydb.flyway"), gradle, "--console=plain",
			task("flywayMigrate")))
	}
	switch {
	case strings.Contains(text, "org.springframework.boot"):
		f.javaServer(out, "spring-boot", f.lineWith(manifest, "org.springframework.boot"),
			[]string{gradle, "--console=plain", task("bootRun")})
	case strings.Contains(text, "io.quarkus"):
		f.javaServer(out, "quarkus", f.lineWith(manifest, "io.quarkus"),
			[]string{gradle, "--console=plain", task("quarkusDev"), "-Dquarkus.console.enabled=false"})
	case strings.Contains(text, "io.micronaut.application"), strings.Contains(text, "io.ktor.plugin"),
		gradleApp.MatchString(text):
		port, portAt := f.portSetting()
		p.Serve = &stack.Serve{Command: []string{gradle, "--console=plain", task("run")}, At: f.At(manifest, 1),
			Ports: httpPort(port, portAt), PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
	}
	if out.Within == nil {
		out.step(f.step(stack.Test, f.At(manifest, 1), gradle, "--console=plain", "test"))
	}
	f.android(out, text)
	return out, nil
}

// android leaves out what only another system's kit can build.
func (f Folder) android(out *Finding, text string) {
	if strings.Contains(text, "com.android.application") || strings.Contains(text, "com.android.library") ||
		strings.Contains(text, "android-maven-plugin") {
		out.Project.NotHere = "it is a program for Android, which takes the Android SDK and a device"
		out.Project.Serve = nil
		out.Project.Steps = nil
	}
}
