package measure

import (
	"math"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// callRun is a run of one function whose invocations take 10 ms of their own and what their calls take.
type callRun struct {
	record.Run
	now clock.Time
}

const ms = clock.Time(time.Millisecond)

// invoke adds a warm invocation with calls, each given by its upstream, begin and end in milliseconds since the
// invocation was sent.
func (c *callRun) invoke(took clock.Time, status int32, calls ...[3]clock.Time) {
	id := uint64(len(c.Invocations) + 1)
	c.now += 1000 * ms
	v := record.Invocation{ID: id, Assigned: c.now, Sent: c.now, Received: c.now + took*ms, Done: c.now + took*ms,
		Batch: 1, Status: status, Class: engine.Warm}
	c.Invocations = append(c.Invocations, v)
	for _, x := range calls {
		call := record.Call{Invocation: id, Upstream: int32(x[0]), Began: c.now + x[1]*ms, First: c.now + x[2]*ms,
			Done: c.now + x[2]*ms, Status: 200}
		if status >= 500 {
			call.Status = 503
		}
		c.Calls = append(c.Calls, call)
	}
}

func newCallRun() *callRun {
	return &callRun{Run: record.Run{Functions: []record.Function{{Name: "plan", PerInstance: 1}},
		Sources:   []record.Source{{Name: "plans", Kind: "http", To: []int{0}}},
		Upstreams: []record.Upstream{{Name: "berths"}, {Name: "rates"}},
		Instances: []record.Instance{{Ready: 1}}, Finished: true}}
}

// What is a function's own is its service time without the union of its calls, those at the same time once, and only
// what lies within the invocation.
func TestOwnTime(t *testing.T) {
	c := newCallRun()
	for range 20 {
		// 0–10 own, two calls at once 10–40 and 20–50, a call that goes on after the reply
		c.invoke(60, 200, [3]clock.Time{0, 10, 40}, [3]clock.Time{1, 20, 50}, [3]clock.Time{0, 55, 90})
	}
	s := Analyze(&c.Run).Summary.Functions["plan"]
	if s.Own == nil || s.Own.Warm.N != 20 || *s.Own.Warm.P50 != 15 {
		t.Fatalf("own time %+v, want 15 ms of 20", s.Own)
	}
	b, r := s.Upstreams["berths"], s.Upstreams["rates"]
	if b.Calls != 40 || r.Calls != 20 || *b.PerInvocation != 2 || math.Abs(*b.Share-35.0/60) > 1e-9 ||
		math.Abs(*r.Share-0.5) > 1e-9 {
		t.Errorf("berths %+v share %v, rates %+v share %v", b, *b.Share, r, *r.Share)
	}
}

// A call of which it is not known for which invocation it was made counts, and belongs to none of them: the own time
// of those during which it was made is not known either.
func TestCallsOfOneAmongSeveral(t *testing.T) {
	c := newCallRun()
	for range 10 {
		c.invoke(60, 200, [3]clock.Time{0, 10, 40})
	}
	first := c.Invocations[0]
	c.Calls = append(c.Calls, record.Call{Among: 2, Began: first.Sent + 5*ms, Done: first.Sent + 20*ms, Status: 200})
	s := Analyze(&c.Run).Summary.Functions["plan"]
	if s.Own.Warm.N != 9 || s.Upstreams["berths"].Unknown != 1 || s.Upstreams["berths"].Calls != 11 {
		t.Errorf("own of %d, %+v", s.Own.Warm.N, s.Upstreams["berths"])
	}
}

// The upstream that explains the slow invocations is named, not the one that takes the most; and so is what the
// function does when one fails.
func TestSlowAndFailing(t *testing.T) {
	c := newCallRun()
	for i := range 100 {
		late := clock.Time(0)
		if i%10 == 0 {
			late = 200
		}
		c.invoke(110+late, 200, [3]clock.Time{0, 0, 100}, [3]clock.Time{1, 100, 105 + late})
	}
	for range 4 { // three calls in place of one, and the fourth answers all the same
		c.invoke(40, 503, [3]clock.Time{1, 0, 10}, [3]clock.Time{1, 10, 20}, [3]clock.Time{1, 20, 30})
	}
	c.Invocations[len(c.Invocations)-1].Status = 200
	s := Analyze(&c.Run).Summary.Functions["plan"]
	b, r := s.Upstreams["berths"], s.Upstreams["rates"]
	if *b.Slow > 0.05 || *r.Slow < 0.95 || *b.Share < *r.Share {
		t.Errorf("of the slow ones berths explains %v and rates %v", *b.Slow, *r.Slow)
	}
	a := r.AfterFailure
	if a == nil || a.Invocations != 4 || a.Succeeded != 1 || a.CallsEach != 3 || a.Otherwise != 1 || r.Failed != 12 {
		t.Errorf("after failures: %+v, %d failed", a, r.Failed)
	}
}
