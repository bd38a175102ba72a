package cli

import (
	"context"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/enter"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/session"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/view"
)

func testCommand(a *app) *cobra.Command {
	var vouched pinned
	var list bool
	c := &cobra.Command{
		Use: "test [FOLDER...]", Short: "Runs the projects' own tests against the running stack",
		Long: `Runs the tests that the projects have of their own, those of the folders named or
all, one project after the other in the order of the launch, with the settings of
the launched stack. If they pass, this machine is set up. It ends with 1 if any
test fails.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx := cmd.Context()
			s, err := a.surveyed(ctx, session.WithoutCode)
			if err != nil {
				return err
			}
			r, err := record.Read(s.Root)
			if err != nil {
				return err
			}
			opt := plan.Options{}
			if r.Alive() {
				opt = r.Options
			}
			m, err := s.Mix(opt)
			if err != nil {
				return err
			}
			plan, err := m.Plan()
			if err != nil {
				return err
			}
			tests, err := plan.TestsOf(args)
			if err != nil {
				return err
			}
			if list {
				return a.tests().listTests(ctx, m, tests)
			}
			if !r.Alive() {
				return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
					Text: "the stack is not launched, so that there is nothing to test against",
					Remedy: "Launch it: nharbor launch --background. Which tests there are: " +
						"nharbor test --list"}
			}
			if err := a.agree(ctx, m, testing(tests), vouched); err != nil {
				return err
			}
			return a.tests().runTests(cmd, plan, tests)
		},
	}
	vouchFlag(c, &vouched)
	c.Flags().BoolVar(&list, "list", false, "say which tests there are, and run none")
	return c
}

// testing is what tests start. Which those are is asked anew for a launch that is read anew.
func testing(tests []plan.Test) starting {
	of := func(m *session.Mixed) []plan.Test {
		made, err := m.Plan()
		if err != nil {
			return nil
		}
		return slices.DeleteFunc(slices.Clone(made.Tests), func(t plan.Test) bool {
			return !slices.ContainsFunc(tests, func(o plan.Test) bool { return o.ID == t.ID })
		})
	}
	return starting{
		commands: func(ctx context.Context, m *session.Mixed) ([]consent.Command, bool, error) {
			return m.Tests(ctx, of(m))
		},
		lying:   func(m *session.Mixed) []consent.Command { return m.LyingTests(of(m)) },
		command: "nharbor test --vouch"}
}

func (a tests) listTests(ctx context.Context, m *session.Mixed, tests []plan.Test) error {
	if a.json {
		out := view.TestAnswer{Schema: "nharbor.test/1", Tests: []view.TestResult{}}
		for _, t := range tests {
			out.Tests = append(out.Tests, view.TestResult{Project: t.Project, Command: t.Command})
		}
		return view.JSON(a.out, out)
	}
	if len(tests) == 0 {
		a.text().Line("No project here has tests of its own.")
	}
	list, _, err := m.Tests(ctx, tests)
	a.text().Vouch(list)
	return err
}

func (a tests) runTests(cmd *cobra.Command, plan *plan.Plan, tests []plan.Test) error {
	t, begin := a.text(), time.Now()
	out := view.TestAnswer{Schema: "nharbor.test/1", Passes: len(tests) > 0,
		Tests: []view.TestResult{}}
	if len(tests) == 0 {
		a.status = 1
		if !a.json {
			t.Line("No project here has tests of its own.")
			return nil
		}
	}
	width := 0
	for _, test := range tests {
		width = max(width, len(test.ID.Title()))
	}
	for i := range tests {
		test := &tests[i]
		say := func(line string) {
			if !a.json {
				t.LogLine(time.Since(begin).Seconds(), test.ID.Title(), line, width)
			}
		}
		say("$ " + strings.Join(test.Command, " "))
		done, err := enter.RunTest(cmd.Context(), plan, test, say)
		if err != nil {
			return err
		}
		out.Passes = out.Passes && done.Passed
		out.Tests = append(out.Tests,
			view.TestResult{Project: test.Project, Command: test.Command, Passes: done.Passed,
				Exit: done.Exit, Seconds: math.Round(1000*done.Seconds) / 1000,
				Counts: done.Counts, Cause: done.Cause, Remedy: done.Remedy})
	}
	if !out.Passes {
		a.status = 1
	}
	if a.json {
		return view.JSON(a.out, out)
	}
	t.Tests(out.Tests)
	return nil
}
