package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

var maven = &Manager{
	Name: "maven",
	Tools: []Tool{{Name: "mvn", Called: []string{"maven"},
		Packages: map[string]string{"apt": "maven", "dnf": "maven", "brew": "maven", "apk": "maven"}}},
	Verbs: []Verb{
		{stack.Test, []string{"mvn test|verify"}},
		{Serves, []string{"mvn spring-boot:run|quarkus:dev"}},
		{stack.Build, []string{"mvn"}},
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
		if host := hostOf(r.URL); host != "" && !slices.Contains(java.Public, host) {
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
		out.remark(stack.Note, stack.CodeMigratesItself, f.lineWith(manifest, "-core"),
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
		port, portAt := f.PortSetting()
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
