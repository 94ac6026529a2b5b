package runner

import (
	"errors"
	"fmt"
	"time"

	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/live/proc"
)

// Limits returns the limits that hold now: of each function, and the project total.
func (d *Runner) Limits() (all int, each []plan.Limits) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.all, d.limits()
}

// limits returns the limits of each function; the lock is held.
func (d *Runner) limits() (each []plan.Limits) {
	for i := range d.p.Functions {
		each = append(each, d.eng.Limits(i))
	}
	return each
}

// SetLimits changes the limits of a function while the run goes on, and enters
// that into the run. The error says why they cannot hold.
func (d *Runner) SetLimits(fn int, l plan.Limits) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if why := d.fns[fn].CheckLimits(&l); why != "" {
		return errors.New(why)
	}
	each := d.limits()
	before := each[fn]
	if each[fn] = l; l == before {
		return nil
	}
	if why := plan.SharesFit(d.all, each); why != "" {
		return errors.New(why)
	}
	d.change(fn, l.Difference(before), engine.Input{Kind: engine.SetLimits, Function: int32(fn), Limits: l})
	return nil
}

// SetConcurrency changes the limit for all functions together.
func (d *Runner) SetConcurrency(n int) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	each := d.limits()
	switch why := plan.SharesFit(n, each); {
	case n < 1:
		return errors.New("it must be at least 1; to let nothing through, reject everything")
	case why != "":
		return errors.New(why)
	case n == d.all:
		return nil
	}
	d.setAll(n)
	return nil
}

func (d *Runner) setAll(n int) {
	text := fmt.Sprintf("project total %d → %d", d.all, n)
	d.all = n
	d.change(-1, text, engine.Input{Kind: engine.SetProject, Concurrency: int32(n)})
}

// Replace replaces a function's instances as by a new version of its code.
func (d *Runner) Replace(fn int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.renew(fn)
}

func (d *Runner) renew(fn int) {
	d.change(fn, fmt.Sprintf("replaced %s", replacement(d.fns[fn].Replace)), engine.Input{Kind: engine.Replace,
		Function: int32(fn)})
}

func replacement(r plan.Replacement) string {
	return [...]string{"one by one", "all at once", "side by side"}[r]
}

// change carries a change out and enters it into the run; the lock is held.
func (d *Runner) change(fn int, text string, in engine.Input) {
	d.recorder.changed(fn, text)
	d.stepLocked(in, nil)
}

// sampleEvery is how often it is read what instances use.
const sampleEvery = 250 * time.Millisecond

// sample reads what the instances use, until the run is over.
func (d *Runner) sample() {
	tick := time.NewTicker(sampleEvery)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-d.life.Done():
			return
		}
		d.sampleInstances()
		d.sampleMachine()
	}
}

// sampleInstances reads what the instances use.
func (d *Runner) sampleInstances() {
	d.mu.Lock()
	var live []*instance
	var running []*proc.Process
	for _, in := range d.alive {
		if in.proc != nil {
			live, running = append(live, in), append(running, in.proc)
		}
	}
	d.mu.Unlock()
	proc.Sample(running)
	for i, in := range live {
		in.measure(running[i])
	}
}

// sampleMachine notes what the machine did since it was last looked at, in a drill. Only sample calls it.
func (d *Runner) sampleMachine() {
	if d.machine == nil {
		return
	}
	load, ok := d.machine.next()
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	ours := time.Duration(0)
	for i := range d.records {
		ours += d.records[i].CPU
	}
	now := d.now()
	if took := now - d.machine.at; d.machine.at > 0 && took > 0 {
		load.Ours = int32(1000 * (ours - d.machine.ours) / time.Duration(took))
	}
	d.machine.at, d.machine.ours = now, ours
	load.At = now
	*d.machine.loads = append(*d.machine.loads, load)
}

// measure reads what the instance has used so far.
func (in *instance) measure(p *proc.Process) {
	u := p.Used()
	in.d.mu.Lock()
	defer in.d.mu.Unlock()
	r := in.record()
	if r.Stopped > 0 { // it is as it will be kept
		return
	}
	if u.CPU > 0 && u.CPU >= r.CPU {
		if at := time.Now(); !in.sampled.IsZero() && at.Sub(in.sampled) > sampleEvery/5 {
			r.Load = float64(u.CPU-r.CPU) / float64(at.Sub(in.sampled))
		}
		in.sampled = time.Now()
		r.CPU = u.CPU
	}
	r.Peak = max(r.Peak, u.Peak)
}
