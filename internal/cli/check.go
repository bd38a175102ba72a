package cli

import (
	"context"
	"encoding/xml"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
	"nimbleharbor/internal/workspace"
)

// again is how long check waits between two looks.
const again = time.Second

func checkCommand(a *app) *cobra.Command {
	var watch bool
	var wait time.Duration
	var junit string
	c := &cobra.Command{
		Use: "check", Short: "Speaks to every port and gives a verdict, the cause and the " +
			"remedy", Args: takes(0, 0),
		Long: `Judges the stack as it was launched: how each service stands, and what each port
answers. It ends with 0 only if everything that was launched is as it should be.
Questions of your own belong into nharbor.toml, [check.NAME].`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx := cmd.Context()
			w, err := a.surveyed(ctx, session.WithoutCode)
			if err != nil {
				return err
			}
			if watch {
				return a.checking().watch(ctx, w)
			}
			c, err := a.checking().look(ctx, w, wait)
			if err != nil {
				return err
			}
			a.status = 0
			if !c.Answers {
				a.status = 1
			}
			if junit != "" {
				if err := writeJUnit(junit, c); err != nil {
					return err
				}
			}
			return a.checking().checked(c)
		},
	}
	f := c.Flags()
	f.BoolVar(&watch, "watch", false,
		"look again every second, and tell what changes, until Ctrl-C")
	f.DurationVar(&wait, "wait", 0,
		"look again until everything answers, for so long at most, such as 60s")
	f.StringVar(&junit, "junit", "", "write the verdicts to this file too, as JUnit XML")
	return c
}

// look judges the stack, again and again until it is well or the time is over.
func (a checking) look(ctx context.Context, w *session.Surveyed,
	wait time.Duration) (stack.Check, error) {
	until := time.Now().Add(wait)
	for {
		r, err := record.Read(w.Root)
		if err != nil {
			return stack.Check{}, err
		}
		c := w.Judge(ctx, r)
		if c.Answers || time.Until(until) < again {
			c.Changed = w.Changes(r)
			return c, ctx.Err()
		}
		select {
		case <-ctx.Done():
			return c, ctx.Err()
		case <-time.After(again):
		}
	}
}

// checked shows a judgement.
func (a checking) checked(c stack.Check) error {
	if a.json {
		c.Hide()
		return view.JSON(a.out, c)
	}
	t := a.text()
	t.Check(c)
	t.Blank()
	t.Conclusion(c)
	if c.Changed != nil {
		t.Blank()
		t.Changed(c.Changed)
	}
	return nil
}

// watch tells what changes, until somebody ends it; then the exit code is that of the last look.
func (a checking) watch(ctx context.Context, w *session.Surveyed) error {
	begin, first := time.Now(), true
	var before stack.Check
	for {
		r, err := record.Read(w.Root)
		if err != nil {
			return err
		}
		c := w.Judge(ctx, r)
		if ctx.Err() != nil {
			return nil
		}
		a.status = 0
		if !c.Answers {
			a.status = 1
		}
		switch {
		case a.json:
			if first || view.Differ(before, c) {
				c.Hide()
				if err := view.JSONLine(a.out, c); err != nil {
					return err
				}
			}
		case first:
			if err := a.checked(c); err != nil {
				return err
			}
			a.text().Blank()
			a.text().Line("Looking again every second; Ctrl-C ends it.")
		default:
			a.text().Differences(before, c, time.Since(begin))
		}
		before, first = c, false
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(again):
		}
	}
}

// The form that programs for continuous integration read; several share it.
type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Time     string      `xml:"time,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		Time    string        `xml:"time,attr"`
		Failure *junitFailure `xml:"failure,omitempty"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

// writeJUnit writes a case for each port, for each service without one, and for each own check.
func writeJUnit(file string, c stack.Check) error {
	suite := junitSuite{Name: "nharbor check"}
	total := 0.0
	add := func(class, name string, ms float64, good bool, cause, remedy string) {
		one := junitCase{Name: name, Class: class, Time: fmt.Sprintf("%.4f", ms/1000)}
		if !good {
			suite.Failures++
			one.Failure = &junitFailure{Message: cause, Text: remedy}
		}
		total += ms
		suite.Tests++
		suite.Cases = append(suite.Cases, one)
	}
	asked := map[string]bool{}
	for _, p := range c.Ports {
		asked[p.Service] = true
		add(p.Service, p.URL(), p.LatencyMs, p.Verdict == stack.Answers,
			string(p.Verdict)+": "+p.Cause, p.Remedy)
	}
	for _, s := range c.Services {
		if !asked[s.Name] && !s.LeftOut {
			add(s.Name, "runs", 0, s.Good, s.Cause, s.Remedy)
		}
	}
	for _, o := range c.Checks {
		add(o.Service, o.Name, o.LatencyMs, o.Passes, o.Cause, "")
	}
	suite.Time = fmt.Sprintf("%.4f", total/1000)
	data, err := xml.MarshalIndent(suite, "", "  ")
	if err != nil {
		return err
	}
	return workspace.WriteFile(file, append([]byte(xml.Header), append(data, '\n')...), 0o644)
}
