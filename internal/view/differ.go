package view

import (
	"fmt"
	"time"

	"nimbleharbor/internal/stack"
)

// stands is how everything of a judgement stands, in words, without what changes at each look.
func stands(c stack.Check) (keys []string, says map[string]string) {
	says = map[string]string{}
	add := func(key, text string) {
		if _, ok := says[key]; !ok {
			keys = append(keys, key)
		}
		says[key] = text
	}
	for _, p := range c.Ports {
		text := string(p.Verdict)
		if p.Status > 0 {
			text += fmt.Sprintf("  %s %d", p.Speaks, p.Status)
		}
		if p.Verdict != stack.Answers && p.Cause != "" {
			text += ": " + p.Cause
		}
		add(p.Service+"  "+AddressOf(p), text)
	}
	for _, s := range c.Services {
		if s.Asked == 0 && !s.LeftOut {
			text := string(s.State)
			if !s.Good && s.Cause != "" {
				text += ": " + s.Cause
			}
			add(s.Name, text)
		}
	}
	for _, o := range c.Checks {
		text := "passes"
		if !o.Passes {
			text = "fails: " + o.Cause
		}
		add("check "+o.Name, text)
	}
	return keys, says
}

// Differ reports whether two judgements say something else.
func Differ(before, now stack.Check) bool {
	_, was := stands(before)
	_, is := stands(now)
	if len(was) != len(is) || before.Answers != now.Answers {
		return true
	}
	for key, text := range is {
		if was[key] != text {
			return true
		}
	}
	return false
}

// Differences tells what of a judgement is another than at the look before.
func (t *Text) Differences(before, now stack.Check, since time.Duration) {
	was, saysWas := stands(before)
	is, says := stands(now)
	for _, key := range is {
		if text := says[key]; text != saysWas[key] {
			t.Line("%7.1fs  %s  %s", since.Seconds(), key, text)
		}
	}
	for _, key := range was {
		if _, ok := says[key]; !ok {
			t.Line("%7.1fs  %s  is not asked any more", since.Seconds(), key)
		}
	}
}
