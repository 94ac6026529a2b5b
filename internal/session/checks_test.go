package session

import (
	"fmt"
	"strings"
	"testing"
)

// All expectations are checked when that is switched on, and after each change; a round that is interrupted says
// nothing, and one that is switched off does not come again.
func TestChecks(t *testing.T) {
	s, dir := lay(t, strings.Replace(standing, "some.har, ", "some.har, reaches: [asks], ", 1))
	if c := s.Checks(); c.Words() != "" || c.On {
		t.Errorf("before: %+v", c)
	}
	s.SetChecking(true)
	after := func(round int) Checks {
		t.Helper()
		until(t, "a round of checks", func() bool {
			c := s.Checks()
			return c.Round >= round && !c.Going &&
				!c.At.IsZero()
		})
		return s.Checks()
	}
	c := after(1)
	broken := c.Broken()
	if c.Words() != "asks some#2 broke" || len(broken) != 1 || c.All != 2 ||
		!strings.HasPrefix(broken[0].Broken[0], "unmatched") || s.Find(broken[0].Key) == nil {
		t.Errorf("%q, %+v", c.Words(), c)
	}
	write(t, dir, "says.txt", "goodbye")
	c = after(c.Round + 1)
	if b := c.Broken(); c.Words() != "2 of 2 broke" || len(b) != 2 ||
		b[0].Broken[0] != `expected /said is "hello", got "goodbye"` {
		t.Errorf("after a change: %q, %+v", c.Words(), c)
	}
	for range 5 { // each interrupts the one before
		s.SetChecking(true)
	}
	c = after(c.Round + 1)
	until(t, "the last round", func() bool { c = s.Checks(); return !c.Going && len(c.Results) == 2 })
	s.SetChecking(false)
	write(t, dir, "says.txt", "hello")
	if v := fire(t, s, "asks some#1", Order{}); len(s.broken(&v)) > 0 {
		t.Errorf("fired by hand: %+v", s.broken(&v))
	}
	if c = s.Checks(); c.On || c.Going {
		t.Errorf("switched off: %+v", c)
	}
	s.SetChecking(true)
	s.Pause("the drill evening is under way")
	if c = s.Checks(); c.Going {
		until(t, "the end of the round", func() bool { return !s.Checks().Going })
	}
	s.Resume()
}

// Whoever fires right after a save gets the code that was saved, and so do those who fire beside them.
func TestFiringRightAfterASave(t *testing.T) {
	s, dir := lay(t, standing)
	for i := range 8 {
		said := fmt.Sprintf("version %d", i)
		write(t, dir, "says.txt", said)
		var all []*Firing
		for range 2 {
			all = append(all, s.Fire(Order{Item: s.Find("asks some#1")}))
		}
		for n, f := range all {
			if v := wait(t, s, f); !strings.Contains(body(&v), said) {
				t.Errorf("firing %d after the save of %q: %s", n+1, said, body(&v))
			}
		}
	}
}
