// Package draw is the drawings of a run as data, the same for screen and
// paper: which lane holds what in which stretch of time, how much arrived,
// waited and was rejected beside it. It knows no colours and no terminal.
//
// A Chart follows a run as it grows: Update takes in what is new. Lane, Count
// and Waiting then answer for a Window, which is a stretch of time cut into
// cells.
package draw

import (
	"cmp"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// Window is a stretch of time, cut into cells.
type Window struct {
	From, To clock.Time
	Cells    int
}

// Cell returns the stretch of a cell.
func (w Window) Cell(i int) (from, to clock.Time) {
	span := int64(w.To - w.From)
	n := int64(max(w.Cells, 1))
	return w.From + clock.Time(span*int64(i)/n), w.From + clock.Time(span*int64(i+1)/n)
}

// At returns the cell of a moment; it may lie outside the window.
func (w Window) At(t clock.Time) int {
	if w.To <= w.From {
		return 0
	}
	at := float64(t-w.From) / float64(w.To-w.From) * float64(w.Cells)
	if at < 0 {
		return -1
	}
	return int(min(at, 1<<30))
}

// State is what an instance did in a cell.
type State uint8

const (
	Absent State = iota
	Starting
	Idle
	Busy
)

// Cell is a lane's content in one cell of a window.
type Cell struct {
	State  State
	Cold   bool    // a cold invocation began here
	First  bool    // one that was first but not cold began here
	Failed bool    // an invocation ended badly here
	Share  float64 // of the cell's time that the slots were busy, 0 to 1
	N      int     // invocations that touch the cell
}

// Lane is the life of one instance.
type Lane struct {
	Instance    record.Instance
	Slots       int
	Invocations []int32 // indices into the run's invocations, in the order of their ends
	open        []record.Invocation
	longest     time.Duration
	levels      []level // of detail, the finest first
}

// Chart indexes a run for drawing.
type Chart struct {
	run      *record.Run
	lanes    []*Lane
	arrived  []counter    // by source
	rejected []counter    // by source
	failed   []counter    // by source: failed and dead letters
	badly    [2][]counter // by function: answers with a status of 4xx, and of 5xx
	levels   [][]record.Level
	seen     struct{ arrivals, invocations, deliveries, levels int }
	first    []int32 // the last attempt seen of each invocation, by its ID, or -1
	before   []int32 // the attempt of the same invocation that came before an attempt, or -1
	place    []int32 // of each invocation in the run by its ID, or -1
	attempts int
}

// grain is the stretch of the counters.
const grain = 10 * time.Millisecond

// counter counts what happened in each grain of time.
type counter struct {
	n     []uint32
	Total int
}

func (c *counter) add(at clock.Time) {
	i := max(int(at/clock.Time(grain)), 0)
	for len(c.n) <= i {
		c.n = append(c.n, 0)
	}
	c.n[i]++
	c.Total++
}

// between counts what began in the grains of a stretch.
func (c *counter) between(from, to clock.Time) (sum int) {
	lo := int((from + clock.Time(grain) - 1) / clock.Time(grain))
	hi := int((to + clock.Time(grain) - 1) / clock.Time(grain))
	for i := max(lo, 0); i < min(hi, len(c.n)); i++ {
		sum += int(c.n[i])
	}
	return sum
}

// Update takes in what a run holds beyond what was seen of it. A chart follows
// one run.
func (c *Chart) Update(r *record.Run) {
	if c.run == nil {
		c.arrived, c.rejected, c.failed = make([]counter, len(r.Sources)), make([]counter, len(r.Sources)),
			make([]counter, len(r.Sources))
		c.levels = make([][]record.Level, len(r.Functions))
		c.badly = [2][]counter{make([]counter, len(r.Functions)), make([]counter, len(r.Functions))}
	}
	c.run = r
	for i := range r.Instances {
		if i == len(c.lanes) {
			c.lanes = append(c.lanes, &Lane{})
		}
		in := r.Instances[i]
		c.lanes[i].Instance, c.lanes[i].open = in, nil
		if in.Function >= 0 {
			c.lanes[i].Slots = max(r.Functions[in.Function].PerInstance, 1)
		}
	}
	for ; c.seen.arrivals < len(r.Arrivals); c.seen.arrivals++ {
		a := &r.Arrivals[c.seen.arrivals]
		c.arrived[a.Source].add(a.Arrived)
	}
	for ; c.seen.invocations < len(r.Invocations); c.seen.invocations++ {
		v := &r.Invocations[c.seen.invocations]
		if hundreds := v.Status / 100; hundreds == 4 || hundreds == 5 {
			c.badly[hundreds-4][v.Function].add(v.Done)
		}
		l := c.lanes[v.Instance]
		l.Invocations = append(l.Invocations, int32(c.seen.invocations))
		l.longest = max(l.longest, v.Done.Sub(v.Assigned))
		l.add(v)
		for uint64(len(c.place)) <= v.ID {
			c.place = append(c.place, -1)
		}
		c.place[v.ID] = int32(c.seen.invocations)
	}
	for ; c.seen.deliveries < len(r.Deliveries); c.seen.deliveries++ {
		switch d := &r.Deliveries[c.seen.deliveries]; d.Outcome {
		case engine.Rejected:
			c.rejected[d.Source].add(d.Ended)
		case engine.Failed, engine.DeadLettered, engine.Expired:
			c.failed[d.Source].add(d.Ended)
		}
	}
	for ; c.seen.levels < len(r.Levels); c.seen.levels++ {
		l := r.Levels[c.seen.levels]
		c.levels[l.Function] = append(c.levels[l.Function], l)
	}
	for ; c.attempts < len(r.Attempts); c.attempts++ {
		id := r.Attempts[c.attempts].Invocation
		for uint64(len(c.first)) <= id {
			c.first = append(c.first, -1)
		}
		c.before = append(c.before, c.first[id])
		c.first[id] = int32(c.attempts)
	}
	for _, v := range r.Open {
		c.lanes[v.Instance].open = append(c.lanes[v.Instance].open, v)
	}
}

// Run returns the run as it was at the last Update.
func (c *Chart) Run() *record.Run { return c.run }

// Lanes returns the lanes of instances that were started, by function and number.
func (c *Chart) Lanes() []*Lane {
	var out []*Lane
	for _, l := range c.lanes {
		if l.Instance.Function >= 0 && l.Slots > 0 && l.Instance.Number > 0 {
			out = append(out, l)
		}
	}
	slices.SortStableFunc(out, func(a, b *Lane) int {
		return cmp.Or(cmp.Compare(a.Instance.Function, b.Instance.Function), cmp.Compare(a.Instance.Number,
			b.Instance.Number))
	})
	return out
}

// Row returns a lane's cells in a window. now is the end of what is known.
func (c *Chart) Row(l *Lane, w Window, now clock.Time) []Cell {
	cells := make([]Cell, w.Cells)
	in := &l.Instance
	end := in.Stopped
	if end == 0 {
		end = now
	}
	ready := in.Ready
	if ready == 0 {
		ready = end
	}
	for i := range cells {
		from, to := w.Cell(i)
		switch {
		case to <= in.Spawned && !(from <= in.Spawned && in.Spawned < to) || from >= end:
		case from < ready && in.Spawned < to && (to <= ready || ready-max(from, in.Spawned) > min(to, end)-ready):
			cells[i].State = Starting
		default:
			cells[i].State = Idle
		}
	}
	put := func(v *record.Invocation, done clock.Time, failed bool) {
		first, last := max(w.At(v.Assigned), 0), min(w.At(done), w.Cells-1)
		for i := first; i <= last; i++ {
			from, to := w.Cell(i)
			overlap := min(done, to) - max(v.Assigned, from)
			if overlap < 0 || to <= from {
				continue
			}
			x := &cells[i]
			x.State = Busy
			x.N++
			x.Share += float64(overlap) / float64(to-from) / float64(l.Slots)
			x.Cold = x.Cold || v.Class == engine.Cold
			x.First = x.First || v.Class == engine.First
			x.Failed = x.Failed || failed && i == last
		}
	}
	if level := l.detail(w); level != nil {
		level.fill(cells, w, l.Slots)
	} else {
		c.fill(l, w, put)
	}
	for i := range l.open {
		if l.open[i].Assigned < w.To {
			put(&l.open[i], now, false)
		}
	}
	for i := range cells {
		cells[i].Share = min(cells[i].Share, 1)
	}
	return cells
}

// fill calls put for each invocation of a lane that touches the window.
func (c *Chart) fill(l *Lane, w Window, put func(v *record.Invocation, done clock.Time, failed bool)) {
	// sorted by their ends: those before the window are skipped, and the search
	// ends where nothing that long could reach back into it
	at, _ := slices.BinarySearchFunc(l.Invocations, w.From,
		func(i int32, t clock.Time) int { return cmp.Compare(c.run.Invocations[i].Done, t) })
	for _, i := range l.Invocations[at:] {
		v := &c.run.Invocations[i]
		if v.Done.Sub(w.To) > l.longest {
			break
		}
		if v.Assigned < w.To {
			put(v, v.Done, Bad(v))
		}
	}
}

// Bad reports whether an invocation counts as failed.
func Bad(v *record.Invocation) bool {
	return v.Result != engine.OK && v.Result != engine.RunEnded || v.Status >= 500
}

// Kind selects what Counts counts.
type Kind uint8

const (
	Arrived  Kind = iota
	Rejected      // rejected
	Lost          // failed, expired or made a dead letter
)

func (c *Chart) counters(k Kind) []counter {
	return [...][]counter{c.arrived, c.rejected, c.failed}[k]
}

// Counts returns how many events of a source there were in each cell of a
// window, and in all.
func (c *Chart) Counts(k Kind, source int, w Window) (cells []int, total int) {
	x := &c.counters(k)[source]
	cells = make([]int, w.Cells)
	for i := range cells {
		cells[i] = x.between(w.Cell(i))
	}
	return cells, x.Total
}

// BadStatuses returns how many invocations of a function were answered with a status of 4xx
// or 5xx in each cell of a window, and how many of each in all.
func (c *Chart) BadStatuses(function int, w Window) (cells []int, of4xx, of5xx int) {
	cells = make([]int, w.Cells)
	for _, by := range c.badly {
		for i := range cells {
			cells[i] += by[function].between(w.Cell(i))
		}
	}
	return cells, c.badly[0][function].Total, c.badly[1][function].Total
}

// Waiting returns the most deliveries of a function that waited in each cell.
func (c *Chart) Waiting(function int, w Window) []int {
	cells := make([]int, w.Cells)
	levels := c.levels[function]
	for i := range cells {
		from, to := w.Cell(i)
		at, _ := slices.BinarySearchFunc(levels, from,
			func(l record.Level, t clock.Time) int { return cmp.Compare(l.At, t) })
		if at > 0 {
			cells[i] = int(levels[at-1].Waiting)
		}
		for ; at < len(levels) && levels[at].At < to; at++ {
			cells[i] = max(cells[i], int(levels[at].Waiting))
		}
	}
	return cells
}

// Events returns the attempts that an invocation made, one for each event of its batch.
func (c *Chart) Events(v *record.Invocation) []record.Attempt {
	var out []record.Attempt
	if v.ID == 0 || v.ID >= uint64(len(c.first)) {
		return nil
	}
	for i := c.first[v.ID]; i >= 0; i = c.before[i] {
		out = append(out, c.run.Attempts[i])
	}
	slices.Reverse(out)
	return out
}

// Invocation returns an invocation by its ID, or nil.
func (c *Chart) Invocation(id uint64) *record.Invocation {
	if id == 0 || id >= uint64(len(c.place)) || c.place[id] < 0 {
		return nil
	}
	return &c.run.Invocations[c.place[id]]
}

// Near returns the place in a lane's list of the invocation nearest to a moment,
// or -1 when the lane has none.
func (c *Chart) Near(l *Lane, t clock.Time) int {
	best, least := -1, time.Duration(1<<62)
	at, _ := slices.BinarySearchFunc(l.Invocations, t,
		func(i int32, t clock.Time) int { return cmp.Compare(c.run.Invocations[i].Done, t) })
	for i := max(at-2, 0); i < min(at+3, len(l.Invocations)); i++ {
		v := &c.run.Invocations[l.Invocations[i]]
		d := max(v.Assigned.Sub(t), t.Sub(v.Done), 0)
		if d < least {
			best, least = i, d
		}
	}
	return best
}
