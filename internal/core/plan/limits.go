package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"nightdrill/internal/core/arrival"
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

// ColdStarts has every variant started N times, one after the other and in turns.
type ColdStarts struct {
	N       int
	Warm    int      // warm invocations of each variant after that, in turns; 0 for none
	Cached  bool     // with the files in the system's cache
	Dropped bool     // with the files dropped from it before each start
	Of      []string // names of functions and variants; all that the feeds lead to where it is empty
}

// DroppedMark follows the name of a variant that is started with its files dropped
// from the cache, where it is also started without.
const DroppedMark = ":dropped"

// SharesFit tells why what is guaranteed does not fit a limit for all, or "".
func SharesFit(all int, limits []Limits) string {
	sum := 0
	for i := range limits {
		sum += limits[i].Guaranteed
	}
	if sum > all {
		return fmt.Sprintf("the functions are guaranteed %d at a time together, but the project's concurrency is %d", sum, all)
	}
	return ""
}

// Check tells why limits cannot hold, or "".
func (l *Limits) Check() string {
	switch {
	case l.Max < 0 || l.Guaranteed < 0 || l.KeepWarm < 0 || l.PerInstance < 1 || l.StartBurst < 0 || l.IdleAfter < 0 || l.StartEvery < 0:
		return "a limit is less than nothing"
	case l.PerInstance > MostPerInstance:
		return fmt.Sprintf("an instance takes at most %d at a time", MostPerInstance)
	case l.Guaranteed > l.Max:
		return fmt.Sprintf("%d are guaranteed, but at most %d may be in flight", l.Guaranteed, l.Max)
	case l.KeepWarm > l.Instances():
		return fmt.Sprintf("%d are to be kept warm, but %d at a time with %d on each instance need only %d", l.KeepWarm, l.Max, l.PerInstance, l.Instances())
	}
	return ""
}

// CheckLimits tells why limits cannot hold for the function, or "". Those of a
// function that somebody else started follow its one process.
func (f *Function) CheckLimits(l *Limits) string {
	switch f.Transport {
	case Attach:
		l.PerInstance = max(l.Max, 1) // there is one process, and it takes what comes
		if l.KeepWarm > 0 || l.StartEvery > 0 {
			return "it is started by somebody else"
		}
	case OneShot:
		if l.KeepWarm > 0 || l.PerInstance > 1 {
			return "it has a process for each invocation"
		}
	case Lines:
		if l.PerInstance > 1 {
			return "over lines an instance is handed one event after the other"
		}
	}
	return l.Check()
}

// LimitNames are the limits that Set knows.
var LimitNames = []string{"max", "guaranteed", "per_instance", "keep_warm", "idle_after", "start_rate", "start_burst", "turn_away"}

// Set sets a limit by its name to a value as it is written. The error says what is
// wrong with the value; whether limits go together is for CheckLimits to say.
func (l *Limits) Set(name, value string) (err error) {
	whole := func(to *int) {
		n, wrong := strconv.Atoi(value)
		if wrong != nil || n < 0 {
			err = fmt.Errorf("%q is not a whole number from 0 on", value)
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
		return fmt.Errorf("there is no limit %q", name)
	}
	return err
}

// Every gives the time between two starts at a rate above 0.
func Every(r arrival.Rate) time.Duration {
	return max(time.Duration(float64(r.Per)/float64(r.Events)), 1)
}

// Difference says in words how limits differ from those before.
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
		parts = append(parts, map[bool]string{true: "turns everything away", false: "takes events again"}[l.TurnAway])
	}
	return strings.Join(parts, ", ")
}

// StartRate writes how fast instances may be added.
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

// ColdPlan gives the plan of a drill of cold starts: every variant is a function
// of its own, and each has a source that leads to it. The feeds are in the order
// in which the starts take turns.
func (p *Project) ColdPlan(d *Drill) (*Project, *Drill) {
	cold, drill := *p, *d
	cold.Functions, cold.Sources, drill.Feeds, drill.Limits = nil, nil, nil, nil
	add := func(f *Function, feed Feed, wire int, dropped bool) {
		src := p.Sources[feed.Source]
		src.Wires = []Wire{{To: len(cold.Functions), When: src.Wires[wire].When}}
		src.DeadLetter, src.Attempts = -1, 1
		one := *f
		one.Variants, one.Then, one.Dropped = nil, nil, dropped
		if dropped && d.Cold.Cached {
			one.Name += DroppedMark
		}
		if src.Name != one.Name {
			src.Name += " to " + one.Name
		}
		one.Limits.Max, one.Limits.Guaranteed, one.Limits.TurnAway, one.Limits.StartEvery = max(one.Limits.Max, 1), 0, false, 0
		feed.Source, feed.Phases, feed.Retained, feed.Clock = len(cold.Sources), nil, 0, nil
		cold.Sources, cold.Functions = append(cold.Sources, src), append(cold.Functions, one)
		drill.Limits, drill.Feeds = append(drill.Limits, one.Limits), append(drill.Feeds, feed)
	}
	var seen []string
	for _, feed := range d.Feeds {
		src := &p.Sources[feed.Source]
		for w := range src.Wires {
			f := &p.Functions[src.Wires[w].To]
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
				// what was started ahead has read its files
				if ahead := v.Limits.KeepWarm > 0 || v.Parked > 0; d.Cold.Dropped && !(ahead && d.Cold.Cached) {
					add(&v, feed, w, !ahead)
				}
			}
		}
	}
	cold.Concurrency = max(cold.Concurrency, len(cold.Functions))
	drill.Changes = nil
	for i := range drill.Limits {
		if d.Cold.Warm > 0 { // it stays until it is told to go
			drill.Limits[i].IdleAfter, cold.Functions[i].Limits.IdleAfter = 24*time.Hour, 24*time.Hour
		}
	}
	return &cold, &drill
}
