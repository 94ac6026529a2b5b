package forecast

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// world is a run that is laid out by hand: a Poisson process whose events never wait, each answered by an instance that
// is free.
type world struct {
	n       int
	rate    float64 // events a second
	service func(r *rng.Source, at clock.Time, inFlight int) time.Duration
	starts  int           // instances that are there; 0 for 60
	cpu     float64       // share of their time that invocations compute
	others  int32         // processors that others use, in thousandths of one
	wait    time.Duration // how long events of the source may wait
}

func fixed(d time.Duration) func(*rng.Source, clock.Time, int) time.Duration {
	return func(*rng.Source, clock.Time, int) time.Duration { return d }
}

func exponential(mean time.Duration) func(*rng.Source, clock.Time, int) time.Duration {
	return func(r *rng.Source, _ clock.Time, _ int) time.Duration { return r.Exp(mean) }
}

func (w world) base(t testing.TB) *Base {
	t.Helper()
	if w.starts == 0 {
		w.starts = 60
	}
	limits := plan.Limits{Max: 1000, PerInstance: 1, KeepWarm: w.starts, IdleAfter: time.Hour}
	p := &plan.Project{Concurrency: 1000, Functions: []plan.Function{{Name: "f", Timeout: 1000 * time.Hour,
		StartTimeout: time.Hour, Limits: limits}},
		Sources: []plan.Source{{Name: "s", Wait: w.wait, Wires: []plan.Wire{{}}, DeadLetter: -1}}}
	r := &record.Run{ID: "base", Drill: "d", Finished: true, Concurrency: 1000, Begins: clock.Time(time.Second),
		Functions: []record.Function{{Name: "f", Max: 1000, PerInstance: 1, KeepWarm: w.starts}},
		Sources:   []record.Source{{Name: "s", Kind: "queue", To: []int{0}}}}
	for i := range w.starts {
		r.Instances = append(r.Instances, record.Instance{ID: int32(i), Number: int32(i + 1), Spawned: 1,
			Ready: clock.Time(100 * time.Millisecond), Peak: 1 << 30})
	}
	draw := rng.New(5, 5)
	at := r.Begins
	busy := make([]clock.Time, w.starts) // until when each instance is
	for i := range w.n {
		at = at.Add(draw.Exp(time.Duration(float64(time.Second) / w.rate)))
		free, inFlight := -1, 0
		for k, until := range busy {
			if until > at {
				inFlight++
			} else if free < 0 {
				free = k
			}
		}
		if free < 0 {
			t.Fatal("the world is too small")
		}
		done := at.Add(max(w.service(draw, at, inFlight), 1))
		busy[free] = done
		r.Instances[free].CPU += time.Duration(w.cpu * float64(done-at))
		r.Arrivals = append(r.Arrivals, record.Arrival{Due: at, Arrived: at, From: -1})
		r.Invocations = append(r.Invocations, record.Invocation{ID: uint64(i + 1), Assigned: at, Sent: at,
			Received: done,
			Done:     done, Instance: int32(free), Batch: 1, Status: 200, Class: engine.Warm})
		r.Attempts = append(r.Attempts, record.Attempt{Event: int64(i), Invocation: uint64(i + 1), N: 1})
		r.Deliveries = append(r.Deliveries, record.Delivery{Event: int64(i), Invocation: uint64(i + 1), Ended: done,
			Attempts: 1, Outcome: engine.Done})
		r.LastDue, r.Length = at, max(r.Length, done)
	}
	slices.SortStableFunc(r.Invocations, func(a, b record.Invocation) int { return int(a.Done - b.Done) })
	for at := clock.Time(0); w.others > 0 && at < r.Length; at += clock.Time(250 * time.Millisecond) {
		r.Loads = append(r.Loads, record.MachineLoad{At: at, Busy: w.others})
	}
	b, err := New(p, &plan.Drill{Name: "d", Limits: []plan.Limits{limits}, Settle: 1000 * time.Hour}, r, 2)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func (b *Base) with(change func(*plan.Limits)) []plan.Limits {
	l := slices.Clone(b.Limits)
	change(&l[0])
	return l
}

// erlangB is the share lost of M/M/c/c at an offered load a.
func erlangB(c int, a float64) float64 {
	b := 1.0
	for k := 1; k <= c; k++ {
		b = a * b / (float64(k) + a*b)
	}
	return b
}

// A forecast of one run under other limits is what queueing theory says.
func TestForecastsAgainstClosedForms(t *testing.T) {
	if testing.Short() {
		t.Skip("the formulas are left to the full run")
	}
	const n, mean = 60_000, 10 * time.Millisecond
	sigma := 0.8
	lognormal := func(r *rng.Source, _ clock.Time, _ int) time.Duration {
		z := math.Sqrt(2) * math.Erfinv(2*r.Unit()-1)
		return time.Duration(float64(mean) * math.Exp(sigma*z-sigma*sigma/2))
	}
	for _, x := range []struct {
		name    string
		service func(*rng.Source, clock.Time, int) time.Duration
		c       int
		a       float64 // offered load
		wait    time.Duration
		want    float64 // share lost, or mean wait in ms
	}{
		{"Erlang B, 3 places", exponential(mean), 3, 2, 0, erlangB(3, 2)},
		{"Erlang B, lognormal, 5 places", lognormal, 5, 4, 0, erlangB(5, 4)}, // it does not depend on the form
		{"Erlang C, 3 places", exponential(mean), 3, 2.1, 100 * time.Hour,
			10 * erlangB(3, 2.1) / (1 - 0.7*(1-erlangB(3, 2.1))) / (3 * 0.3)},
		{"M/D/1", fixed(mean), 1, 0.7, 100 * time.Hour, 10 * 0.7 / (2 * 0.3)},
		{"M/G/1, lognormal", lognormal, 1, 0.6, 100 * time.Hour, 10 * 0.6 * math.Exp(sigma*sigma) / (2 * 0.4)},
	} {
		b := world{n: n, rate: x.a / mean.Seconds(), service: x.service, wait: x.wait}.base(t)
		if len(b.Refusals) > 0 {
			t.Errorf("%s: refused: %v", x.name, b.Refusals)
		}
		got := 0.0
		const seeds = 4
		for seed := range uint64(seeds) {
			r := b.Simulate(Setting{Limits: b.with(func(l *plan.Limits) { l.Max, l.KeepWarm = x.c, x.c }), Seed: seed})
			if x.wait == 0 {
				got += float64(measure.Analyze(r).Summary.Functions["f"].Outcomes.Rejected) / n / seeds
				continue
			}
			due := map[uint64]clock.Time{}
			for i := range r.Attempts {
				due[r.Attempts[i].Invocation] = r.Arrivals[r.Attempts[i].Event].Due
			}
			for i := range r.Invocations {
				v := &r.Invocations[i]
				got += 1000 * v.Assigned.Sub(due[v.ID]).Seconds() / n / seeds
			}
		}
		// the arrivals are one draw of their process, which is off by a few percent itself
		if math.Abs(got-x.want) > 0.05*x.want {
			t.Errorf("%s: %.4f, want %.4f", x.name, got, x.want)
		}
	}
}

// What a run cannot tell is refused, with the reason.
func TestRefusals(t *testing.T) {
	jitter := func(d time.Duration, r *rng.Source) time.Duration {
		return time.Duration(float64(d) * (0.8 + 0.4*r.Unit()))
	}
	for _, x := range []struct {
		name, want string
		w          world
		max        int
		keepWarm   int
	}{
		{"calm", "", world{service: func(r *rng.Source, _ clock.Time, _ int) time.Duration {
			return jitter(20*time.Millisecond, r)
		}}, 4, 4},
		{"an upstream with three places", "something outside limits it", world{n: 3000, rate: 120,
			service: func(r *rng.Source, _ clock.Time, inFlight int) time.Duration {
				return jitter(20*time.Millisecond*time.Duration(max(inFlight, 3))/3, r)
			}}, 4, 4},
		{"a cache that fills", "drifts", world{service: func(r *rng.Source, at clock.Time, _ int) time.Duration {
			d := 40 * time.Millisecond
			if at > clock.Time(4*time.Second) {
				d = 10 * time.Millisecond
			}
			return jitter(d, r)
		}}, 4, 4},
		{"too few starts", "starts seen: 5", world{rate: 5, starts: 5, n: 200,
			service: fixed(20 * time.Millisecond)}, 40, 40},
		{"a busy machine", "others used 95 %", world{others: 1900, service: fixed(20 * time.Millisecond)}, 4, 4},
		{"more than was ever in flight", "in flight at once", world{rate: 20, n: 400,
			service: fixed(5 * time.Millisecond)}, 20, 20},
	} {
		w := x.w
		w.n, w.rate, w.wait = max(w.n, 0), max(w.rate, 0), time.Hour
		if w.n == 0 {
			w.n, w.rate = 2000, 200
		}
		b := w.base(t)
		o := Order{Seeds: 3, Tries: []Try{{"f", "max", []string{fmt.Sprint(x.max)}},
			{"f", "keep_warm", []string{fmt.Sprint(x.keepWarm)}}}}
		if x.want == "in flight at once" {
			o.Traffic.Times = 100
		}
		f := forecastOf(t, b, o)
		got := ""
		if f.Cells[0].Refused != nil {
			got = *f.Cells[0].Refused
		}
		if x.want == "" && got != "" || !strings.Contains(got, x.want) {
			t.Errorf("%s: refused with %q, want %q", x.name, got, x.want)
		}
		if x.want != "" && !strings.Contains(f.Sentence, "None of this can be forecast") {
			t.Errorf("%s: %s", x.name, f.Sentence)
		}
	}
}

func forecastOf(t testing.TB, b *Base, o Order) *Forecast {
	t.Helper()
	g, err := b.NewGrid(o)
	if err != nil {
		t.Fatal(err)
	}
	for i := range g.Jobs() {
		g.Do(i, nil)
	}
	return g.Conclude()
}

// The grid names the cheapest setting that keeps the budgets, below which requests are rejected, and above which
// nothing gets better; the same seeds give the same forecast.
func TestTheAnswer(t *testing.T) {
	b := world{n: 2000, rate: 200, wait: 300 * time.Millisecond, service: exponential(10 * time.Millisecond)}.base(t)
	b.Run.Budgets = []string{"source s rejected == 0"}
	o := Order{Seeds: 4}
	for _, text := range []string{"f.max=1..12", "f.keep_warm=12"} {
		try, err := ParseTry(text)
		if err != nil {
			t.Fatal(err)
		}
		o.Tries = append(o.Tries, try)
	}
	b.Limits[0].KeepWarm = 0
	if f := forecastOf(t, b, o); f.Cells[0].Refused == nil {
		t.Error("a max of 1 that keeps 12 warm is not refused")
	}
	o.Tries = o.Tries[:1]
	f := forecastOf(t, b, o)
	if f.Best == nil || f.Cells[*f.Best].Functions["f"].Rejected > 0 || *f.Best > 0 && f.Cells[*f.Best-1].Kept {
		t.Errorf("%s", f.Sentence)
	}
	if !strings.Contains(f.Sentence, "the cheapest that keeps all budgets") ||
		!strings.Contains(f.Sentence, "requests are rejected") || !strings.Contains(f.Sentence, "nothing gets better") {
		t.Errorf("%s", f.Sentence)
	}
	if again := forecastOf(t, b, o); fmt.Sprint(again.Cells[3].Functions) == "" || again.Sentence != f.Sentence {
		t.Errorf("once %q, then %q", f.Sentence, again.Sentence)
	}
}

// A warm instance that is paid for all the time is worth it from the rate on at which cold starts and idle times of one
// second take a second, too.
func TestBreakEven(t *testing.T) {
	b := world{n: 400, rate: 8, wait: time.Minute, service: fixed(20 * time.Millisecond)}.base(t)
	b.Run.Rates = &plan.Rates{Currency: "EUR", GiBSecond: 1, Billed: []string{"start", "idle", "invocation"}}
	b.Limits[0].KeepWarm, b.Limits[0].IdleAfter = 0, 200*time.Millisecond
	of, err := ParseEven("f")
	if err != nil {
		t.Fatal(err)
	}
	var at []*Forecast
	for _, factor := range Factors {
		at = append(at, forecastOf(t, b, Order{Tries: []Try{of}, Traffic: Traffic{Times: factor}, Seeds: 3}))
	}
	e, err := b.NewBreakEven(of, at)
	if err != nil {
		t.Fatal(err)
	}
	for i := range e.Curve[1:] {
		if a, b := e.Curve[i], e.Curve[i+1]; b.PerSecond <= a.PerSecond || b.Cold > a.Cold+0.05 ||
			b.Without < a.Without {
			t.Errorf("%+v, then %+v", a, b)
		}
	}
	// an event alone takes 100 ms of start, 20 of its own and 200 idle: 3.1 a second fill one
	if e.From == nil || *e.From < 2 || *e.From > 8 || e.Unit != "EUR" || e.Curve[0].Cold < 0.8 ||
		e.Curve[0].ColdWith > 0.1 {
		t.Errorf("%s %+v", e.Sentence, e.Curve)
	}
}

// What grows with contention in a start is computing, by whoever it is; what a calm pass measured of invocations need
// not be inferred.
func TestWhatComputes(t *testing.T) {
	m := model{}
	for i := range 20 {
		slow := 1 + float64(i%5)/2
		noise := time.Duration(i%3-1) * time.Millisecond
		m.starts = append(m.starts, start{cpu: 80 * time.Millisecond, slow: slow,
			rest: 200*time.Millisecond + noise + time.Duration(slow*float64(40*time.Millisecond))})
	}
	m.learnHidden()
	for _, s := range m.starts {
		if d := s.cpu - 120*time.Millisecond; d < -3*time.Millisecond || d > 3*time.Millisecond {
			t.Errorf("it computes %v, want 120 ms", s.cpu)
		}
		if d := s.rest - 200*time.Millisecond; d < -10*time.Millisecond || d > 10*time.Millisecond {
			t.Errorf("and waits %v beside, want 200 ms", s.rest)
		}
	}
	b := world{n: 1000, rate: 100, cpu: 0.9, service: fixed(10 * time.Millisecond)}.base(t)
	inferred := b.functions[0].computes
	b.Run.Calm = []record.Calm{{N: 30, Wall: 300 * time.Millisecond, CPU: 150 * time.Millisecond}}
	b.learnSlowness()
	if measured := b.functions[0].computes; math.Abs(inferred-0.9) > 0.1 || measured != 0.5 {
		t.Errorf("it computes for %.2f of its time, and %.2f by the calm pass", inferred, measured)
	}
}

func TestParseTry(t *testing.T) {
	for text, want := range map[string]string{"quote.max=1..4,6,8..16/4": "[1 2 3 4 6 8 12 16]", "a.b.max=0": "[0]",
		"concurrency=4..6": "[4 5 6]", "f.idle_after=1s,1m": "[1s 1m]"} {
		if got, err := ParseTry(text); err != nil || fmt.Sprint(got.Values) != want {
			t.Errorf("%s: %v, %v", text, got, err)
		}
	}
	for _, text := range []string{"", "max=1", "f.max", "f.max=", "f.max=3..1", "f.max=1,1", "f.max=1..x",
		"f.max=0..9999",
		"f.max=1..4/0", "f.max=-1..3", "f.max=1,,2"} {
		if got, err := ParseTry(text); err == nil {
			t.Errorf("%q is taken as %v", text, got)
		}
	}
}

// A grid of settings, and what it comes to in events a second of each processor.
func BenchmarkGrid(b *testing.B) {
	base := world{n: 10_000, rate: 300, wait: time.Second, service: exponential(10 * time.Millisecond)}.base(b)
	for b.Loop() {
		g, err := base.NewGrid(Order{Seeds: 2, Tries: []Try{{"f", "max", []string{"3", "4", "6"}},
			{"f", "keep_warm", []string{"0", "2"}}}})
		if err != nil {
			b.Fatal(err)
		}
		for i := range g.Jobs() {
			g.Do(i, nil)
		}
		g.Conclude()
	}
	b.ReportMetric(12*10_000*float64(b.N)/b.Elapsed().Seconds(), "events/s")
}
