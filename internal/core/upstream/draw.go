package upstream

import (
	"hash/fnv"
	"math"
	"time"

	"nightdrill.dev/internal/core/fault"
	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/rng"
)

// Draw is the chance of one call.
type Draw struct {
	latency float64 // a standard normal deviate
	failing int     // below the share of calls that fail
}

// NewDraw returns the chance of the n-th call for an event, or of the run where the event is not known. It is the
// same for the same seed, whatever order the calls of different events come in.
func NewDraw(seed uint64, upstream, caller string, n int) Draw {
	h := fnv.New64a()
	_, _ = h.Write([]byte(upstream + "\x00" + caller)) // it never fails
	r := rng.New(seed^0x757073, h.Sum64()+uint64(n)*0x9e3779b97f4a7c15)
	return Draw{math.Sqrt2 * math.Erfinv(2*r.Unit()-1), r.Below(int(fault.Whole))}
}

// Fails reports whether the call fails on purpose.
func (d Draw) Fails(b *plan.Behaviour) bool { return d.failing < int(b.Fail) }

// normal99 is the 99th percentile of the standard normal distribution.
const normal99 = 2.3263478740408408

// Latency returns how long after its beginning a call is answered, which was answered after so long when it was
// recorded.
func (d Draw) Latency(b *plan.Behaviour, recorded time.Duration) time.Duration {
	if b.P50 > 0 {
		// lognormal, with its median at p50 and its 99th percentile at p99
		sigma := math.Log(float64(b.P99)/float64(b.P50)) / normal99
		return min(time.Duration(float64(b.P50)*math.Exp(sigma*d.latency)), mostLatency)
	}
	if b.Times > 0 {
		return time.Duration(float64(recorded) * b.Times)
	}
	return recorded
}

// mostLatency bounds a latency that is drawn.
const mostLatency = time.Hour
