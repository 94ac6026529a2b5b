package measure

import (
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// scan is what one walk over a run's records gives, for all that is computed of
// them. A run of a million is larger than any cache: each walk counts.
type scan struct {
	at         []int32  // the place of each invocation by its ID, or -1
	sizes      [][3]int // deliveries of each function by class, at most
	each       []int32  // good invocations of each instance
	firsts     []int32  // good invocations that are not warm
	functions  []FunctionFigures
	unexpected bool            // whether any answer was
	outcomes   []Counts        // of the deliveries to each function; by count
	atOnce     []time.Duration // sent - due of events that had not to wait; by collect
	routes     []*routeRecord
	warm       []WarmUp // of each function

	first, last, ended clock.Time // first and last due from outside, last outcome
	outside            int        // events from outside
	replies, faults    bool       // whether any event was made of a reply; whether any had a fault
}

func walk(r *record.Run) *scan {
	c := &scan{functions: make([]FunctionFigures, len(r.Functions)), sizes: make([][3]int, len(r.Functions)),
		each:  make([]int32, len(r.Instances)),
		first: clock.Never, last: -1, ended: -1}
	statuses := make([]map[int32]int, len(r.Functions))
	for fn := range c.functions {
		statuses[fn] = map[int32]int{}
	}
	c.at = make([]int32, 0, r.IDs())
	var status, n, of int32 // the same status many times in a row is counted at once
	flush := func() {
		if n > 0 && status > 0 {
			statuses[of][status] += int(n)
		}
		n = 0
	}
	for i := range r.Invocations {
		v := &r.Invocations[i]
		for uint64(len(c.at)) <= v.ID {
			c.at = append(c.at, -1)
		}
		c.at[v.ID] = int32(i)
		c.sizes[v.Function][v.Class] += max(int(v.Batch), 1)
		if v.Status != status || v.Function != of {
			flush()
			status, of = v.Status, v.Function
		}
		n++
		switch v.Result {
		case engine.OK:
			if int(v.Instance) < len(c.each) {
				c.each[v.Instance]++
			}
			if v.Class != engine.Warm {
				c.firsts = append(c.firsts, int32(i))
			}
		case engine.Timeout:
			c.functions[v.Function].Timeouts++
		}
		c.unexpected = c.unexpected || v.Unexpected
	}
	flush()
	for fn := range c.functions {
		c.functions[fn].Statuses = statusTexts(statuses[fn])
	}
	for i := range r.Instances {
		if in := &r.Instances[i]; in.Reason == engine.Crashed && in.Ready > 0 && in.Stopped > 0 {
			c.functions[in.Function].Crashes++
		}
	}
	return c
}
