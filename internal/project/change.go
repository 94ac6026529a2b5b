package project

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// limitNames are the limits that a word can change.
var limitNames = append(slices.Clone(plan.LimitNames), "replace")

// ChangeLimits returns a drill with other limits. Each change is FUNCTION.LIMIT=VALUE
// or concurrency=VALUE, from the beginning on, or with @TIME from then on;
// FUNCTION.replace@TIME replaces the instances. The error says which is wrong, and why.
func ChangeLimits(p *plan.Project, d *plan.Drill, changes []string) (*plan.Drill, error) {
	changed := *d
	changed.Limits, changed.Changes = slices.Clone(d.Limits), slices.Clone(d.Changes)
	type later struct {
		at   time.Duration
		text string
	}
	var after []later
	for _, text := range changes {
		what, at, timed := strings.Cut(text, "@")
		if !timed {
			if err := changeOne(p, &changed, what, changed.Limits, nil); err != nil {
				return nil, fmt.Errorf("--limit %s: %w", text, err)
			}
			continue
		}
		t, err := time.ParseDuration(at)
		if err != nil || t < 0 {
			return nil, fmt.Errorf("--limit %s: %q is not a time since the drill began, such as 5s", text, at)
		}
		after = append(after, later{t, what})
	}
	if len(after) > 0 && d.Cold != nil {
		return nil, fmt.Errorf("a drill of cold starts sends one event after the other; nothing can change meanwhile")
	}
	slices.SortStableFunc(after, func(a, b later) int { return int(a.at - b.at) })
	now := slices.Clone(changed.Limits)
	if len(d.Changes) > 0 { // the drill's own are made anew, so that both are in the order of their times
		changed.Changes = nil
	}
	own := d.Changes
	for _, x := range after {
		for ; len(own) > 0 && own[0].At <= x.at; own = own[1:] {
			changed.Changes = append(changed.Changes, own[0])
			if own[0].Function >= 0 {
				now[own[0].Function] = own[0].Limits
			}
		}
		if err := changeOne(p, &changed, x.text, now, &x.at); err != nil {
			return nil, fmt.Errorf("--limit %s@%v: %w", x.text, x.at, err)
		}
	}
	changed.Changes = append(changed.Changes, own...)
	for i := range changed.Limits {
		if why := p.Functions[i].CheckLimits(&changed.Limits[i]); why != "" {
			return nil, fmt.Errorf("--limit: %s: %s", p.Functions[i].Name, why)
		}
	}
	if why := plan.SharesFit(changed.Concurrency, changed.Limits); why != "" {
		return nil, fmt.Errorf("--limit: %s", why)
	}
	return &changed, nil
}

// changeOne makes one change to limits, at once or at a time.
func changeOne(p *plan.Project, d *plan.Drill, text string, limits []plan.Limits, at *time.Duration) error {
	what, value, has := strings.Cut(text, "=")
	if what == "concurrency" {
		n, err := strconv.Atoi(value)
		if err != nil || n < 1 {
			return fmt.Errorf("%q is not a whole number of at least 1", value)
		}
		if at == nil {
			d.Concurrency = n
		} else if why := plan.SharesFit(n, limits); why != "" {
			return fmt.Errorf("%s", why)
		} else {
			d.Changes = append(d.Changes, plan.Change{At: *at, Function: -1, Concurrency: n})
		}
		return nil
	}
	name, limit, ok := strings.Cut(what, ".")
	if !ok {
		return fmt.Errorf("expected FUNCTION.LIMIT=VALUE, such as quote.max=2, or concurrency=12")
	}
	fn := p.FunctionNamed(name)
	if fn < 0 {
		var names []string
		for i := range p.Functions {
			names = append(names, p.Functions[i].Name)
		}
		return fmt.Errorf("unknown function %q%s", name, didYouMean(name, names))
	}
	if !slices.Contains(limitNames, limit) {
		return fmt.Errorf("unknown limit %q%s; available: %s", limit, didYouMean(limit, limitNames), listed(limitNames))
	}
	if limit == "replace" {
		if at == nil || has {
			return fmt.Errorf("missing time, such as %s.replace@5s", name)
		}
		d.Changes = append(d.Changes, plan.Change{At: *at, Function: fn, Limits: limits[fn], Replace: true})
		return nil
	}
	l := &limits[fn]
	err := l.Set(limit, value)
	if limit == "max" && err == nil {
		l.Guaranteed = min(l.Guaranteed, l.Max)
		l.KeepWarm = min(l.KeepWarm, l.Instances())
	}
	if err != nil || at == nil {
		return err
	}
	if why := p.Functions[fn].CheckLimits(l); why != "" {
		return fmt.Errorf("%s", why)
	}
	d.Changes = append(d.Changes, plan.Change{At: *at, Function: fn, Limits: *l})
	return nil
}
