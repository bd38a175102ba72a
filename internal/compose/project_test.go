package compose

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
)

// TestWhatServicesNeed reads the keys that say what a service waits for, and whether it is started
// again.
func TestWhatServicesNeed(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"links: [db, 'cache:store']":                                    "db begun, cache begun",
		"volumes_from: ['db:ro', 'container:else']":                     "db begun",
		"network_mode: 'service:db'":                                    "db begun",
		"links: [db]\n    depends_on: [db]":                             "db begun",
		"depends_on: {db: {condition: service_healthy}}":                "db answering",
		"depends_on: {db: {condition: service_completed_successfully}}": "db finished",
		"restart: always":                                               "again",
		"restart: unless-stopped":                                       "again",
		"restart: 'no'":                                                 "",
		"restart: on-failure":                                           "again on failure",
		"restart: on-failure:3":                                         "again on failure 3",
	} {
		file := "services:\n  web:\n    image: saltmarsh/web:1\n    " +
			text + "\n  db: {image: 'saltmarsh/db:1'}\n  cache: {image: 'saltmarsh/cache:1'}\n"
		p, err := Load(fstest.MapFS{"compose.yaml": {Data: []byte(file)}}, ".", Options{})
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		var got []string
		for _, s := range p.Services {
			if s.Name != "web" {
				continue
			}
			for _, a := range s.After {
				got = append(got, fmt.Sprintf("%s %s", a.Service, a.Until))
			}
			if s.Restart {
				rule := "again"
				if s.RestartOnFailure {
					rule += " on failure"
				}
				if s.RestartTimes > 0 {
					rule += fmt.Sprint(" ", s.RestartTimes)
				}
				got = append(got, rule)
			}
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %s, want %s", text, strings.Join(got, ", "), want)
		}
	}
}
