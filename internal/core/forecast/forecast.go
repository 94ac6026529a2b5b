// Package forecast answers what a run would have been under other limits, or with more traffic: the engine in virtual
// time, over processors that are shared, with the times that were measured.
//
// [New] learns a [Base] from a run: what each start and each invocation takes of a processor and beside it, how events
// came and how they were answered. [Base.Simulate] gives a run like any other, so that figures, budgets and costs need
// no second code. [Base.Grid] simulates many limits over many seeds, and refuses what the run cannot tell.
package forecast

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/figure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// Base is what was learnt from a run.
type Base struct {
	Run     *record.Run
	Project *plan.Project
	Limits  []plan.Limits // under which it was
	Changes []plan.Change
	Settle  time.Duration
	Cores   float64 // processors of the machine

	drill     *plan.Drill
	own       *offers // the run's own traffic
	functions []model
	events    []event // in the order of their times
	poolOf    []int   // of each invocation: its pool; -1 for none
	others    []float64
	slow      *slowness
	waits     bool      // what instances waited for a processor was measured
	Refusals  []Refusal // what it cannot tell at all
}

// Refusal is why something is not forecast.
type Refusal struct {
	Function string // "" for all
	Text     string
	// Remedy is what would make it possible; "" for nothing.
	Remedy string
}

// event is an event of the run, with what came of it.
type event struct {
	due      clock.Time
	source   int
	takes    uint64
	key      int32
	delay    time.Duration
	async    bool
	payload  int32
	round    int32
	replies  []replies
	children []int // places of the events that its replies were sent on as
	outside  bool
}

// replies are how a function answered the attempts of an event, in order.
type replies struct {
	function int32
	all      []reply
}

func (e *event) repliesOf(function int32) []reply {
	for i := range e.replies {
		if e.replies[i].function == function {
			return e.replies[i].all
		}
	}
	return nil
}

// reply is how an attempt was answered.
type reply struct {
	status int32
	broken engine.Result
	again  bool          // it asked for the event again,
	after  time.Duration // or for a pause
}

// model is what was learnt of a function.
type model struct {
	name      string
	computes  float64 // share of an invocation's time, alone, in which it has a processor
	cap       float64 // processors that an instance may use; 0 for no bound
	pools     [pools][]sample
	near      [pools]int // which pool stands for each
	starts    []start
	seen      int // starts that became ready
	inFlight  int // most at once
	peakBytes int64
	n         int
}

// pool is what service times depend on: how many invocations the instance had answered, how many events one has, and
// how long the instance had rested.
type pool struct{ position, batch, rest int }

// sample is a service time without waiting for a processor; samples are in the order of time.
type sample struct {
	cpu, rest time.Duration
}

// start is what a start takes, likewise.
type start struct {
	cpu, rest time.Duration
	exec      time.Duration // until the command runs
	slow      float64       // by how much it was slowed down
}

// position returns the class of the n-th invocation of an instance, from 1.
func position(n int) int {
	switch {
	case n <= 1:
		return 0
	case n <= 3:
		return 1
	case n <= 8:
		return 2
	}
	return 3
}

// batched returns the class of a number of events.
func batched(n int) int {
	switch {
	case n <= 1:
		return 0
	case n <= 3:
		return 1
	case n <= 7:
		return 2
	}
	return 3
}

// rested returns the class of how long an instance had nothing to do before an invocation. After a rest, caches are
// cold and connections behave differently: a system delays acknowledgements only where the peer was answered within
// its shortest timer for them, which is 40 ms on Linux (TCP_ATO_MIN), and a server that writes its reply in two parts
// waits for them.
func rested(d time.Duration) int {
	switch {
	case d < 40*time.Millisecond:
		return 0
	case d < 200*time.Millisecond:
		return 1
	}
	return 2
}

// New learns from a run. p and d are the project and the drill that it was of, and cores the processors of its machine.
// The error says why nothing can be learnt from it.
func New(p *plan.Project, d *plan.Drill, r *record.Run, cores int) (*Base, error) {
	switch {
	case !r.Finished:
		return nil, fmt.Errorf("run %s did not finish", r.ID)
	case r.Cold():
		return nil, fmt.Errorf("run %s is of cold starts one at a time, without any load to forecast", r.ID)
	case len(r.Invocations) == 0:
		return nil, fmt.Errorf("run %s has no invocations", r.ID)
	}
	if err := same(p, r); err != nil {
		return nil, err
	}
	b := &Base{Run: r, Project: p, drill: d, Limits: slices.Clone(d.Limits), Settle: d.Settle,
		Cores: float64(max(cores, 1))}
	if err := b.learnChanges(d.Changes); err != nil {
		return nil, err
	}
	b.learnOthers()
	b.learnEvents()
	b.learnSlowness()
	b.learnStarts()
	b.learnServices()
	var err error
	if b.own, err = b.newOffers(Traffic{}); err != nil {
		return nil, err
	}
	b.doubts()
	return b, nil
}

// same returns why a project is no longer the one of a run.
func same(p *plan.Project, r *record.Run) error {
	if len(p.Functions) != len(r.Functions) || len(p.Sources) != len(r.Sources) {
		return fmt.Errorf("the project has other functions or sources than run %s; carry the drill out again", r.ID)
	}
	for i := range p.Functions {
		if p.Functions[i].Name != r.Functions[i].Name {
			return fmt.Errorf("run %s has no function %s; carry the drill out again", r.ID, p.Functions[i].Name)
		}
	}
	for i := range p.Sources {
		if p.Sources[i].Name != r.Sources[i].Name || len(p.Sources[i].Wires) != len(r.Sources[i].To) {
			return fmt.Errorf("source %s is wired otherwise than in run %s; carry the drill out again",
				p.Sources[i].Name,
				r.ID)
		}
	}
	return nil
}

// soon is within which time of its own a change of the drill was made in the run.
const soon = time.Second

// learnChanges finds which of the drill's changes were made in the run. The error says that others were, too: what they
// were to is kept in words alone.
func (b *Base) learnChanges(planned []plan.Change) error {
	for _, made := range b.Run.Changes {
		at := slices.IndexFunc(planned, func(c plan.Change) bool {
			d := made.At.Sub(b.Run.Begins) - c.At
			return int(made.Function) == c.Function && d > -soon && d < soon
		})
		if at < 0 {
			return fmt.Errorf("limits were changed by hand in run %s (%s, after %s); carry the drill out without",
				b.Run.ID, made.Text, figure.Duration(made.At.Sub(b.Run.Begins)))
		}
		b.Changes = append(b.Changes, planned[at])
	}
	return nil
}

// learnOthers learns what the machine did beside the functions, in tasks that want a processor.
func (b *Base) learnOthers() {
	for i := range b.Run.Loads {
		l := &b.Run.Loads[i]
		others := max(float64(l.Busy-l.Ours)/1000, 0)
		b.others = append(b.others, others)
	}
}

// othersAt returns how many tasks of others wanted a processor at a moment of the run; later ones are as those before.
func (b *Base) othersAt(at clock.Time) float64 {
	n := len(b.others)
	if n == 0 {
		return 0
	}
	loads := b.Run.Loads
	whole := loads[n-1].At
	if whole <= 0 {
		return b.others[0]
	}
	at %= whole
	i, _ := slices.BinarySearchFunc(loads, at, func(l record.MachineLoad, t clock.Time) int { return int(l.At - t) })
	return b.others[min(i, n-1)]
}

// learnEvents learns how events came, and how they were answered.
func (b *Base) learnEvents() {
	r, p := b.Run, b.Project
	at := r.Index()
	sorter := p.NewSorter()
	b.events = make([]event, len(r.Arrivals))
	for i := range r.Arrivals {
		a := &r.Arrivals[i]
		e := &b.events[i]
		*e = event{due: a.Due - r.Begins, source: int(a.Source), delay: a.Delay, payload: a.Payload, round: a.Round,
			outside: a.From < 0 || a.Origin == engine.FromFault}
		if int(a.Payload) < len(r.Payloads) {
			of := &r.Payloads[a.Payload]
			if set := p.SetNamed(of.Set); set >= 0 && of.N >= 1 && of.N <= len(p.Sets[set].Payloads) {
				pl := &p.Sets[set].Payloads[of.N-1]
				e.key, e.async = sorter.Key(e.source, pl), pl.Async()
			}
		}
		if a.From >= 0 && (a.Origin == engine.FromReply || a.Origin == engine.FromPublish) {
			from := &b.events[a.From]
			from.children = append(from.children, i)
		}
	}
	ended := make([]bool, len(b.events)) // well
	for i := range r.Deliveries {
		if d := &r.Deliveries[i]; d.Wire >= 0 && int(d.Event) < len(b.events) {
			b.events[d.Event].takes |= 1 << d.Wire
			ended[d.Event] = d.Outcome == engine.Done
		}
	}
	for i := range r.Attempts {
		a := &r.Attempts[i]
		v := r.Invocation(at, a.Invocation)
		if v == nil || int(a.Event) >= len(b.events) || v.Result == engine.RunEnded {
			continue
		}
		e := &b.events[a.Event]
		if v.Batch > 1 && a.Result != engine.Retried && (v.Status >= record.LeastBad || v.Result != engine.OK) &&
			ended[a.Event] {
			continue // another event of its batch failed it
		}
		k := slices.IndexFunc(e.replies, func(x replies) bool { return x.function == v.Function })
		if k < 0 {
			k, e.replies = len(e.replies), append(e.replies, replies{function: v.Function})
		}
		e.replies[k].all = append(e.replies[k].all, reply{v.Status, brokenBy(v.Result), a.Result == engine.Retried,
			v.RetryAfter})
	}
}

// brokenBy returns how an invocation that had a result would break again; engine.OK where it would reply.
func brokenBy(result engine.Result) engine.Result {
	switch result {
	case engine.OK, engine.BadStatus, engine.Timeout, engine.AckLost, engine.Retried, engine.Behind:
		return engine.OK
	}
	return result
}

// learnStarts learns what starts take. What they waited for a processor is left out: they wait again, or not, in the
// simulation.
func (b *Base) learnStarts() {
	r := b.Run
	for i := range r.Instances {
		in := &r.Instances[i]
		if in.Function < 0 || in.Spawned == 0 && in.Ready == 0 {
			continue
		}
		m := &b.functions[in.Function]
		m.peakBytes = max(m.peakBytes, in.Peak)
		if in.Ready == 0 {
			continue
		}
		whole := in.Ready.Sub(in.Spawned)
		cpu := min(in.ReadyCPU, whole)
		slow := b.slow.between(in.Spawned, in.Ready, m.cap)
		rest := max(whole-time.Duration(float64(cpu)*slow), 0)
		if b.waits {
			rest = max(whole-cpu-in.ReadyWait, 0)
			slow = float64(cpu+in.ReadyWait) / float64(max(cpu, 1))
		}
		m.starts = append(m.starts, start{cpu: cpu, rest: rest, exec: max(in.Exec.Sub(in.Spawned), 0), slow: slow})
		m.seen++
	}
	for fn := range b.functions {
		if b.waits { // else how much starts were contended for is not measured
			b.functions[fn].learnHidden()
		}
	}
}

// learnHidden finds what others compute on behalf of a start (the kernel, a launcher, the driver): the part of the
// rest of its time that grows with how much the processors were contended for. It counts as processor time.
func (m *model) learnHidden() {
	var slopes []float64
	for i := range m.starts {
		for k := range i {
			a, b := &m.starts[i], &m.starts[k]
			if d := a.slow - b.slow; d > contended || d < -contended {
				slopes = append(slopes, float64(a.rest-b.rest)/d)
			}
		}
	}
	if len(m.starts) < fewStarts || len(slopes) < fewStarts {
		return
	}
	slices.Sort(slopes) // the median of the slopes between pairs (Theil and Sen), which outliers do not move
	hidden := max(slopes[len(slopes)/2], 0)
	for i := range m.starts {
		s := &m.starts[i]
		h := min(hidden, float64(s.rest)/s.slow)
		s.rest -= time.Duration(h * s.slow)
		s.cpu += time.Duration(h)
	}
}

// contended is by how much the slowness of two starts must differ for a slope between them.
const contended = 0.3

// learnServices learns what invocations take.
func (b *Base) learnServices() {
	r := b.Run
	order := make([]int32, len(r.Invocations))
	for i := range order {
		order[i] = int32(i)
	}
	slices.SortStableFunc(order, func(x, y int32) int {
		return int(r.Invocations[x].Began() - r.Invocations[y].Began())
	})
	nth, last := make([]int, len(r.Instances)), make([]clock.Time, len(r.Instances))
	b.poolOf = slices.Repeat([]int{-1}, len(r.Invocations))
	for i := range r.Instances {
		last[i] = r.Instances[i].Ready
	}
	for _, i := range order {
		v := &r.Invocations[i]
		m := &b.functions[v.Function]
		if v.Result == engine.RunEnded || int(v.Instance) >= len(nth) {
			continue
		}
		nth[v.Instance]++
		m.n++
		work, rest := b.apart(v)
		k := pool{position(nth[v.Instance]), batched(int(v.Batch)), rested(v.Began().Sub(last[v.Instance]))}
		last[v.Instance] = max(last[v.Instance], v.Done)
		m.pools[k.place()] = append(m.pools[k.place()], sample{work, rest})
		b.poolOf[i] = k.place()
	}
	for fn := range b.functions {
		b.functions[fn].findNearest()
		b.functions[fn].inFlight = b.inFlight(fn).most
	}
}

// level is how many invocations a function had in flight over time.
type level struct {
	at   []clock.Time
	n    []int // from each of these on
	most int
}

// since returns how many were in flight from a moment on.
func (l *level) since(t clock.Time) int {
	k, _ := slices.BinarySearch(l.at, t+1)
	if k == 0 {
		return 0
	}
	return l.n[k-1]
}

// inFlight returns how many invocations a function had in flight over time.
func (b *Base) inFlight(fn int) (l level) {
	type edge struct {
		at clock.Time
		by int
	}
	var edges []edge
	for i := range b.Run.Invocations {
		if v := &b.Run.Invocations[i]; int(v.Function) == fn {
			edges = append(edges, edge{v.Assigned, 1}, edge{v.Done, -1})
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Or(cmp.Compare(a.at, b.at), a.by-b.by) })
	n := 0
	for _, e := range edges {
		n += e.by
		l.at, l.n, l.most = append(l.at, e.at), append(l.n, n), max(l.most, n)
	}
	return l
}

// draw draws from samples in blocks, so that what belongs together in time stays together: first a sample of the
// samples, since those measured are one draw themselves, then from that.
type draw struct {
	r    *rng.Source
	next []struct {
		at, left int     // the next one of each pool, and how many of its block are left
		of       []int32 // the sample of the samples
	}
}

func newDraw(seed, stream uint64, n int) *draw {
	d := &draw{r: rng.New(seed, stream)}
	d.next = slices.Grow(d.next, n)[:n]
	return d
}

// index returns the place of the next sample of a pool of n.
func (d *draw) index(pool, n int) int {
	x := &d.next[pool]
	// about the square root: long enough to keep what depends on each other, short enough for many of them
	block := int(math.Ceil(math.Sqrt(float64(n))))
	for len(x.of) < n {
		from := d.r.Below(n)
		for i := range min(block, n-len(x.of)) {
			x.of = append(x.of, int32((from+i)%n))
		}
	}
	if x.left == 0 {
		x.at, x.left = d.r.Below(n), block
	}
	i := x.of[x.at%n]
	x.at, x.left = x.at+1, x.left-1
	return int(i)
}

// pools is how many pools of samples a function has.
const pools = 48

func (k pool) place() int { return 12*k.position + 3*k.batch + k.rest }

func poolAt(place int) pool { return pool{place / 12, place / 3 % 4, place % 3} }

// nearest returns the samples of a pool, or of the nearest to it that has enough.
func (m *model) nearest(k pool) (place int, all []sample) {
	place = m.near[k.place()]
	return place, m.pools[place]
}

// findNearest finds which pool stands for each.
func (m *model) findNearest() {
	for i := range m.near {
		k, least := poolAt(i), 1<<30
		for j := range m.pools {
			at := poolAt(j)
			distance := 6*abs(at.position-k.position) + 4*abs(at.batch-k.batch) + 3*abs(at.rest-k.rest)
			if len(m.pools[j]) < fewest {
				distance += 100
			}
			if len(m.pools[j]) > 0 && distance < least {
				m.near[i], least = j, distance
			}
		}
	}
}

// fewest is how many samples a pool has that stands for itself.
const fewest = 6

func abs(n int) int { return max(n, -n) }
