package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill.dev/internal/core/arrival"
)

// MostPerInstance bounds per_instance.
const MostPerInstance = 1000

// Change is a change of limits, or of a version, while a drill runs.
type Change struct {
	At          time.Duration // since the drill began
	Function    int           // -1 for the project
	Limits      Limits        // of the function from then on
	Concurrency int           // of the project from then on, where Function is -1
	Replace     bool          // the function's instances are replaced as by a new version
}

// ColdStarts makes a drill of cold starts: every variant is started N times, one after the other
// and in turns.
type ColdStarts struct {
	N       int
	Warm    int      // warm invocations of each variant after that, in turns; 0 for none
	Cached  bool     // with the files in the page cache
	Dropped bool     // with the files dropped from the page cache before each start
	Early   bool     // they end where the verdict on the starts is clear
	Of      []string // names of functions and variants; if empty, all that the feeds lead to
}

// DroppedMark is appended to the name of a variant that is started with its files dropped from the
// page cache, where it is also started without.
const DroppedMark = ":dropped"

// SharesFit returns why the guaranteed shares do not fit the project's limit, or "".
func SharesFit(all int, limits []Limits) string {
	sum := 0
	for i := range limits {
		sum += limits[i].Guaranteed
	}
	if sum > all {
		return fmt.Sprintf("the functions' guaranteed shares add up to %d, but the project's concurrency is %d", sum,
			all)
	}
	return ""
}

// Check returns why the limits cannot hold, or "".
func (l *Limits) Check() string {
	switch {
	case l.Max < 0 || l.Guaranteed < 0 || l.KeepWarm < 0 || l.PerInstance < 1 || l.StartBurst < 0 || l.IdleAfter < 0 ||
		l.StartEvery < 0:
		return "limits must not be negative"
	case l.PerInstance > MostPerInstance:
		return fmt.Sprintf("per_instance must be at most %d", MostPerInstance)
	case l.Guaranteed > l.Max:
		return fmt.Sprintf("guaranteed is %d, but max is %d", l.Guaranteed, l.Max)
	case l.KeepWarm > l.Instances():
		return fmt.Sprintf("keep_warm is %d, but a max of %d with %d on each instance needs only %d", l.KeepWarm, l.Max,
			l.PerInstance, l.Instances())
	}
	return ""
}

// CheckLimits returns why the limits cannot hold for the function, or "". Those of an attached
// function follow its one process.
func (f *Function) CheckLimits(l *Limits) string {
	switch f.Transport {
	case Attach:
		l.PerInstance = max(l.Max, 1) // there is one process, and it takes whatever arrives
		if l.KeepWarm > 0 || l.StartEvery > 0 {
			return "an attached function has no limits to set: its process is started elsewhere"
		}
	case OneShot:
		if l.KeepWarm > 0 || l.PerInstance > 1 {
			return "transport: oneshot has a process for each invocation"
		}
	case Lines:
		if l.PerInstance > 1 {
			return "transport: lines handles one event at a time"
		}
	}
	return l.Check()
}

// LimitNames lists the limits that Set accepts.
var LimitNames = []string{"max", "guaranteed", "per_instance", "keep_warm", "idle_after", "start_rate", "start_burst",
	"turn_away"}

// Set sets a limit by its name to a value as it is written. The error says what is wrong with the
// value; whether limits fit together is up to CheckLimits.
func (l *Limits) Set(name, value string) (err error) {
	whole := func(to *int) {
		n, wrong := strconv.Atoi(value)
		if wrong != nil || n < 0 {
			err = fmt.Errorf("%q must be a whole number of at least 0", value)
			return
		}
		*to = n
	}
	switch name {
	case "max":
		whole(&l.Max)
	case "guaranteed":
		whole(&l.Guaranteed)
	case "per_instance":
		whole(&l.PerInstance)
	case "keep_warm":
		whole(&l.KeepWarm)
	case "start_burst":
		whole(&l.StartBurst)
	case "idle_after":
		d, wrong := time.ParseDuration(value)
		if wrong != nil {
			return fmt.Errorf("%q is not a duration, such as 30s", value)
		}
		l.IdleAfter = d
	case "start_rate":
		r, ok := arrival.ParseRate(value)
		switch {
		case value == "unbounded":
			l.StartEvery = 0
		case !ok || r.Events == 0:
			return fmt.Errorf("%q is not a rate, such as 5/s, or unbounded", value)
		default:
			l.StartEvery = Every(r)
		}
	case "turn_away":
		away, wrong := strconv.ParseBool(value)
		if wrong != nil {
			return fmt.Errorf("%q is neither true nor false", value)
		}
		l.TurnAway = away
	default:
		return fmt.Errorf("unknown limit %q", name)
	}
	return err
}

// Every returns the time between two starts at a rate above 0.
func Every(r arrival.Rate) time.Duration {
	return max(time.Duration(float64(r.Per)/float64(r.Events)), 1)
}

// Difference describes how limits differ from those before.
func (l Limits) Difference(before Limits) string {
	var parts []string
	add := func(name string, was, is any) {
		if was != is {
			parts = append(parts, fmt.Sprintf("%s %v → %v", name, was, is))
		}
	}
	add("max", before.Max, l.Max)
	add("guaranteed", before.Guaranteed, l.Guaranteed)
	add("per_instance", before.PerInstance, l.PerInstance)
	add("keep_warm", before.KeepWarm, l.KeepWarm)
	add("idle_after", before.IdleAfter, l.IdleAfter)
	add("start_rate", before.StartRate(), l.StartRate())
	if l.StartEvery > 0 {
		add("start_burst", max(before.StartBurst, 1), max(l.StartBurst, 1))
	}
	if l.TurnAway != before.TurnAway {
		parts = append(parts, map[bool]string{true: "rejects everything", false: "accepts events again"}[l.TurnAway])
	}
	return strings.Join(parts, ", ")
}

// StartRate formats how fast instances may be added.
func (l Limits) StartRate() string {
	if l.StartEvery <= 0 {
		return "unbounded"
	}
	for _, u := range []struct {
		name string
		per  time.Duration
	}{{"s", time.Second}, {"m", time.Minute}, {"h", time.Hour}} {
		if n := float64(u.per) / float64(l.StartEvery); n >= 0.9999 {
			return strings.TrimRight(strings.TrimRight(fmt.Sprintf("%.3f", n), "0"), ".") + "/" + u.name
		}
	}
	return fmt.Sprintf("%.3f/h", float64(time.Hour)/float64(l.StartEvery))
}

// ColdPlan returns the plan of a drill of cold starts: every variant is a function of its own, and
// each has a source that leads to it. The feeds are in the order in which the starts take turns.
func (p *Project) ColdPlan(d *Drill) (*Project, *Drill) {
	cold, drill := *p, *d
	cold.Functions, cold.Sources, drill.Feeds, drill.Limits = nil, nil, nil, nil
	add := func(f *Function, feed Feed, wire int, dropped bool) {
		src := p.Sources[feed.Source]
		src.Wires = []Wire{{To: len(cold.Functions), When: src.Wires[wire].When}} // all of it
		src.DeadLetter, src.Attempts = -1, 1
		one := *f
		one.Variants, one.Then, one.Dropped = nil, nil, dropped
		if dropped && d.Cold.Cached {
			one.Name += DroppedMark
		}
		if src.Name != one.Name {
			src.Name += " to " + one.Name
		}
		one.Limits.Max, one.Limits.Guaranteed, one.Limits.TurnAway, one.Limits.StartEvery = max(one.Limits.Max, 1), 0,
			false, 0
		feed.Source, feed.Phases, feed.Retained, feed.Clock = len(cold.Sources), nil, 0, nil
		cold.Sources, cold.Functions = append(cold.Sources, src), append(cold.Functions, one)
		drill.Limits, drill.Feeds = append(drill.Limits, one.Limits), append(drill.Feeds, feed)
	}
	var seen []string
	for _, feed := range d.Feeds {
		src := &p.Sources[feed.Source]
		for w := range src.Wires {
			f := &p.Functions[src.Wires[w].To]
			if base := p.FunctionNamed(BaseName(f.Name)); base >= 0 { // it has a share as a variant
				f = &p.Functions[base]
			}
			if slices.Contains(seen, f.Name) {
				continue
			}
			seen = append(seen, f.Name)
			for _, v := range append([]Function{*f}, f.Variants...) {
				if v.Transport == Attach || len(d.Cold.Of) > 0 && !slices.Contains(d.Cold.Of, v.Name) {
					continue
				}
				if d.Cold.Cached {
					add(&v, feed, w, false)
				}
				// a process that was started ahead has already read its files
				if ahead := v.Limits.KeepWarm > 0 || v.Parked > 0; d.Cold.Dropped && !(ahead && d.Cold.Cached) {
					add(&v, feed, w, !ahead)
				}
			}
		}
	}
	cold.Concurrency = max(cold.Concurrency, len(cold.Functions))
	drill.Changes = nil
	for i := range drill.Limits {
		if d.Cold.Warm > 0 { // it stays until it is told to stop
			drill.Limits[i].IdleAfter, cold.Functions[i].Limits.IdleAfter = 24*time.Hour, 24*time.Hour
		}
	}
	return &cold, &drill
}
