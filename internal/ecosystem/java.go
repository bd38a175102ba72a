package ecosystem

import (
	"path"
	"slices"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// java is what runs on the Java virtual machine, with Maven or Gradle.
var java = &Ecosystem{
	Name:     "java",
	Compiled: true,
	Managers: []*Manager{maven, gradle},
	Frameworks: []*Framework{{Name: "spring-boot", Config: springConfig},
		{Name: "quarkus", Config: []string{
			resources + "application.properties", resources + "application.yml"}}},
	Manifests: []string{"pom.xml", "build.gradle", "build.gradle.kts", "settings.gradle",
		"settings.gradle.kts"},
	Made:     []string{"target", ".gradle"},
	Endings:  []string{".java", ".kt"},
	Language: javaCode,
	Given:    []string{"JAVA_HOME"},
	Tools: []Tool{{Name: "java", Ask: []string{"-version"}, Called: []string{"java"}, Meta: true,
		Images: []string{"openjdk", "eclipse-temurin", "amazoncorretto"},
		Packages: map[string]string{"pacman": "jdk-openjdk", "apt": "default-jdk",
			"dnf": "java-latest-openjdk-devel", "brew": "openjdk", "apk": "openjdk21"}}},
	VersionManagers: []string{"sdk"},
	Logins:          []string{".m2/settings.xml", ".gradle/gradle.properties"},
	Public:          []string{"repo.maven.apache.org", "repo1.maven.org"},
	Verbs:           []Verb{{Serves, []string{"java *"}}},
}

// javaCode is that of Java and of Kotlin.
var javaCode = &Language{
	Comments:  slashes,
	Blocks:    starred,
	Quotes:    []Quote{doubled, tripled, letter},
	Accesses:  append(callsFor(false, "System.getenv"), holds(false, "System.getenv()")...),
	Else:      append([]string{"?"}, usualElse...),
	ElseCalls: []string{"orElse", "orElseGet"},
	MustCalls: endsWithout,
}

const resources = "src/main/resources/"

// springConfig are the files of an application, and of its profiles for work on it, in the order in
// which the later ones win; the folder config lies nearer.
var springConfig = func() (out []string) {
	for _, dir := range []string{"", "config/"} {
		for _, profile := range []string{"", "-default", "-dev", "-development", "-local"} {
			for _, ending := range []string{".properties", ".yml", ".yaml"} {
				out = append(out, resources+dir+"application"+profile+ending)
			}
		}
	}
	return out
}()

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
	gradleUses    = expr.New(`["']([\w.-]+:[\w.-]+)(?::[^"']*)?["']`)
	gradleDefault = expr.New(`(?m)^\s*defaultTasks\b\s*\(?=?(.*)$`)
	javaMain      = expr.New(`public static void main\(`)
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
		for _, name := range slices.Backward(springConfig) {
			form := springYAMLPort
			if path.Ext(name) == ".properties" {
				form = springPort
			}
			if port, portAt = f.portByCode(form, name); port > 0 {
				break
			}
		}
	}
	if port == 0 {
		port, portAt = 8080, at
	}
	p.Serve = &stack.Serve{Command: command, At: at, Ports: httpPort(port, portAt),
		PortBy: stack.PortBy{Env: env}, Source: stack.FromFramework}
}

// android leaves out what only another system's kit can build.
func (f Folder) android(out *Finding, text string) {
	if strings.Contains(text, "com.android.application") ||
		strings.Contains(text, "com.android.library") ||
		strings.Contains(text, "android-maven-plugin") {
		out.Project.NotHere = "it is a program for Android, which takes the Android SDK and a " +
			"device"
		out.Project.Serve = nil
		out.Project.Steps = nil
	}
}

// packingGoals are what the managers of Java call the packing of a program, beyond the compiling of
// its classes.
var packingGoals = []string{"package", "install", "verify", "assemble", "build", "jar", "bootJar",
	"war"}

// Packs reports whether a command of one of Java's managers makes a package.
func Packs(words []string) bool {
	return Of(words) == java &&
		slices.ContainsFunc(words, func(w string) bool { return slices.Contains(packingGoals, w) })
}
