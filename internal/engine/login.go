package engine

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"net"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/moby/moby/api/types/registry"

	"nimbleharbor/internal/reading"
)

// hub is how the registry of images without one in their name is called where logins are kept.
const hub = "https://index.docker.io/v1/"

// loginFile is where the engine's own command keeps logins, as far as they matter here.
type loginFile struct {
	Auths map[string]struct {
		Auth          string `json:"auth"` // USER:PASSWORD in base64
		IdentityToken string `json:"identitytoken"`
	} `json:"auths"`
	Store   string            `json:"credsStore"`
	Helpers map[string]string `json:"credHelpers"` // by registry
}

func readLogins() (l loginFile) {
	if data, err := reading.File(filepath.Join(configDir(), "config.json"), maxConfig); err == nil {
		json.Unmarshal(data, &l) // what can't be read is no login
	}
	return l
}

// registryOf is the registry of an image's reference, as logins call it.
func registryOf(ref string) string {
	host, _, found := strings.Cut(ref, "/")
	if !found || !strings.ContainsAny(host, ".:") && host != "localhost" || host == "docker.io" {
		return hub
	}
	return host
}

// login is what was kept for a registry: by a helper, a store of the system's, or in the file
// itself.
func (l *loginFile) login(ctx context.Context, host string) (registry.AuthConfig, bool) {
	helper := l.Helpers[host]
	if helper == "" {
		helper = l.Store
	}
	if helper != "" {
		if auth, ok := askHelper(ctx, helper, host); ok {
			return auth, true
		}
	}
	kept, ok := l.Auths[host]
	if !ok {
		kept, ok = l.Auths["https://"+host]
	}
	if !ok {
		return registry.AuthConfig{}, false
	}
	auth := registry.AuthConfig{ServerAddress: host, IdentityToken: kept.IdentityToken}
	if plain, err := base64.StdEncoding.DecodeString(kept.Auth); err == nil {
		auth.Username, auth.Password, _ = strings.Cut(string(plain), ":")
	}
	return auth, auth.Username != "" || auth.IdentityToken != ""
}

// knows reports whether a registry is one that this machine deals with anyway: the usual one, those
// that a login is kept for, and those on this machine. Any other may be named by a checkout that
// nobody has read.
func (l *loginFile) knows(host string) bool {
	name, _, _ := strings.Cut(host, ":")
	if ip := net.ParseIP(name); host == hub || name == "localhost" || ip != nil && ip.IsLoopback() {
		return true
	}
	_, kept := l.Auths[host]
	_, keptAs := l.Auths["https://"+host]
	return kept || keptAs || l.Helpers[host] != ""
}

// askHelper asks a helper program for a login, by the open protocol of such helpers: the address on
// its input, JSON on its output.
func askHelper(ctx context.Context, name, host string) (registry.AuthConfig, bool) {
	if strings.ContainsAny(name, `/\`) {
		return registry.AuthConfig{}, false
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "docker-credential-"+name, "get")
	cmd.Stdin = strings.NewReader(host)
	out, err := cmd.Output()
	if err != nil {
		return registry.AuthConfig{}, false
	}
	var found struct{ Username, Secret string }
	if json.NewDecoder(bytes.NewReader(out)).Decode(&found) != nil || found.Username == "" {
		return registry.AuthConfig{}, false
	}
	if found.Username == "<token>" {
		return registry.AuthConfig{ServerAddress: host, IdentityToken: found.Secret}, true
	}
	return registry.AuthConfig{ServerAddress: host, Username: found.Username,
		Password: found.Secret}, true
}

// loginFor is what the engine is given to fetch an image with; empty for none.
func loginFor(ctx context.Context, ref string) string {
	logins := readLogins()
	auth, ok := logins.login(ctx, registryOf(ref))
	if !ok {
		return ""
	}
	data, err := json.Marshal(auth)
	if err != nil {
		return ""
	}
	return base64.URLEncoding.EncodeToString(data)
}

// savedLogins are all that a build may need for its base images. Helpers are asked for the
// registries they are named for.
func savedLogins() map[string]registry.AuthConfig {
	logins := readLogins()
	out := map[string]registry.AuthConfig{}
	for host := range logins.Auths {
		if auth, ok := logins.login(context.Background(), host); ok {
			out[host] = auth
		}
	}
	for host := range logins.Helpers {
		if auth, ok := logins.login(context.Background(), host); ok {
			out[host] = auth
		}
	}
	return out
}
