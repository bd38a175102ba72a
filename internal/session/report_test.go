package session

import (
	"strings"
	"testing"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
)

// TestByHand tells what a person would type for a service, as a shell takes it.
func TestByHand(t *testing.T) {
	t.Parallel()
	plan := &plan.Plan{Rewritten: []plan.Rewritten{{Service: "web", Key: "API_URL", From: "api:80",
		To: "localhost:8100"}, {Service: "other", Key: "X", To: "y"}}}
	spec := func(c stack.ContainerSpec) stack.ContainerWay { return stack.ContainerWay{Container: &c} }
	for want, s := range map[string]stack.Service{
		"# with API_URL leading to localhost:8100\n(cd 'front end' && npm run dev) " +
			"&": {Name: "web", Runs: stack.Native,
			Kind: stack.Lasting, Project: "front end", Command: []string{"npm", "run", "dev"}},
		"sh -c 'a && b'": {Name: "load", Runs: stack.Native, Kind: stack.Once, Project: ".",
			Command: []string{"sh", "-c", "a && b"}},
		"docker run -d --name db --network quay -p 127.0.0.1:5433:5432 -p 127.0.0.1:53:53/udp " +
			"-e 'PASSWORD=***' " +
			"-v data:/data -v \"$PWD\"/'my conf:/conf' -v /etc/x:/x postgres:16 -c " +
			"'log=it'\\''s'": {Name: "db",
			Runs: stack.Container, Kind: stack.Lasting, Image: "postgres:16",
			Env: map[string]string{"PASSWORD": "***"},
			Ports: []stack.Port{{Host: 5433, Target: 5432}, {Target: 9},
				{Host: 53, Target: 53, Transport: "udp"}},
			ContainerWay: spec(stack.ContainerSpec{Mounts: []stack.Mount{
				{Type: "volume", Source: "data", Target: "/data"}, {Type: "bind",
					Source: "my conf", Target: "/conf"},
				{Type: "bind", Source: "/etc/x", Target: "/x"}, {Type: "tmpfs", Target: "/tmp"}}}),
			Command: []string{"-c", "log=it's"}},
		"docker build -t quay-api -f api/Dockerfile.dev --target run --build-arg 'A=b c' api\n" +
			"docker run --rm --name api --network quay --env-file api/.env --entrypoint /run " +
			"quay-api now": {
			Name: "api",
			Runs: stack.Container, Kind: stack.Once, Build: "api",
			FromFiles: stack.FromFiles{EnvFiles: []stack.EnvFileRef{{Path: "api/.env"}}},
			ContainerWay: spec(stack.ContainerSpec{Entrypoint: []string{"/run", "now"},
				Building: stack.Building{
					Dockerfile: "Dockerfile.dev", Target: "run",
					BuildArgs: map[string]string{"A": "b c"}}})},
	} {
		if got := strings.Join(serviceByHand(&s, "quay", plan), "\n"); got != want {
			t.Errorf("%s is, by hand\n%s\nand not\n%s", s.Name, got, want)
		}
	}
}
