package session

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/session/catalog"
)

// Checked is a payload that has expectations, after it was fired once.
type Checked struct {
	Source string
	Title  string
	Key    string        // of the item; "" for a set that cannot be fired
	Took   time.Duration // from its arrival to its end
	Broken []string      // what is not as expected; nil when everything holds
}

// Name returns what was fired, and at which source.
func (c *Checked) Name() string {
	if c.Key == "" {
		return c.Title
	}
	return c.Source + " " + c.Title
}

// Checks is how the expectations of the project stand.
type Checks struct {
	On      bool      // all are checked after every change
	Going   bool      // not all have been fired yet
	Round   int       // of the session, from 1; 0 before the first
	All     int       // how many there are
	Results []Checked // of those that were fired
	At      time.Time // when the last one was fired
}

// Broken returns those that are not as expected.
func (c *Checks) Broken() (out []*Checked) {
	for i := range c.Results {
		if c.Results[i].Broken != nil {
			out = append(out, &c.Results[i])
		}
	}
	return out
}

// Words returns how the expectations stand in a few words; "" before any was fired.
func (c *Checks) Words() string {
	broken := c.Broken()
	switch {
	case c.All == 0 && !c.Going && !c.At.IsZero():
		return "no payload has expectations"
	case c.All == 0:
		return ""
	case c.Going:
		return fmt.Sprintf("checking %d of %d", len(c.Results), c.All)
	case len(broken) == 0:
		return fmt.Sprintf("%d of %d hold", c.All, c.All)
	case len(broken) == 1:
		return broken[0].Name() + " broke"
	}
	return fmt.Sprintf("%d of %d broke", len(broken), c.All)
}

// CheckAll fires every payload that has expectations once, one after the other, those that
// reach one of the functions named first before the others, and reports each as soon as it is
// known. A set of which it is not clear to which source it goes is reported as broken. It
// returns how many there were, with an error only if ctx ended.
func (s *Session) CheckAll(ctx context.Context, o Order, first []string, each func(all int, x *Checked)) (int, error) {
	astray := s.astray()
	items := slices.DeleteFunc(slices.Clone(s.List()),
		func(i *catalog.Item) bool { return i.Expect == nil || astray[i.Set] != "" })
	if len(first) > 0 {
		slices.SortStableFunc(items, func(a, b *catalog.Item) int { return s.rank(a, first) - s.rank(b, first) })
	}
	all := len(items) + len(astray)
	tell := func(x Checked) { each(all, &x) }
	for _, set := range slices.Sorted(maps.Keys(astray)) {
		tell(Checked{Source: set, Title: set, Broken: []string{astray[set]}})
	}
	for _, item := range items {
		o.Item = item
		f := s.Fire(o)
		select {
		case <-f.whole:
		case <-ctx.Done():
			f.Stop()
			return all, ctx.Err()
		}
		if ctx.Err() != nil {
			return all, ctx.Err()
		}
		v := s.Look(f)
		tell(Checked{Source: item.SourceName, Title: item.Title(), Key: item.Key(), Took: v.Latency(),
			Broken: s.broken(&v)})
	}
	return all, nil
}

// rank is 0 for an item that reaches one of the functions, 1 for another.
func (s *Session) rank(i *catalog.Item, functions []string) int {
	whole := s.Plan()
	if i.Source < len(whole.Sources) {
		for _, w := range whole.Sources[i.Source].Wires {
			if slices.Contains(functions, whole.Functions[w.To].Name) {
				return 0
			}
		}
	}
	return 1
}

// broken returns what of a firing is not as expected.
func (s *Session) broken(v *Shown) (out []string) {
	if v.Refused != nil {
		head, _, _ := strings.Cut(v.Refused.Text, "\n")
		return []string{"not sent: " + head}
	}
	out = v.Unexpected()
	t := v.Last()
	if len(out) > 0 || v.Outcome() == engine.Done || t != nil && t.Reply != nil && t.Reply.Status > 0 {
		return out
	}
	why := ""
	if t != nil {
		if why = t.Why; why == "" && t.Result != engine.OK {
			why = t.Result.String()
		}
	}
	for _, step := range s.Trace(v) {
		if step.Depth == 0 && step.Outcome == engine.Unmatched {
			why = step.Why
		}
	}
	head, _, _ := strings.Cut(why, "\n")
	return []string{strings.TrimSpace(v.Outcome().Words() + " " + head)}
}

// astray returns the sets whose expectations cannot be fired, since it is not clear to
// which source, with what to do.
func (s *Session) astray() map[string]string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := map[string]string{}
	for i := range s.Sets {
		set := &s.Sets[i]
		expects := false
		for n := range set.Payloads {
			expects = expects || set.ExpectOf(n) != nil
		}
		to, said := s.Reach(i)
		switch {
		case !expects || said && len(to) > 0:
		case len(to) == 0:
			out[set.Name] = fmt.Sprintf("its expectations reach no source; name one in payloads.%s.reaches, such as "+
				"reaches: [SOURCE]", set.Name)
		case len(to) > 1:
			var names []string
			for _, k := range to {
				names = append(names, s.Sources[k].Name)
			}
			out[set.Name] = fmt.Sprintf("its expectations could be meant for %s; name the source in "+
				"payloads.%s.reaches, such as reaches: [%s]", strings.Join(names, " or "), set.Name, names[0])
		}
	}
	return out
}

// SetChecking sets whether all expectations are checked after each change. Setting it checks
// them once.
func (s *Session) SetChecking(on bool) {
	s.mu.Lock()
	s.checks.On = on
	s.mu.Unlock()
	if on {
		s.checkAgain(nil)
	} else {
		s.stopChecks()
	}
	s.changed()
}

// Checks returns how the expectations stand.
func (s *Session) Checks() Checks {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.checks // results are only ever added
}

// stopChecks interrupts a round of checks that is in progress.
func (s *Session) stopChecks() {
	s.mu.Lock()
	stop := s.endChecks
	s.mu.Unlock()
	if stop != nil {
		stop()
	}
}

// checkAgain checks all expectations where that is wanted, in place of a round that is going
// on: those of the functions that changed first.
func (s *Session) checkAgain(changed []string) {
	s.mu.Lock()
	if !s.checks.On || s.paused != "" {
		s.mu.Unlock()
		return
	}
	if s.endChecks != nil {
		s.endChecks()
	}
	ctx, end := context.WithCancel(s.life)
	before := s.checked
	over := make(chan struct{})
	s.endChecks, s.checked = end, over
	s.mu.Unlock()
	go func() {
		defer close(over)
		defer end()
		if before != nil {
			<-before
		}
		set := func(change func(c *Checks)) {
			s.mu.Lock()
			change(&s.checks)
			s.mu.Unlock()
			s.changed()
		}
		if ctx.Err() != nil {
			return
		}
		set(func(c *Checks) { *c = Checks{On: c.On, Going: true, Round: c.Round + 1} })
		n, err := s.CheckAll(ctx, Order{Origin: AfterChange}, changed, func(all int, x *Checked) {
			set(func(c *Checks) {
				c.All, c.At = all, time.Now()
				c.Results = append(c.Results, *x)
			})
		})
		set(func(c *Checks) {
			if c.Going = false; err == nil {
				c.All, c.At = n, time.Now()
			} else {
				*c = Checks{On: c.On, Round: c.Round} // interrupted: nothing is said of the rest
			}
		})
	}()
}
