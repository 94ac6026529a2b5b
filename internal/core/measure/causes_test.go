package measure_test

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
	. "nightdrill/internal/core/measure"
	"nightdrill/internal/core/plan"
	"nightdrill/internal/core/rng"
	"nightdrill/internal/core/sim"
)

const (
	ms  = time.Millisecond
	sec = time.Second
)

// scene is a run with one function, in virtual time: everything in it is calm but
// for what a test changes.
type scene struct {
	limits  plan.Limits
	source  plan.Source
	all     int
	start   time.Duration // of which the command's own code takes boot
	boot    time.Duration
	service func(nth int) time.Duration // of the n-th invocation of an instance
	gap     time.Duration
	n       int
	burst   int // arrivals at once
	after   func(*Run)
}

func calm() scene {
	return scene{limits: plan.Limits{Max: 10, PerInstance: 1, IdleAfter: 300 * ms},
		source: plan.Source{Name: "s", DeadLetter: -1, Wait: sec}, all: 100, start: 8 * ms, boot: 5 * ms,
		service: func(int) time.Duration { return 5 * ms }, gap: 20 * ms, n: 600, burst: 1}
}

// run carries the scene out, and records what the driver would record.
func (s scene) run() *Run {
	s.source.Wires = []plan.Wire{{}}
	p := &plan.Project{Concurrency: s.all, Functions: []plan.Function{{Name: "f", Timeout: 2 * sec,
		StartTimeout: 10 * sec, Limits: s.limits}}, Sources: []plan.Source{s.source}}
	r := &Run{Project: "p", Drill: "d", ID: "run", Finished: true, Busy: 0.2, Concurrency: s.all,
		Functions: []Function{{Name: "f", Max: s.limits.Max, PerInstance: s.limits.PerInstance,
			KeepWarm: s.limits.KeepWarm}},
		Sources:  []Source{{Name: "s", Kind: s.source.Kind.String(), To: []int{0}}},
		Payloads: []Payload{{Set: "x", N: 1}}}
	if s.source.Kind == plan.HTTP {
		r.Sources[0].Routes = []string{"/"}
	}
	rnd := rng.New(3, 1)
	jitter := func(d time.Duration) time.Duration { return d + rnd.Between(0, d/8+1) }
	nth := map[int32]int{}
	open := map[uint64]int{}
	var asked int32
	functions := []sim.Function{{Start: func(*rng.Source) time.Duration { return jitter(s.start) },
		Service: func(*rng.Source) time.Duration { nth[asked]++; return jitter(s.service(nth[asked])) }}}
	k := 0
	next := func() (sim.Arrival, bool) {
		if k == s.n {
			return sim.Arrival{}, false
		}
		k++
		return sim.Arrival{Due: clock.Time(time.Duration((k-1)/s.burst) * s.gap * time.Duration(s.burst)), Takes: 1},
			true
	}
	sim.Run(p, []plan.Limits{s.limits}, 20*sec, functions, 1, next, func(f *engine.Effect, events []int64) {
		r.Length = max(r.Length, f.At)
		switch f.Kind {
		case engine.EventTaken:
			r.Arrivals = append(r.Arrivals, Arrival{Due: f.At, Arrived: f.At, From: -1})
		case engine.Start:
			for int(f.Instance) >= len(r.Instances) {
				r.Instances = append(r.Instances, Instance{ID: int32(len(r.Instances))})
			}
			r.Instances[f.Instance] = Instance{ID: f.Instance, Number: f.Number, Spawned: f.At, Cause: f.Cause,
				Wanted: true, Peak: 30 << 20}
		case engine.Send:
			asked = f.Instance
			in := &r.Instances[f.Instance]
			if in.Ready == 0 {
				in.Ready = f.At
				in.Exec = max(in.Spawned, f.At.Add(-s.boot))
			}
			open[f.Invocation] = len(r.Invocations)
			r.Invocations = append(r.Invocations, Invocation{ID: f.Invocation, Assigned: f.At, Sent: f.At,
				Instance: f.Instance, Slot: f.Slot, Batch: f.N, Status: 200, Class: f.Class})
		case engine.Stop:
			r.Instances[f.Instance].Stopped, r.Instances[f.Instance].Reason = f.At, f.Reason
		case engine.AttemptEnded:
			if v := &r.Invocations[open[f.Invocation]]; f.Invocation > 0 {
				v.Received, v.Done, v.Result = f.At, f.At, f.Result
			}
			r.Attempts = append(r.Attempts, Attempt{Event: f.Event, Invocation: f.Invocation, N: f.Attempt,
				Result: f.Result})
		case engine.Ended:
			r.Deliveries = append(r.Deliveries, Delivery{Event: f.Event, Invocation: f.Invocation, Ended: f.At,
				Wire: f.Wire, Attempts: f.Attempt, Outcome: f.Outcome, Cause: f.Cause})
		}
	})
	r.Levels = levels(r)
	slices.SortFunc(r.Invocations, func(a, b Invocation) int { return int(a.Done - b.Done) })
	if s.after != nil {
		s.after(r)
	}
	return r
}

// levels returns what a driver reads from the engine: how many wait, are in flight, are
// being started and are ready, after each change.
func levels(r *Run) (out []Level) {
	sent, ended := map[int64]clock.Time{}, map[int64]clock.Time{}
	byID := map[uint64]*Invocation{}
	for i := range r.Invocations {
		byID[r.Invocations[i].ID] = &r.Invocations[i]
	}
	for i := range r.Deliveries {
		ended[r.Deliveries[i].Event] = r.Deliveries[i].Ended
	}
	for i := range r.Attempts {
		if a := &r.Attempts[i]; a.N == 1 && a.Invocation > 0 {
			sent[a.Event] = byID[a.Invocation].Sent
		}
	}
	var all []Level
	span := func(from, to clock.Time, l Level) {
		if to > from {
			back := Level{At: to, Waiting: -l.Waiting, InFlight: -l.InFlight, Starting: -l.Starting, Ready: -l.Ready}
			l.At = from
			all = append(all, l, back)
		}
	}
	for i := range r.Arrivals {
		until, ok := sent[int64(i)]
		if !ok {
			until = ended[int64(i)]
		}
		span(r.Arrivals[i].Arrived, until, Level{Waiting: 1})
	}
	for i := range r.Invocations {
		span(r.Invocations[i].Assigned, r.Invocations[i].Done, Level{InFlight: 1})
	}
	for i := range r.Instances {
		in := &r.Instances[i]
		span(in.Spawned, in.Ready, Level{Starting: 1})
		span(in.Ready, max(in.Stopped, in.Ready), Level{Ready: 1})
	}
	slices.SortStableFunc(all, func(a, b Level) int { return int(a.At - b.At) })
	var now Level
	for i, l := range all {
		now = Level{At: l.At, Waiting: now.Waiting + l.Waiting, InFlight: now.InFlight + l.InFlight,
			Starting: now.Starting + l.Starting, Ready: now.Ready + l.Ready}
		if i == len(all)-1 || all[i+1].At > l.At {
			out = append(out, now)
		}
	}
	return out
}

func TestTheSentencesNameTheOneCause(t *testing.T) {
	few := func(change func(*scene)) scene { // far apart: each finds nothing warm
		s := calm()
		s.gap, s.n = 1500*ms, 40
		change(&s)
		return s
	}
	late := func() func(int) time.Duration { return func(int) time.Duration { return 400 * ms } }
	own := func(text string) func(*Run) {
		return func(r *Run) {
			r.Timings = map[int32]string{1: text}
			for i := range r.Invocations {
				r.Invocations[i].Timing = 1
			}
		}
	}
	causes := []struct {
		name, want string
		scene      scene
	}{
		{"its own code boots slowly", "of a cold call is the function's own start-up",
			few(func(s *scene) { s.start, s.boot = 900*ms, 880*ms })},
		{"the command takes long to run at all", "passes before the function's own code runs",
			few(func(s *scene) { s.start, s.boot = 900*ms, 10*ms })},
		{"it is ready too early", "is the first invocation itself", few(func(s *scene) { s.service = late() })},
		{"it says what it does then", "of that is “tables”", few(func(s *scene) {
			s.service = func(n int) time.Duration { return 400 * ms }
			s.after = own("tables;dur=390, x;dur=2")
		})},
		{"the limit", "as its limit of 2 allows",
			calmWith(func(s *scene) {
				s.limits.Max, s.gap = 2,
					3*ms
				s.service = func(int) time.Duration { return 6 * ms }
			})},
		{"the project total", "the project was at its limit of 2",
			calmWith(func(s *scene) { s.all, s.gap = 2, 3*ms; s.service = func(int) time.Duration { return 6 * ms } })},
		{"the limit rejects", "requests rejected; no instance was free",
			calmWith(func(s *scene) { s.limits.Max, s.source.Wait, s.burst = 1, 0, 3 })},
		{"it warms up", "is warm from its ", calmWith(func(s *scene) {
			s.limits.IdleAfter, s.burst, s.start, s.boot = sec, 8, 13*ms, 6*ms
			s.service = func(n int) time.Duration { return 5*ms + 6*ms/time.Duration(n) }
		})},
		{"batches are filled", "of a batch to fill", calmWith(func(s *scene) {
			s.source.Kind, s.source.BatchMax, s.source.BatchWait, s.source.Lease, s.source.Attempts = plan.Queue, 100,
				200*ms, 10*sec, 3
		})},
		{"more comes than is done", " fell behind: ", calmWith(func(s *scene) {
			s.limits.Max, s.gap, s.source.Kind, s.source.BatchMax, s.source.Lease, s.source.Attempts = 1, 3*ms,
				plan.Queue, 1, 10*sec, 3
		})},
		{"it takes too long", "longer than its timeout", calmWith(func(s *scene) {
			all := 0
			s.service = func(int) time.Duration {
				all++
				return map[bool]time.Duration{true: 3 * sec,
					false: ms}[all == 50]
			}
		})},
		{"it crashes", "crashed 1 time", calmWith(
			func(s *scene) { s.after = func(r *Run) { r.Instances[0].Reason = engine.Crashed } })},
		{"it runs out of memory", "ran out of memory: 1 instance was killed by the system at 64 MiB",
			calmWith(func(s *scene) {
				s.after = func(r *Run) { r.Functions[0].Memory = 64 << 20; r.Instances[0].Reason = engine.OutOfMemory }
			})},
		{"it nearly does", "came close to its memory: 30 of 32 MiB",
			calmWith(func(s *scene) { s.after = func(r *Run) { r.Functions[0].Memory = 32 << 20 } })},
		{"a budget", "The budget “function f warm p50 < 1ms” was missed: measured 5",
			calmWith(func(s *scene) { s.after = func(r *Run) { r.Budgets = []string{"function f warm p50 < 1ms"} } })},
		{"one route", "/slow is slower than its other routes", calmWith(func(s *scene) {
			s.service = func(n int) time.Duration { return ms + time.Duration(n%2)*20*ms }
			s.after = func(r *Run) {
				r.Sources[0].Routes, r.Sources[0].To = []string{"/", "/slow"}, []int{0, 0}
				for i := range r.Deliveries {
					if d := &r.Deliveries[i]; d.Ended.Sub(r.Arrivals[d.Event].Due) > 10*ms {
						d.Wire = 1
					}
				}
			}
		})},
	}
	for _, c := range causes {
		t.Run(c.name, func(t *testing.T) {
			r := c.scene.run()
			text := strings.Join(NewPage(r).Sentences, "\n")
			if !strings.Contains(text, c.want) {
				t.Errorf("want %q in\n%s", c.want, text)
			}
			for _, other := range causes { // and no other cause
				if other.name != c.name && strings.Contains(text, other.want) &&
					!(c.name == "it says what it does then" && other.name == "it is ready too early") {
					t.Errorf("it also says %q in\n%s", other.want, text)
				}
			}
		})
	}
}

func calmWith(change func(*scene)) scene {
	s := calm()
	change(&s)
	return s
}

// What the machine and the driver spoiled is said, next to what it spoils.
func TestWarningsStandNextToWhatTheySpoil(t *testing.T) {
	trips := func(d time.Duration) []time.Duration { return slices.Repeat([]time.Duration{d}, 100) }
	latency := func(b *Beside) []string { return b.Latency }
	start := func(b *Beside) []string { return b.Start }
	rates := func(b *Beside) []string { return b.Rates }
	memory := func(b *Beside) []string { return b.Memory }
	for want, c := range map[string]struct {
		on     func(*Beside) []string
		change func(*Run)
	}{
		"taken up to 50.0 ms late": {latency, func(r *Run) {
			for i := range r.Arrivals {
				r.Arrivals[i].Arrived += clock.Time(50 * ms)
			}
		}},
		"processors were 95 % busy": {start, func(r *Run) { r.Busy = 0.95 }},
		"a bare round trip": {latency, func(r *Run) {
			r.Self = &SelfCheck{Before: trips(ms / 10),
				During: trips(9 * ms)}
		}},
		"timers fire up to 6.00 ms late": {rates, func(r *Run) { r.Self = &SelfCheck{Timer: trips(6 * ms)} }},
		"wall clock jumped by 1 h":       {rates, func(r *Run) { r.Self = &SelfCheck{Jump: time.Hour} }},
		"are not enforced": {memory,
			func(r *Run) { r.Functions[0].Enforced = "not enforced: no control groups" }},
		"closed loop": {rates, func(r *Run) { r.Sources[0].Closed = true }},
	} {
		r := calm().run()
		if s := Summarize(r); len(s.Warnings) > 0 {
			t.Fatalf("a calm run has warnings %v", s.Warnings)
		}
		c.change(r)
		s := Summarize(r)
		if beside := strings.Join(c.on(&s.Beside), "\n"); len(s.Warnings) == 0 || !strings.Contains(s.Warnings[0],
			want) || !strings.Contains(beside, want) {
			t.Errorf("want %q in %q, %v", want, s.Warnings, s.Beside)
		}
	}
}

// The timeline adds up to the run, and what is behind in it is what has come and not ended.
func TestTheTimelineAddsUp(t *testing.T) {
	r := calmWith(func(s *scene) { s.gap, s.limits.Max, s.source.Wait = ms, 3, 20*ms }).run()
	page := NewPage(r)
	sum := func(all []int) (n int) {
		for _, x := range all {
			n += x
		}
		return n
	}
	f, s := page.Time.Functions[0], page.Time.Sources[0]
	c := page.Summary.Sources["s"]
	if sum(s.Arrived) != c.Arrived || sum(s.Done) != c.Done || sum(s.Rejected) != c.Rejected || c.Rejected == 0 ||
		sum(f.Done) != c.Done || s.Behind[len(s.Behind)-1] != 0 {
		t.Errorf("arrived %d, done %d %d, rejected %d, behind at the end %d; the summary has %+v", sum(s.Arrived),
			sum(s.Done), sum(f.Done), sum(s.Rejected), s.Behind[len(s.Behind)-1], c)
	}
	if most := slices.Max(f.Instances); most != page.Summary.Functions["f"].Instances.Peak ||
		most != page.Summary.Load.Most {
		t.Errorf("at most %d instances; the summary has %d and %d", most, page.Summary.Functions["f"].Instances.Peak,
			page.Summary.Load.Most)
	}
	longest := time.Duration(0)
	for k := range f.Max {
		longest = max(longest, f.Max[k])
		if f.P50[k] > f.P95[k] || f.P95[k] > f.Max[k] {
			t.Fatalf("step %d: %v, %v, %v", k, f.P50[k], f.P95[k], f.Max[k])
		}
	}
	if l := page.Summary.Functions["f"].Latency; Millis(longest) != max(*l.Warm.Max, *l.Cold.Max) {
		t.Errorf("the longest in the timeline is %v", longest)
	}
	// offered at a distance of 1 ms, and at rest after the idle time
	if o := *page.Summary.Load.Offered; math.Abs(o-1000) > 5 {
		t.Errorf("offered %v a second", o)
	}
	if rest := page.Summary.Load.Rest; rest == nil || *rest < 0.3 || *rest > 0.4 {
		t.Errorf("at rest after %v s, with an idle time of 0.3", rest)
	}
}
