// Package fault decides which events of a drill are delivered wrongly, and how: twice, late, out of
// order, again long after, or with the acknowledgement lost. Each event's fate depends on the
// drill's seed and the event's place in its feed alone, so the same drill repeats the same faults.
package fault

import (
	"math/bits"
	"time"

	"nightdrill.dev/internal/core/rng"
)

// Kinds of faults, as bits.
const (
	Duplicated  uint8 = 1 << iota // delivered twice, close together
	Delayed                       // delivered late
	Reordered                     // delivered within a window of its time, overtaking others
	Redelivered                   // delivered again long after
	AckLost                       // the function did the work, but the source never received the acknowledgement
)

// Names holds the names of the kinds, in the order of their bits.
var Names = [...]string{"duplicated", "delayed", "reordered", "redelivered late", "acknowledgement lost"}

// Share is a fraction of the events, in parts per million.
type Share int

// Whole is the share of all events.
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

// Any reports whether the rules contain any fault.
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

// Of returns the fate of event n of a feed.
func (r Rules) Of(seed, feed uint64, n int) (f Fate) {
	if !r.Any() {
		return f
	}
	c := rng.New(seed^0xfa017, feed<<32|uint64(n))
	hit := func(s Share, kind uint8) bool {
		// every kind draws whether or not it is set, so that setting one leaves the others
		// unchanged
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
