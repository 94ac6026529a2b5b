// Package fault decides which events of a drill are delivered wrongly, and how:
// twice, late, out of their order, again long after, or with the
// acknowledgement lost. Each event's fate depends on the drill's seed and the
// event's place in its feed alone, so the same drill does the same again.
package fault

import (
	"math/bits"
	"time"

	"nightdrill/internal/core/rng"
)

// Kinds of faults, as bits.
const (
	Duplicated  uint8 = 1 << iota // it came twice, close together
	Delayed                       // it came late
	Reordered                     // it came within a window of its time, past others
	Redelivered                   // it came again long after
	AckLost                       // the function did the work, the source never heard of it
)

// Names names the kinds, in the order of their bits.
var Names = [...]string{"duplicated", "delayed", "reordered", "redelivered late", "acknowledgement lost"}

// Share is a share of events in parts of a million.
type Share int

// Whole is the share of all.
const Whole Share = 1_000_000

// Rules are the faults of a feed. The zero value has none.
type Rules struct {
	Duplicate   Share
	Delay       Share
	DelayBy     time.Duration
	Reorder     Share
	Within      time.Duration
	Redeliver   Share
	RedeliverBy time.Duration
	DropAck     Share
}

// Any tells whether there are any.
func (r Rules) Any() bool {
	return r.Duplicate > 0 || r.Delay > 0 || r.Reorder > 0 || r.Redeliver > 0 || r.DropAck > 0
}

// Fate is what happens to one event.
type Fate struct {
	Kinds  uint8
	Delay  time.Duration   // of the event itself
	Copies []time.Duration // one for each further delivery: how much later than the event
	// AckLost loses the acknowledgement of the first attempt that goes well.
	AckLost bool
}

// soon is how much later a duplicate comes at most.
const soon = 50 * time.Millisecond

// Of gives the fate of event n of a feed.
func (r Rules) Of(seed, feed uint64, n int) (f Fate) {
	if !r.Any() {
		return f
	}
	c := rng.New(seed^0xfa017, feed<<32|uint64(n))
	hit := func(s Share, kind uint8) bool {
		// each kind draws whether it is set or not, so that setting one leaves the others as they were
		drawn := c.Below(int(Whole)) < int(s)
		if drawn {
			f.Kinds |= kind
		}
		return drawn
	}
	duplicate, within := hit(r.Duplicate, Duplicated), c.Between(0, soon)
	if duplicate {
		f.Copies = append(f.Copies, within)
	}
	if hit(r.Delay, Delayed) {
		f.Delay += r.DelayBy
	}
	moved := c.Uint64()
	if hit(r.Reorder, Reordered) {
		part, _ := bits.Mul64(uint64(max(r.Within, 0)), moved)
		f.Delay += time.Duration(part)
	}
	if hit(r.Redeliver, Redelivered) {
		f.Copies = append(f.Copies, r.RedeliverBy)
	}
	f.AckLost = hit(r.DropAck, AckLost)
	return f
}
