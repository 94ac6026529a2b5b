package project

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"nightdrill.dev/internal/core/plan"
)

// cost reads what the user pays.
func (l *loader) cost(o *object) {
	c := o.child("cost", "currency", "memory", "cpu", "request", "round_up", "at_least", "billed")
	if c == nil {
		return
	}
	r := &plan.Rates{Currency: c.text("currency", ""), GiBSecond: c.number("memory"), CPUSecond: c.number("cpu"),
		Request: c.number("request"),
		RoundUp: c.duration("round_up", 0, 0), AtLeast: c.duration("at_least", 0, 0)}
	for i, n := range c.list("billed") {
		if name, ok := l.text(n, fmt.Sprintf("%s[%d]", c.at("billed"), i)); ok && !slices.Contains(plan.BilledPhases,
			name) {
			l.wrong(n, "%s[%d]: %q is not a phase; available: %s", c.at("billed"), i, name, listed(plan.BilledPhases))
		} else if ok {
			r.Billed = append(r.Billed, name)
		}
	}
	if c.fields["billed"] == nil {
		r.Billed = []string{"start", "invocation"}
	}
	if r.GiBSecond == 0 && r.CPUSecond == 0 && r.Request == 0 {
		l.wrong(c.node, "%s has no rate; give it memory (one GiB for one second), cpu (one processor for one second) "+
			"or request", c.path)
	}
	l.p.Rates = r
}

// number reads a number that is not negative.
func (o *object) number(key string) float64 {
	n := o.fields[key]
	if n == nil {
		return 0
	}
	v, err := strconv.ParseFloat(o.text(key, ""), 64)
	if err != nil || v < 0 || math.IsInf(v, 0) || math.IsNaN(v) {
		o.r.wrong(n, "%s: %q must be a number of at least 0", o.at(key), o.text(key, ""))
		return 0
	}
	return v
}

// keeping reads the rule by which old runs are trimmed.
func (l *loader) keeping(o *object) {
	k := o.child("runs", "keep", "for", "size", "share")
	if k == nil {
		return
	}
	l.p.Keep.Runs = k.whole("keep", 0, 1)
	if n := k.fields["for"]; n != nil {
		text := k.text("for", "")
		if days, ok := days(text); ok {
			l.p.Keep.For = days
		} else {
			l.p.Keep.For = k.duration("for", 0, time.Minute)
		}
	}
	if n := k.fields["size"]; n != nil {
		bytes, err := plan.ParseSize(k.text("size", ""), 1<<50)
		if l.p.Keep.Bytes = bytes; err != nil || bytes < 1<<20 {
			l.wrong(n, "%s: %q must be a size of at least 1 MiB, such as 500MiB", k.at("size"), k.text("size", ""))
		}
	}
	l.sharing(k)
}

// sharing reads where a team keeps its runs.
func (l *loader) sharing(k *object) {
	o := k.child("share", "url", "password")
	if o == nil {
		return
	}
	s := plan.Share{URL: o.need("url", "postgres://ferries@db.example/drills")}
	s.PasswordEnv = l.passwordEnv(o, "SHARED_RUNS_PASSWORD", "the shared store of runs")
	if s.URL == "" {
		return
	}
	if why := plan.CheckShareURL(s.URL); why != "" {
		l.wrong(o.fields["url"], "%s: %s", o.at("url"), why)
		return
	}
	l.p.Share = &s
}

// days reads a number of days, such as 30d.
func days(text string) (time.Duration, bool) {
	if len(text) < 2 || text[len(text)-1] != 'd' {
		return 0, false
	}
	n, err := strconv.ParseUint(text[:len(text)-1], 10, 16)
	return time.Duration(n) * 24 * time.Hour, err == nil && n > 0
}
