package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"nimbleharbor/internal/stack"
)

// wrongCall is the fault of a call that is wrong in itself.
func wrongCall(text, remedy string) *stack.Fault {
	return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeWrongCall, Text: text,
		Remedy: remedy}
}

const seeHelp = "See what can be asked: nharbor --help"

// unbounded is a number of words without an upper bound.
const unbounded = -1

// takes refuses a call with fewer or more words behind the command than these.
func takes(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, words []string) error {
		help := fmt.Sprintf("See what it takes: %s --help", c.CommandPath())
		switch {
		case len(words) < least:
			return wrongCall(c.CommandPath()+" lacks what it is to work on", help)
		case most != unbounded && len(words) > most:
			return wrongCall(fmt.Sprintf("%s can do nothing with %q", c.CommandPath(),
				words[most]), help)
		}
		return nil
	}
}

// careful lets a command, and those below it, answer an unknown option, and a command that there is
// not, with a fault of ours.
func careful(c *cobra.Command) {
	c.SetFlagErrorFunc(func(_ *cobra.Command, err error) error {
		return wrongCall(err.Error(), seeHelp)
	})
	if c.HasSubCommands() && !c.Runnable() {
		c.Args, c.RunE = cobra.ArbitraryArgs, unknownCommand
	}
	for _, sub := range c.Commands() {
		careful(sub)
	}
}

// plainUsage shows a command that only holds others as such, although it answers calls itself.
func plainUsage(root *cobra.Command) {
	usual := root.UsageFunc()
	root.SetUsageFunc(func(c *cobra.Command) error {
		if c.HasSubCommands() {
			answer := c.RunE
			c.RunE = nil
			defer func() { c.RunE = answer }()
		}
		return usual(c)
	})
}

// unknownCommand answers a call whose first word is no command: with what it may mean, or what
// there is.
func unknownCommand(c *cobra.Command, words []string) error {
	if len(words) == 0 {
		return c.Help()
	}
	c.SuggestionsMinimumDistance = 2
	near := c.SuggestionsFor(words[0])
	remedy := seeHelp
	if len(near) > 0 {
		remedy = fmt.Sprintf("Did you mean %s? %s", strings.Join(near, ", or "), seeHelp)
	}
	return wrongCall(fmt.Sprintf("%s has no command %q", c.CommandPath(), words[0]), remedy)
}

// notTogether refuses two options in one call.
func notTogether(c *cobra.Command, one, other string) {
	before := c.PreRunE
	c.PreRunE = func(c *cobra.Command, words []string) error {
		if c.Flags().Changed(one) && c.Flags().Changed(other) {
			return wrongCall(fmt.Sprintf("--%s and --%s can't go together", one, other),
				"Leave one of them out.")
		}
		if before == nil {
			return nil
		}
		return before(c, words)
	}
}
