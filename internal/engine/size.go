package engine

import (
	"context"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"

	"nimbleharbor/internal/expr"
)

// unpacked is how many bytes an image takes for each that is fetched, roughly: layers travel
// compressed.
const unpacked = 2.5

// sizeOf asks an image's registry, by the open protocol for distributing images, what its layers
// weigh, and tells roughly what they will take, in bytes.
func sizeOf(ctx context.Context, ref, platform string) (uint64, bool) {
	r := newRegistry(ctx, ref)
	m, ok := r.manifest(r.reference)
	for _, one := range m.Manifests { // an image for several platforms
		if p := one.Platform; p.OS+"/"+p.Architecture == usual(platform) {
			m, ok = r.manifest(one.Digest)
			break
		}
	}
	var size uint64
	for _, l := range m.Layers {
		size += uint64(max(l.Size, 0))
	}
	return uint64(float64(size) * unpacked), ok && size > 0
}

// usual is a platform by the names that manifests have for processors.
func usual(platform string) string {
	for other, name := range map[string]string{"/x86_64": "/amd64", "/aarch64": "/arm64"} {
		platform = strings.Replace(platform, other, name, 1)
	}
	return platform
}

// remote is a repository of a registry, as one image is asked for there.
type remote struct {
	ctx              context.Context
	base, repository string
	reference        string // a tag or a digest
	login            *url.Userinfo
	pass             string // what the registry was told last; empty for nothing
}

func newRegistry(ctx context.Context, ref string) *remote {
	host := registryOf(ref)
	r := &remote{ctx: ctx, repository: strings.TrimPrefix(ref, host+"/"), reference: "latest"}
	logins := readLogins()
	if auth, ok := logins.login(ctx, host); ok && auth.Username != "" {
		r.login = url.UserPassword(auth.Username, auth.Password)
	}
	if host == hub {
		host = "registry-1.docker.io"
		if r.repository = strings.TrimPrefix(ref, "docker.io/"); !strings.Contains(r.repository,
			"/") {
			r.repository = "library/" + r.repository
		}
	}
	if name, digest, ok := strings.Cut(r.repository, "@"); ok {
		r.repository, r.reference = name, digest
		r.repository, _, _ = strings.Cut(r.repository, ":")
	} else if name, tag, ok := strings.Cut(r.repository, ":"); ok {
		r.repository, r.reference = name, tag
	}
	r.base = "https://" + host
	if name, _, err := net.SplitHostPort(host); err == nil &&
		(name == "localhost" || net.ParseIP(name).IsLoopback()) {
		r.base = "http://" + host // as engines do
	}
	return r
}

type manifest struct {
	Layers    []struct{ Size int64 }
	Manifests []struct {
		Digest   string
		Platform struct{ OS, Architecture string }
	}
}

// maxAnswer bounds what a registry may answer, in bytes.
const maxAnswer = 4 << 20

func (r *remote) manifest(reference string) (m manifest, ok bool) {
	for range 2 {
		answer, err := r.get(r.base+"/v2/"+r.repository+"/manifests/"+reference,
			"application/vnd.oci.image.index.v1+json, application/vnd.oci.image.manifest.v1+json, "+
				"application/vnd.docker.distribution.manifest.list.v2+json, "+
				"application/vnd.docker.distribution.manifest.v2+json", r.pass)
		if err != nil {
			return m, false
		}
		defer answer.Body.Close()
		if answer.StatusCode == http.StatusUnauthorized && r.pass == "" &&
			r.letIn(answer.Header.Get("WWW-Authenticate")) {
			continue
		}
		return m, answer.StatusCode == http.StatusOK &&
			json.NewDecoder(io.LimitReader(answer.Body, maxAnswer)).Decode(&m) == nil
	}
	return m, false
}

var challengeParts = expr.New(`(realm|service|scope)="([^"]*)"`)

// letIn gets what a registry wants to be shown, which it names in its refusal: a pass from where it
// says, or the login. A login goes to no other place than over an encrypted connection, or to this
// machine.
func (r *remote) letIn(challenge string) bool {
	if strings.HasPrefix(strings.ToLower(challenge), "basic") && r.login != nil {
		r.pass = basic(r.login)
		return true
	}
	parts := url.Values{}
	for _, p := range challengeParts.FindAllStringSubmatch(challenge, -1) {
		parts.Set(p[1], p[2])
	}
	realm, err := url.Parse(parts.Get("realm"))
	if err != nil || realm.Scheme != "https" && realm.Scheme != strings.SplitN(r.base, ":", 2)[0] {
		return false
	}
	parts.Del("realm")
	realm.RawQuery = parts.Encode()
	answer, err := r.get(realm.String(), "application/json", basic(r.login))
	if err != nil {
		return false
	}
	defer answer.Body.Close()
	var given struct {
		Token  string
		Access string `json:"access_token"`
	}
	// without a token it says nothing
	json.NewDecoder(io.LimitReader(answer.Body, maxAnswer)).Decode(&given)
	if given.Token == "" {
		given.Token = given.Access
	}
	r.pass = "Bearer " + given.Token
	return given.Token != ""
}

func basic(login *url.Userinfo) string {
	if login == nil {
		return ""
	}
	password, _ := login.Password()
	request := http.Request{Header: http.Header{}}
	request.SetBasicAuth(login.Username(), password)
	return request.Header.Get("Authorization")
}

func (r *remote) get(address, accepts, pass string) (*http.Response, error) {
	request, err := http.NewRequestWithContext(r.ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	request.Header.Set("Accept", accepts)
	if pass != "" {
		request.Header.Set("Authorization", pass)
	}
	return http.DefaultClient.Do(request)
}
