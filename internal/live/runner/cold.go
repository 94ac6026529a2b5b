package runner

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/measure"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/stats"
	"nightdrill.dev/internal/live/proc"
)

// coldStarts carries a drill of cold starts out: in each round one start of every
// variant, in an order of the round's own, each with nothing else in progress. Where
// warm invocations are wanted, they come in the last rounds, from variant to variant
// in turns, so that whatever the machine does meanwhile befalls all alike.
func (d *Drill) coldStarts(ctx context.Context) {
	r := rng.New(d.drill.Seed, 7)
	order := make([]int, len(d.cold))
	for i := range order {
		order[i] = i
	}
	shuffle := func() []int {
		for i := len(order) - 1; i > 0; i-- {
			k := r.Below(i + 1)
			order[i], order[k] = order[k], order[i]
		}
		return order
	}
	n, warm := coldRounds(d.drill.Cold)
	var looks []int
	if d.drill.Cold.Early {
		looks = stats.Looks(n - warm)
	}
	for round := range n - warm {
		if slices.Contains(looks, round) && d.clear(round) {
			break
		}
		for _, i := range shuffle() {
			if !d.coldStart(ctx, &d.cold[i], round) || !d.cleared(ctx, &d.cold[i]) {
				return
			}
		}
	}
	sent := 0
	for k := range warm { // one instance of each, that stays for its share of them
		for _, i := range shuffle() {
			if !d.coldStart(ctx, &d.cold[i], n-warm+k) {
				return
			}
		}
		for i := range d.cold {
			d.cold[i].used = d.computed(d.cold[i].fn)
		}
		for ; sent < d.drill.Cold.Warm*(k+1)/warm; sent++ {
			for _, i := range shuffle() {
				if !d.one(ctx, &d.cold[i], n+sent) {
					return
				}
			}
		}
		for i := range d.cold {
			c := &d.cold[i]
			c.warmCPU += max(d.computed(c.fn)-c.used, 0)
		}
		for _, i := range shuffle() {
			if !d.cleared(ctx, &d.cold[i]) {
				return
			}
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.noMore = true
	d.stepLocked(engine.Input{Kind: engine.NoMore}, nil)
}

// computed returns the processor time of a function's instances so far; 0 where it is not known.
func (d *Drill) computed(fn int32) (sum time.Duration) {
	d.mu.Lock()
	var all []*proc.Process
	for _, in := range d.alive {
		if in.proc != nil && d.records[in.id].Function == fn {
			all = append(all, in.proc)
		}
	}
	d.mu.Unlock()
	for _, p := range all {
		used, _ := p.Computed()
		sum += used
	}
	return sum
}

// Calm returns what the warm invocations of a drill of cold starts took, by the names of their functions.
func (d *Drill) Calm() map[string]record.Calm {
	out := map[string]record.Calm{}
	r := d.Snapshot()
	for i := range d.cold {
		c := &d.cold[i]
		x := record.Calm{CPU: c.warmCPU}
		var all []time.Duration
		for k := range r.Invocations {
			if v := &r.Invocations[k]; v.Function == c.fn && v.Class == engine.Warm && v.Result == engine.OK {
				all = append(all, v.Done.Sub(v.Began()))
				x.Wall += v.Done.Sub(v.Began())
			}
		}
		if x.N = len(all); x.N > 0 {
			slices.Sort(all)
			x.Median = all[stats.Rank(0.5, x.N)-1]
			out[d.p.Functions[c.fn].Name] = x
		}
	}
	return out
}

// SetCalm keeps what a calm pass took, by the names of its functions, with the run.
func (d *Drill) SetCalm(of map[string]record.Calm) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for fn := range d.p.Functions {
		if x, ok := of[d.p.Functions[fn].Name]; ok {
			x.Function = int32(fn)
			d.rec.Calm = append(d.rec.Calm, x)
		}
	}
}

// enough is the difference, as a share, that cold starts which may end early must be able to detect where
// they detect none.
const enough = 0.1

// clear reports whether the cold starts so far have a clear verdict, and records that they end with that.
func (d *Drill) clear(rounds int) bool {
	if !measure.Settled(d.Snapshot(), enough) {
		return false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.rec.StoppedAt = rounds
	return true
}

// coldRounds returns how many cold starts of each variant there are, and how many of them, the last, have
// the warm invocations.
func coldRounds(c *plan.ColdStarts) (n, warm int) {
	if c.Warm == 0 {
		return c.N, 0
	}
	return c.N, min(c.N, warmRounds)
}

// warmRounds is in how many lives of each variant its warm invocations are made, at
// most: warming up is seen more than once.
const warmRounds = 5

// coldFeed is what a variant is started with.
type coldFeed struct {
	source int32
	takes  []int32 // numbers of the payloads that reach it
	fn     int32
	files  []string // of the function, as far as they are known
	before int      // instances there were before its last start
	// processor time of its instances before its warm invocations, and of all of those
	used, warmCPU time.Duration
}

// coldStart takes one start: the variant's files are dropped from the cache where
// that is requested, what is started ahead is waited for, and one event is handed in.
func (d *Drill) coldStart(ctx context.Context, c *coldFeed, round int) bool {
	f := d.p.Functions[c.fn]
	calm := func() bool { // nothing of the function is in progress
		look := d.eng.Stats(int(c.fn))
		if s := &d.fns[c.fn].spares; s.coming > 0 || len(s.list) < f.Parked && !s.failed {
			d.park(c.fn)
			return false
		}
		for _, in := range d.alive {
			if in.stopping && d.records[in.id].Function == c.fn {
				return false
			}
		}
		return look.Starting == 0 && look.InFlight == 0 && (look.Ready > 0) == (f.Limits.KeepWarm > 0)
	}
	if !d.await(ctx, calm) {
		return false
	}
	left := -1.0
	if f.Dropped {
		if len(c.files) == 0 {
			c.files = filesOf(&f, d.p.Dir)
		}
		left = proc.DropFiles(c.files)
	}
	d.mu.Lock()
	c.before = len(d.instances)
	event := d.present(c, round)
	for id := c.before; id < len(d.instances); id++ {
		if left >= 0 {
			d.records[id].Left = &left
		}
	}
	d.mu.Unlock()
	if !d.await(ctx, func() bool { return d.events[event].open == 0 }) {
		return false
	}
	if f.Dropped && round == 0 { // what it has mapped is its own too
		d.mu.Lock()
		var pids []int
		for _, in := range d.alive {
			if in.proc != nil && d.records[in.id].Function == c.fn {
				pids = append(pids, in.proc.PID)
			}
		}
		d.mu.Unlock()
		for _, pid := range pids {
			c.files = append(c.files, proc.Mapped(pid)...)
		}
		slices.Sort(c.files)
		c.files = slices.Compact(c.files)
	}
	return true
}

// one sends one event to a variant, and waits for what happens to it.
func (d *Drill) one(ctx context.Context, c *coldFeed, round int) bool {
	d.mu.Lock()
	event := d.present(c, round)
	d.mu.Unlock()
	return d.await(ctx, func() bool { return d.events[event].open == 0 })
}

// present hands the payload of a round in, and returns its event; the lock is held.
func (d *Drill) present(c *coldFeed, round int) int64 {
	event := int64(len(d.rec.Arrivals))
	d.taken = arrivalInfo{record.Arrival{Due: d.now(), From: -1, Payload: c.takes[round%len(c.takes)],
		Round: int32(round / len(c.takes)), Source: c.source}, eventInfo{feed: -1, caller: -1}, nil}
	d.stepLocked(d.arrived(&d.taken), nil)
	return event
}

// cleared stops a variant's instance, and waits until it is gone.
func (d *Drill) cleared(ctx context.Context, c *coldFeed) bool {
	d.sampleInstances()
	d.step(engine.Input{Kind: engine.Clear, Function: c.fn}, nil)
	return d.await(ctx, func() bool {
		for id := c.before; id < len(d.instances); id++ {
			if in := d.instances[id]; in != nil && in.stopping && d.records[id].Function == c.fn &&
				d.records[id].Stopped == 0 {
				return false
			}
		}
		return true
	})
}

// filesOf returns the files of a function that are known before it runs: its
// command's, and those that make its version.
func filesOf(f *plan.Function, dir string) (files []string) {
	add := func(path string) {
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() && !slices.Contains(files, path) {
			files = append(files, path)
		}
	}
	for i, arg := range f.Start {
		if i == 0 {
			add(proc.Program(arg))
		}
		if !filepath.IsAbs(arg) {
			arg = filepath.Join(f.Dir, arg)
		}
		add(arg)
	}
	for _, pattern := range f.Watch {
		found, _ := doublestar.FilepathGlob(filepath.Join(dir, filepath.FromSlash(pattern)), doublestar.WithFilesOnly())
		for _, path := range found[:min(len(found), 10_000)] {
			add(path)
		}
	}
	return files
}

// coldFeeds prepares a drill of cold starts.
func (d *Drill) coldFeeds() {
	for i := range d.drill.Feeds {
		f := &d.drill.Feeds[i]
		set := &d.p.Sets[f.Set]
		fn := int32(d.p.Sources[f.Source].Wires[0].To)
		c := coldFeed{source: int32(f.Source), fn: fn}
		first := d.setFirst(f.Set)
		for n := range set.Payloads {
			if d.p.Routes(f.Source, &set.Payloads[n]) != 0 {
				c.takes = append(c.takes, first+int32(n))
			}
		}
		if c.takes == nil { // none does, and the findings say so
			c.takes = []int32{first}
		}
		d.cold = append(d.cold, c)
	}
}
