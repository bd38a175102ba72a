package protocol

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// search is the HTTP API of Elasticsearch and OpenSearch: their first page is a JSON object that names the cluster.
var search = &Protocol{
	Name:     "elasticsearch",
	Ports:    []int{9200},
	Programs: []string{"elasticsearch", "opensearch"},
	Drivers: []string{"@elastic/elasticsearch", "@opensearch-project/opensearch", "elasticsearch", "opensearch-py",
		"github.com/elastic/go-elasticsearch/v8", "github.com/opensearch-project/opensearch-go", "searchkick",
		"elasticsearch/elasticsearch", "Elastic.Clients.Elasticsearch", "elasticsearch-dsl"},
	Scheme: "http",
	images: expr.New(`^(elasticsearch|opensearch)$`),
	keys:   expr.New(`(?i)(^|[_.-])(elastic(search)?|opensearch|search)`),
	ask:    func(t *talk) answer { return t.askNamed("elasticsearch", isSearch) },
}

func isSearch(a *answer) bool {
	var says struct {
		Cluster string `json:"cluster_name"`
		Tagline string
		Version struct{ Number string }
		Error   any
	}
	json.Unmarshal(a.body, &says)
	challenge := a.header.Get("Www-Authenticate")
	return says.Cluster != "" || says.Tagline != "" && says.Version.Number != "" ||
		a.status == 401 && (strings.Contains(challenge, "security") || strings.Contains(challenge, "ApiKey") ||
			strings.Contains(challenge, "OpenSearch")) || a.header.Get("X-Elastic-Product") != ""
}

// s3 is the HTTP API of object stores: whoever asks without a signature gets an error in XML, or the list of buckets.
var s3 = &Protocol{
	Name:     "s3",
	Ports:    []int{4566},
	Programs: []string{"minio"},
	Drivers: []string{
		"@aws-sdk/client-s3",
		"boto3",
		"minio",
		"aws-sdk-s3",
		"github.com/minio/minio-go/v7",
		"AWSSDK.S3",
	},
	Scheme:   "http",
	images:   expr.New(`^(minio|localstack|seaweedfs|garage)$`),
	keys:     expr.New(`(?i)(^|[_.-])(s3|minio|aws)`),
	ask:      func(t *talk) answer { return t.askNamed("s3", isStore) },
	relative: "http",
}

func isStore(a *answer) bool {
	return bytes.Contains(a.body, []byte("<ListAllMyBucketsResult")) ||
		bytes.Contains(a.body, []byte("<Error>")) && bytes.Contains(a.body, []byte("<Code>")) ||
		strings.EqualFold(a.header.Get("Server"), "minio")
}

// askNamed asks for a page, and whether it is that of the protocol.
func (t *talk) askNamed(name string, is func(*answer) bool) answer {
	a := t.askWeb()
	if a.status == 0 || a.verdict == stack.Stranger {
		return a
	}
	if is(&a) {
		if a.speaks == "https" && a.says == "" {
			a.says = "inside of TLS: its address begins with https://"
		}
		a.speaks = name
		return a
	}
	if a.verdict == stack.Errs { // whose error page this is can't be told
		return a
	}
	return answer{verdict: stack.Stranger, speaks: "http", status: a.status, title: a.title}
}

// inspector is the debugging port of JavaScript engines, which tells of itself over HTTP (the DevTools protocol,
// /json/version).
var inspector = &Protocol{
	Name:   "inspector",
	Ports:  []int{9229},
	byUse:  true,
	Scheme: "http",
	ask: func(t *talk) answer {
		t.path = "/json/version"
		a := t.askPage()
		var says struct {
			Browser string
			Version string `json:"Protocol-Version"`
		}
		switch {
		case a.status == http.StatusOK && json.Unmarshal(a.body, &says) == nil && says.Version != "":
			return answer{verdict: stack.Answers, speaks: "inspector", title: oneLine(says.Browser, 40)}
		case a.status != 0:
			return answer{verdict: stack.Stranger, speaks: "http", status: a.status,
				says: fmt.Sprintf("it answers %d where a debugger tells its version", a.status)}
		}
		return a
	},
}
