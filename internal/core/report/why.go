package report

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// Shares from which something is worth a sentence.
const (
	muchOfCold  = 0.5  // of a cold answer, for one phase to be named as its reason
	muchWaiting = 0.10 // of the deliveries, that waited for longer than slowWait
	slowWait    = 20 * time.Millisecond
	muchMemory  = 0.9  // of the bound
	muchFailing = 0.05 // of the invocations, with a status of 500 or more
	// leastWaiting is of how many deliveries something can be said at all.
	leastWaiting = 10
)

// sayWhy reports what a function's time was spent on, and what happened to its instances.
func sayWhy(r *record.Run, fn int32, f *measure.FunctionFigures, v voice) {
	of := &r.Functions[fn]
	name, say := of.Name, v.say
	if text, short := coldReason(f); text != "" {
		say("%s: %s", name, text)
		v.because(StartsSlowly, "cold: %s", short)
	}
	if w := &f.WarmUp; w.Steady != nil && *w.Steady > 2 && w.Gain != nil && *w.Gain > measure.LeastGain {
		say("%s is warm from its %s invocation on; earlier invocations are slower (the first by %s ×).", name,
			Ordinal(*w.Steady), ratio(*w.Gain))
		v.because(WarmsUp, "warm from its %s invocation on", Ordinal(*w.Steady))
	}
	if f.Instances.FailedStarts > 0 && f.Start.N > 0 {
		say("%s: %s failed.", name, count(f.Instances.FailedStarts, "start", "starts"))
		v.because(StartFails, "%s failed", count(f.Instances.FailedStarts, "start", "starts"))
	}
	if f.OutOfMemory > 0 {
		say("%s ran out of memory: %s killed by the system at %.0f MiB.", name, count(f.OutOfMemory, "instance was",
			"instances were"), float64(of.Memory)/(1<<20))
		v.because(Crashes, "out of memory at %.0f MiB", float64(of.Memory)/(1<<20))
	} else if m := f.Resources.PeakMiB; m != nil && of.Memory > 0 && *m > muchMemory*float64(of.Memory)/(1<<20) {
		say("%s came close to its memory: %.0f of %.0f MiB.", name, *m, float64(of.Memory)/(1<<20))
	}
	if f.Crashes > 0 {
		say("%s crashed %s.", name, count(f.Crashes, "time", "times"))
		v.because(Crashes, "crashed %s", count(f.Crashes, "time", "times"))
	}
	if f.Timeouts > 0 {
		say("%s: %s longer than its timeout.", name, count(f.Timeouts, "invocation took", "invocations took"))
		v.because(Fails, "%s", count(f.Timeouts, "timeout", "timeouts"))
	}
	if route, median, others := slowRoute(f); route != "" {
		say("%s: %s is slower than its other routes: %s ms against %s (median, warm).", name, route,
			figure.Millis(&median), figure.Millis(&others))
		v.because(SlowRoute, "%s is slow", route)
	}
}

// coldReason names the phase that most of a cold answer goes into, in a sentence and in a few words;
// "" when there is none, or too little is known.
func coldReason(f *measure.FunctionFigures) (text, short string) {
	ms := func(v *float64) float64 {
		if v == nil {
			return 0
		}
		return *v
	}
	cold, answer := f.Latency.Cold.P50, f.Phases.Answer.P50
	if cold == nil || *cold <= 0 || answer == nil {
		return "", ""
	}
	if warm := f.Latency.Warm.P50; warm != nil && *cold < 2**warm {
		return "", "" // cold is not what costs
	}
	// of the parts' sum, since starts that no one waited for count in them as well
	waited := max(ms(f.Wait.Cold.P50)-ms(f.Start.P50), 0)
	whole := waited + ms(f.Phases.Spawn.P50) + ms(f.Phases.Boot.P50) + ms(f.Phases.Both.P50) + *answer
	part := func(v *float64) float64 { return ms(v) / whole }
	for _, phase := range []struct {
		took         *float64
		text, within string // within follows the milliseconds
		short        string
	}{
		{f.Phases.Boot.P50, "is the function's own start-up", " from its first code until it is ready).",
			"its own start-up"},
		{f.Phases.Both.P50, "is its start", " until it is ready).", "its start"},
		{f.Phases.Spawn.P50, "passes before the function's own code runs", ").",
			"passes before the function's own code runs"},
		{answer, "is the first invocation itself", "): it reports ready before it has finished initialising.",
			"the first invocation itself"},
		{&waited, "passes before an instance is started for it", ").", "passes before an instance is started for it"},
	} {
		if part(phase.took) > muchOfCold {
			share := figure.Percent(part(phase.took))
			text = fmt.Sprintf("%s of a cold call %s (%s ms%s", share, phase.text, figure.Millis(phase.took),
				phase.within)
			short = share + " " + phase.short
			break
		}
	}
	for _, own := range f.Phases.Own {
		if text != "" && own.Took.P50 != nil && *own.Took.P50 > muchOfCold**answer &&
			part(own.Took.P50) > muchOfCold/2 {
			if own.Name == InHandler {
				text += fmt.Sprintf(" %s ms of that is in the handler itself.", figure.Millis(own.Took.P50))
				continue
			}
			text += fmt.Sprintf(" According to its Server-Timing, %s ms of that is “%s”.", figure.Millis(own.Took.P50),
				own.Name)
		}
	}
	return text, short
}

// slowRoute returns the route of a function whose warm answers take at least twice
// as long as those of all others.
func slowRoute(f *measure.FunctionFigures) (name string, median, others float64) {
	for _, route := range slices.Sorted(maps.Keys(f.Routes)) {
		warm := f.Routes[route].Warm
		if warm.P50 == nil {
			continue
		}
		if *warm.P50 > median {
			name, median, others = route, *warm.P50, max(others, median)
		} else {
			others = max(others, *warm.P50)
		}
	}
	if others == 0 || median < 2*others || median < 1 {
		return "", 0, 0
	}
	return name, median, others
}

// reason is what deliveries waited for.
type reason int

const (
	forLimit   reason = iota // as many in flight as the function's limit allows
	forAll                   // as many as all functions together may have
	forStart                 // an instance was being started
	forPace                  // the rate at which instances may be added
	forNothing               // none of these: a batch, a poll, an order
	reasons
)

func (w reason) words(f *record.Function, all int) string {
	switch w {
	case forLimit:
		return fmt.Sprintf("as many invocations were in flight as its limit of %d allows", f.Max)
	case forAll:
		return fmt.Sprintf("the project was at its limit of %d", all)
	case forStart:
		return "an instance was starting"
	case forPace:
		return "the start rate held back new instances, or a start had just failed"
	}
	return "of a batch to fill, a poll, or earlier events"
}

// short is words for a table.
func (w reason) short(f *record.Function, all int) string {
	switch w {
	case forLimit:
		return fmt.Sprintf("waits for its limit of %d", f.Max)
	case forAll:
		return fmt.Sprintf("waits for the project's limit of %d", all)
	case forStart:
		return "waits for instances to start"
	case forPace:
		return "waits for the start rate"
	}
	return "waits for a batch or a poll"
}

// sayWaits reports which deliveries waited for long, and for what.
func sayWaits(r *record.Run, at []int32, to *[]Finding) {
	type waiter struct {
		n, of int
		most  time.Duration
	}
	waits := make([]waiter, len(r.Functions))
	waited := make([]stats.Population, len(r.Functions))
	for i := range r.Attempts {
		a := &r.Attempts[i]
		inv := r.Invocation(at, a.Invocation)
		if a.N != 1 || inv == nil || inv.Sent == 0 || int(a.Event) >= len(r.Arrivals) {
			continue
		}
		w := &waits[inv.Function]
		w.of++
		if d := inv.Sent.Sub(r.Arrivals[a.Event].Due); d > slowWait && inv.Class == engine.Warm {
			w.n++
			w.most = max(w.most, d)
			waited[inv.Function].Add(d)
		}
	}
	for fn := range waits {
		w := &waits[fn]
		if w.of < leastWaiting || float64(w.n) < muchWaiting*float64(w.of) {
			continue
		}
		f := &r.Functions[fn]
		text := fmt.Sprintf("%s: %s of %d deliveries waited more than %d ms (median of those %s, at most %s)", f.Name,
			figure.Percent(float64(w.n)/float64(w.of)), w.of,
			slowWait.Milliseconds(), figure.Duration(waited[fn].At(stats.Rank(0.5, w.n)-1)), figure.Duration(w.most))
		short := "waits more than " + slowWait.String()
		if why, share := waitedFor(r, int32(fn)); share > muchOfCold {
			text += ", mostly because " + why.words(f, r.Concurrency)
			short = why.short(f, r.Concurrency)
		}
		v := voice{to: to, function: f.Name}
		v.say("%s.", text)
		v.because(Waits, "%s", short)
	}
	sayBehind(r, to)
}

// waitedFor returns what the waiting of a function's deliveries was most for, by the
// time and the number of those that waited.
func waitedFor(r *record.Run, fn int32) (most reason, share float64) {
	var by [reasons]float64
	state := make([]record.Level, len(r.Functions))
	last := clock.Time(0)
	for i := 0; i <= len(r.Levels); i++ {
		now := r.Length
		if i < len(r.Levels) {
			now = r.Levels[i].At
		}
		if l := &state[fn]; l.Waiting > 0 {
			total := 0
			for k := range state {
				total += int(state[k].InFlight + state[k].Starting)
			}
			of := &r.Functions[fn]
			places := int32(of.Max)
			if of.PerInstance > 1 {
				places = min(places, int32((of.Max+of.PerInstance-1)/of.PerInstance*of.PerInstance))
			}
			w := forNothing
			switch {
			case l.InFlight >= places:
				w = forLimit
			case r.Concurrency > 0 && total >= r.Concurrency:
				w = forAll
			case l.Starting > 0:
				w = forStart
			case l.InFlight >= l.Ready*int32(max(of.PerInstance, 1)):
				w = forPace
			}
			by[w] += float64(now-last) * float64(l.Waiting)
		}
		if i < len(r.Levels) {
			state[r.Levels[i].Function], last = r.Levels[i], now
		}
	}
	sum := 0.0
	for w, t := range by {
		sum += t
		if t > by[most] {
			most = reason(w)
		}
	}
	if sum == 0 {
		return forNothing, 0
	}
	return most, by[most] / sum
}

// sayBehind reports which sources fell behind: more arrived than was done, up to the last that fell
// due.
func sayBehind(r *record.Run, to *[]Finding) {
	type tally struct {
		last          clock.Time
		arrived, done int
	}
	of := make([]tally, len(r.Sources))
	for i := range r.Arrivals {
		if a := &r.Arrivals[i]; a.Offered() {
			of[a.Source].last = max(of[a.Source].last, a.Due)
			of[a.Source].arrived++
		}
	}
	ended := make([]bool, len(r.Arrivals))
	for i := range r.Deliveries {
		d := &r.Deliveries[i]
		if int(d.Event) < len(ended) && !ended[d.Event] && d.Ended <= of[d.Source].last &&
			r.Arrivals[d.Event].Offered() {
			ended[d.Event] = true
			of[d.Source].done++
		}
	}
	for i, t := range of {
		s := &r.Sources[i]
		if s.Kind == "http" || s.Closed || t.arrived < 50 || t.last <= clock.Time(time.Second) {
			continue
		}
		if behind := t.arrived - t.done; float64(behind) > 0.2*float64(t.arrived) {
			ofSource(r, s, to).say("%s fell behind: when the last of %d events fell due, %d were not done.", s.Name,
				t.arrived, behind)
		}
	}
}

// Ordinal writes the n-th.
func Ordinal(n int) string {
	switch {
	case n%10 == 1 && n%100 != 11:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2 && n%100 != 12:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3 && n%100 != 13:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}
