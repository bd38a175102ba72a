package protocol

import (
	"encoding/json"
	"fmt"
	"net/http"

	"nimbleharbor/internal/stack"
)

// inspector is the debugging port of JavaScript engines, which tells of itself over HTTP (the
// DevTools protocol, /json/version).
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
		case a.status == http.StatusOK && json.Unmarshal(a.body, &says) == nil &&
			says.Version != "":
			return answer{verdict: stack.Answers, speaks: "inspector",
				title: oneLine(says.Browser, 40)}
		case a.status != 0:
			return answer{verdict: stack.Stranger, speaks: "http", status: a.status,
				says: fmt.Sprintf("it answers %d where a debugger tells its version", a.status)}
		}
		return a
	},
}
