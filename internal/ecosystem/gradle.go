package ecosystem

import (
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

var gradle = &Manager{
	Name: "gradle",
	Tools: []Tool{{Name: "gradle", Called: []string{"gradle"},
		Packages: map[string]string{"apt": "gradle", "dnf": "gradle", "brew": "gradle", "apk": "gradle"}}},
	Verbs: []Verb{
		{stack.Test, []string{"gradle test|check"}},
		{Serves, []string{"gradle bootRun|run|quarkusDev|:*"}},
		{stack.Build, []string{"gradle"}},
	},
	Aliases: map[string]string{"./gradlew": "gradle", "gradlew": "gradle"},
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
		port, portAt := f.PortSetting()
		p.Serve = &stack.Serve{Command: []string{gradle, "--console=plain", task("run")}, At: f.At(manifest, 1),
			Ports: httpPort(port, portAt), PortBy: stack.PortBy{Env: "PORT"}, Source: stack.FromFramework}
	}
	if out.Within == nil {
		out.step(f.step(stack.Test, f.At(manifest, 1), gradle, "--console=plain", "test"))
	}
	f.android(out, text)
	return out, nil
}
