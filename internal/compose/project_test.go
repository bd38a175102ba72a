package compose

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestTyped reads one service that uses most of what a launch acts on, and looks at its typed form.
func TestTyped(t *testing.T) {
	t.Parallel()
	p, err := Load(fstest.MapFS{"app/compose.yaml": {Data: []byte(`
services:
  web:
    build: {context: ./web, target: dev, args: {A: 1}}
    command: ["serve"]
    entrypoint: /entry
    environment:
      LITERAL: x
      VARIABLE: ${V:-y}
      PASSED:
      FROM_FILE:
    env_file: [{path: a.env, required: false, format: raw}]
    ports: ["127.0.0.1:8080:80", "53:53/udp", "9000-9001:7000-7001"]
    volumes: ["data:/data:ro", "./src:/src"]
    networks: {front: {aliases: [page]}}
    depends_on:
      db: {condition: service_healthy}
      setup: {condition: service_completed_successfully}
      cache: {condition: service_started, required: false}
    healthcheck: {test: "true", interval: 1m, timeout: 2s, retries: 4, start_period: 500ms}
    stop_grace_period: 3s
    stop_signal: SIGINT
    restart: always
    user: "1000"
    working_dir: /srv
    init: true
    read_only: true
    privileged: true
    extra_hosts: ["pier:10.0.0.5"]
    labels: [a=b]
  db: {image: "postgres:16"}
  setup: {image: x, profiles: [tools]}
  cache: {image: x, profiles: [cache]}
networks: {front: {internal: true}}
volumes: {data: {external: true, name: shared}}
`)}, "app/.env": {Data: []byte("FROM_FILE=beside\nV=y\n")}}, "app", Options{})
	if err != nil {
		t.Fatal(err)
	}
	s := p.Service("web")
	c := s.Container
	for what, ok := range map[string]bool{
		"build":        s.Build == "app/web" && c.Dockerfile == "Dockerfile" && c.Target == "dev" && c.BuildArgs["A"] == "1",
		"words":        fmt.Sprint(s.Command, c.Entrypoint) == "[serve] [/entry]",
		"environment":  s.Env["LITERAL"] == "x" && s.Env["VARIABLE"] == "y" && s.EnvLiteral["LITERAL"] && !s.EnvLiteral["VARIABLE"] && strings.Join(s.Unset, " ") == "PASSED" && s.Env["FROM_FILE"] == "beside",
		"places":       s.At.Line == 3 && s.EnvAt["VARIABLE"].Line == 9 && s.EnvAt["VARIABLE"].File == "app/compose.yaml",
		"env file":     len(s.EnvFiles) == 1 && s.EnvFiles[0].Path == "app/a.env" && !s.EnvFiles[0].Required && s.EnvFiles[0].Raw,
		"ports":        len(s.Ports) == 4 && s.Ports[0].HostIP == "127.0.0.1" && s.Ports[0].Speaks == "http" && s.Ports[1].Transport == "udp" && s.Ports[3].Host == 9001 && s.Ports[3].Target == 7001,
		"mounts":       len(c.Mounts) == 2 && c.Mounts[0].ReadOnly && c.Mounts[0].Source == "data" && c.Mounts[1].Source == "app/src" && c.Mounts[1].Type == "bind",
		"networks":     fmt.Sprint(c.Networks, c.Aliases) == "[front] [page]" && p.Networks["front"].Internal && p.Volumes["data"].External && p.Volumes["data"].Name == "shared",
		"order":        len(s.After) == 3 && s.After[0].Until == stack.Answering && s.After[1].Until == stack.Finished && s.After[2].Until == stack.Begun && s.After[2].Optional,
		"health":       c.Health.Interval == 60 && c.Health.Timeout == 2 && c.Health.Retries == 4 && c.Health.StartPeriod == 0.5 && strings.Join(c.Health.Test, " ") == "CMD-SHELL true",
		"the rest":     c.StopGrace == 3 && c.StopSignal == "SIGINT" && s.Restart && c.User == "1000" && c.WorkingDir == "/srv" && c.Init && c.ReadOnly && c.Privileged && c.Labels["a"] == "b" && c.ExtraHosts[0] == "pier=10.0.0.5",
		"what is up":   s.Active && p.Service("db").Active && p.Service("setup").Active && !p.Service("cache").Active,
		"the default":  fmt.Sprint(p.Service("db").Container.Networks) == "[default]" && p.Service("db").Container.StopGrace == 10,
		"project name": p.Name == "app",
		"nobody":       p.Service("nobody") == nil,
	} {
		if !ok {
			t.Errorf("%s: %+v, container %+v", what, s.Service, c)
		}
	}
	if active := p.Active().Get("services"); active.Get("cache") != nil || active.Get("setup") == nil || p.Model.Get("services").Get("cache") == nil {
		t.Error("the active model holds the wrong services")
	}
}

func TestSpeaks(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		image  string
		target int
		want   string
	}{
		{"x", 80, "http"}, {"x", 5432, "postgres"}, {"x", 6379, "redis"}, {"x", 3306, "mysql"}, {"x", 1025, "smtp"}, {"x", 5672, "amqp"}, {"x", 9999, "tcp"},
		{"postgres:16", 9999, "postgres"}, {"registry.example:5000/library/redis@sha256:00", 9999, "redis"}, {"registry.example:5000/app", 9999, "tcp"},
	} {
		if got := Speaks(c.image, c.target); got != c.want {
			t.Errorf("Speaks(%q, %d) = %s, want %s", c.image, c.target, got, c.want)
		}
	}
}

func TestParseBytes(t *testing.T) {
	t.Parallel()
	for s, want := range map[string]int64{"0": 0, "5": 5, "5b": 5, "1k": 1 << 10, "2KB": 2 << 10, "512m": 512 << 20, "1.5gb": 3 << 29, "1 g": 1 << 30, "2t": 2 << 40} {
		if got, err := ParseBytes(s); err != nil || got != want {
			t.Errorf("ParseBytes(%q) = %d, %v; want %d", s, got, err, want)
		}
	}
	for _, s := range []string{"", "m", "-1", "1x", "1mm", "1e9", "99999999999t", "0x10"} {
		if got, err := ParseBytes(s); err == nil {
			t.Errorf("ParseBytes(%q) = %d, and should fail", s, got)
		}
	}
}

func TestMasked(t *testing.T) {
	t.Parallel()
	p, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte(`
services:
  db:
    image: x
    environment: {DB_PASSWORD: canary1, SHORT_SECRET: abc, URL: "http://u:canary2@h/", NAME: abcdef}
    command: --pass canary1 --token ${API_TOKEN} abcdef
secrets:
  token: {environment: NAME}
`)}}, ".", Options{Env: func(k string) (string, bool) { return "canary3", k == "API_TOKEN" }})
	if err != nil {
		t.Fatal(err)
	}
	shown, err := p.Model.Masked(p.Secrets).MarshalJSON()
	if err != nil || strings.Contains(string(shown), "canary") || strings.Contains(string(shown), `"abc"`) || strings.Count(string(shown), "abcdef") != 2 {
		t.Errorf("shown is %s, %v", shown, err)
	}
	if plain, _ := p.Model.MarshalJSON(); strings.Count(string(plain), "canary") != 4 {
		t.Errorf("the model itself was changed: %s", plain)
	}
}
