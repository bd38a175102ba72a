package protocol

import (
	"encoding/json"
	"strings"

	"nimbleharbor/internal/expr"
)

// search is the HTTP API of Elasticsearch and OpenSearch: their first page is a JSON object that
// names the cluster.
var search = &Protocol{
	Name:     "elasticsearch",
	Ports:    []int{9200},
	Programs: []string{"elasticsearch", "opensearch"},
	Drivers: []string{"@elastic/elasticsearch", "@opensearch-project/opensearch", "elasticsearch",
		"opensearch-py",
		"github.com/elastic/go-elasticsearch/v8", "github.com/opensearch-project/opensearch-go",
		"searchkick",
		"elasticsearch/elasticsearch", "Elastic.Clients.Elasticsearch", "elasticsearch-dsl"},
	Scheme: "http",
	// One that looks for no others checks nothing when it starts.
	Kernel: &Kernel{"vm.max_map_count", 262144, func(env map[string]string) bool {
		return env["discovery.type"] == "single-node"
	}},
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
		a.status == 401 && (strings.Contains(challenge, "security") ||
			strings.Contains(challenge, "ApiKey") ||
			strings.Contains(challenge, "OpenSearch")) || a.header.Get("X-Elastic-Product") != ""
}
