package survey_test

import (
	"fmt"
	"testing/fstest"

	"nimbleharbor/internal/survey"
)

// A file system is enough for a survey: nothing runs, nothing is written.
func ExampleSurvey() {
	s, err := survey.Survey(fstest.MapFS{
		"compose.yaml": {Data: []byte("services:\n  db: {image: 'postgres:16'}\n" +
			"  counter: {build: counter, depends_on: [db], ports: ['4310:80']}\n")},
		"counter/Dockerfile":   {Data: []byte("FROM node:22\n")},
		"counter/package.json": {Data: []byte(`{"scripts": {"start": "node counter.js --port 80"}}`)},
	}, survey.Options{System: "linux"})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, service := range s.Services {
		fmt.Println(service.Name, service.Runs)
		for _, port := range service.Ports {
			fmt.Println("  on port", port.Host)
		}
	}
	// Output:
	// db container
	// counter container
	//   on port 4310
}
