package measure

import (
	"cmp"
	"slices"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/stats"
)

// UpstreamFigures are the calls of one function to one upstream.
type UpstreamFigures struct {
	Calls    int     `json:"calls"`
	Failed   int     `json:"failed"`   // no reply, or a status of 500 or more
	Replayed int     `json:"replayed"` // answered from the recording
	Repeated int     `json:"repeated"` // of those, with the last recorded reply again
	Missing  int     `json:"missing"`  // not in the recording
	Planned  int     `json:"planned"`  // failed on purpose
	Unknown  int     `json:"unknown"`  // of which it is not known for which invocation they were made
	Starting int     `json:"starting"` // made before the instance was ready
	Waited   int     `json:"waited"`   // waited for the upstream's own limit
	Ms       Figures `json:"ms"`
	// PerInvocation is the mean of the calls of an invocation that makes any; nil where that is not known.
	PerInvocation *float64 `json:"per_invocation"`
	// Share is the part of the warm service time that passes in these calls, from 0 to 1; nil where that is not known.
	Share *float64 `json:"share_of_warm_service"`
	// Slow is the part of what the slowest tenth of the warm invocations takes beyond the median that passes in these
	// calls; nil with too few invocations.
	Slow *float64 `json:"share_of_slow"`
	// AfterFailure is what became of the invocations in which a call failed; nil where none did.
	AfterFailure *AfterFailure `json:"after_failure"`
}

// AfterFailure is what a function does when an upstream fails.
type AfterFailure struct {
	Invocations int      `json:"invocations"` // in which a call failed
	Succeeded   int      `json:"succeeded"`   // of those, that ended with a status below 400 all the same
	CallsEach   float64  `json:"calls_each"`  // calls of such an invocation, on average
	Otherwise   float64  `json:"otherwise"`   // calls of the other invocations, on average; 0 where there are none
	Left        int      `json:"left"`        // calls that the function gave up waiting for
	LeftAfter   *float64 `json:"left_after_ms"`
	Outlived    int      `json:"outlived"` // invocations that timed out while they waited for the upstream
}

// neighbours are the calls of a run by the invocations for which they were made.
type neighbours struct {
	r     *record.Run
	first []int32  // of each place of an invocation, and one more: where its calls begin in calls
	calls []int32  // places of calls
	vague [][]span // of each instance: calls of which it is not known for which invocation they were made
}

// span is a stretch of time.
type span struct{ from, to clock.Time }

func (s span) empty() bool { return s.to <= s.from }

// within returns the part of a stretch that lies in another.
func (s span) within(o span) span { return span{max(s.from, o.from), min(s.to, o.to)} }

// union returns how much time stretches cover together. It sorts them.
func union(all []span) (sum time.Duration) {
	slices.SortFunc(all, func(a, b span) int { return cmp.Compare(a.from, b.from) })
	until := clock.Time(-1 << 62)
	for _, s := range all {
		if from := max(s.from, until); s.to > from {
			sum += s.to.Sub(from)
			until = s.to
		}
	}
	return sum
}

func neighboursOf(r *record.Run, at []int32) *neighbours {
	n := &neighbours{r: r, first: make([]int32, len(r.Invocations)+1)}
	place := func(c *record.Call) int32 {
		if c.Invocation == 0 || c.Invocation >= uint64(len(at)) {
			return -1
		}
		return at[c.Invocation]
	}
	for i := range r.Calls {
		c := &r.Calls[i]
		if p := place(c); p >= 0 {
			n.first[p+1]++
		} else if c.Among > 1 && c.Instance >= 0 && int(c.Instance) < len(r.Instances) {
			if n.vague == nil {
				n.vague = make([][]span, len(r.Instances))
			}
			n.vague[c.Instance] = append(n.vague[c.Instance], span{c.Began, c.Done})
		}
	}
	for i := 1; i < len(n.first); i++ {
		n.first[i] += n.first[i-1]
	}
	n.calls = make([]int32, n.first[len(n.first)-1])
	next := slices.Clone(n.first)
	for i := range r.Calls {
		if p := place(&r.Calls[i]); p >= 0 {
			n.calls[next[p]] = int32(i)
			next[p]++
		}
	}
	return n
}

// of returns the places of the calls of an invocation.
func (n *neighbours) of(invocation int) []int32 {
	return n.calls[n.first[invocation]:n.first[invocation+1]]
}

// clear reports whether it is known of every call of an instance during an invocation for whom it was made.
func (n *neighbours) clear(v *record.Invocation) bool {
	if n.vague == nil || int(v.Instance) >= len(n.vague) {
		return true
	}
	in := span{v.Began(), v.Done}
	return !slices.ContainsFunc(n.vague[v.Instance], func(s span) bool { return !s.within(in).empty() })
}

// own returns the service time of an invocation without what passed in calls to upstreams, and of each upstream how
// much that was, where each is not nil.
func (n *neighbours) own(place int, each []time.Duration) time.Duration {
	v := &n.r.Invocations[place]
	in := span{v.Began(), v.Done}
	var all []span
	calls := n.of(place)
	for _, k := range calls {
		c := &n.r.Calls[k]
		all = append(all, span{c.Began, c.Done}.within(in))
	}
	own := v.Done.Sub(v.Began()) - union(all)
	for u := range each {
		var of []span
		for _, k := range calls {
			if c := &n.r.Calls[k]; int(c.Upstream) == u {
				of = append(of, span{c.Began, c.Done}.within(in))
			}
		}
		each[u] = union(of)
	}
	return max(own, 0)
}

// slowTenth is the share of the warm invocations that count as the slow ones, and leastSlow how many there must be.
const (
	slowTenth = 0.1
	leastSlow = 5
)

// upstreamFigures enters what is known of the calls to upstreams into the figures of the functions.
func upstreamFigures(r *record.Run, at []int32, s *Summary, populations []Populations) {
	s.Upstreams = r.Upstreams
	if len(r.Upstreams) == 0 {
		return
	}
	n := neighboursOf(r, at)
	for fn := range r.Functions {
		f := s.Functions[r.Functions[fn].Name]
		f.Upstreams = map[string]UpstreamFigures{}
		called := make([]stats.Population, len(r.Upstreams))
		counts := make([]UpstreamFigures, len(r.Upstreams))
		for i := range r.Calls {
			c := &r.Calls[i]
			if int(c.Function) != fn || int(c.Upstream) >= len(counts) {
				continue
			}
			x := &counts[c.Upstream]
			x.add(c)
			called[c.Upstream].AddTo(c.Invocation, c.Done.Sub(c.Began))
		}
		any := false
		for u := range counts {
			any = any || counts[u].Calls > 0
		}
		if any {
			f.Own = n.figures(int32(fn), counts, &populations[fn].Own)
		}
		for u := range counts {
			if x := counts[u]; x.Calls > 0 {
				x.Ms = figures(&called[u], stats.Serial)
				populations[fn].named("call to "+r.Upstreams[u].Name, &called[u])
				f.Upstreams[r.Upstreams[u].Name] = x
			}
		}
		s.Functions[r.Functions[fn].Name] = f
	}
}

// add counts a call.
func (x *UpstreamFigures) add(c *record.Call) {
	x.Calls++
	for _, of := range []struct {
		is bool
		n  *int
	}{{c.Bad(), &x.Failed}, {c.Way == record.CallReplayed, &x.Replayed}, {c.Repeated, &x.Repeated},
		{c.Way == record.CallMissing, &x.Missing}, {c.OnPurpose, &x.Planned}, {c.Among > 1, &x.Unknown},
		{c.Starting, &x.Starting}, {c.Waited > clock.Time(time.Millisecond), &x.Waited}} {
		if of.is {
			*of.n++
		}
	}
}

// warmCall is a warm invocation, and what passed in calls to each upstream during it.
type warmCall struct {
	service time.Duration
	each    []time.Duration
}

// figures returns the own times of a function's invocations, and enters into counts what is known of its invocations.
func (n *neighbours) figures(fn int32, counts []UpstreamFigures, own *[3]stats.Population) *ByClass {
	r := n.r
	var warm []warmCall
	after := make([]AfterFailure, len(counts))
	var made, makers = make([]int, len(counts)), make([]int, len(counts))
	otherwise, others := make([]int, len(counts)), make([]int, len(counts))
	left := make([]stats.Population, len(counts))
	for i := range r.Invocations {
		v := &r.Invocations[i]
		if v.Function != fn || v.Result == engine.RunEnded || v.Done == 0 {
			continue
		}
		if n.clear(v) {
			each := make([]time.Duration, len(counts))
			own[v.Class].Add(n.own(i, each))
			if v.Class == engine.Warm && v.Result == engine.OK {
				warm = append(warm, warmCall{v.Done.Sub(v.Began()), each})
			}
		}
		calls := n.of(i)
		for u := range counts {
			k, failed, open := 0, false, false
			for _, p := range calls {
				c := &r.Calls[p]
				if int(c.Upstream) != u {
					continue
				}
				k++
				failed = failed || c.Bad()
				open = open || c.Done >= v.Done
				if c.Failed == record.CallLeft && c.Done < v.Done {
					after[u].Left++
					left[u].Add(c.Done.Sub(c.Began))
				}
			}
			if k == 0 {
				continue
			}
			made[u], makers[u] = made[u]+k, makers[u]+1
			if !failed {
				otherwise[u], others[u] = otherwise[u]+k, others[u]+1
				continue
			}
			after[u].Invocations++
			after[u].CallsEach += float64(k)
			if v.Result == engine.OK && v.Status < record.LeastBad {
				after[u].Succeeded++
			}
			if v.Result == engine.Timeout && open {
				after[u].Outlived++
			}
		}
	}
	for u := range counts {
		if makers[u] > 0 {
			each := float64(made[u]) / float64(makers[u])
			counts[u].PerInvocation = &each
		}
		if a := &after[u]; a.Invocations > 0 {
			a.CallsEach /= float64(a.Invocations)
			if others[u] > 0 {
				a.Otherwise = float64(otherwise[u]) / float64(others[u])
			}
			if left[u].N() > 0 {
				ms := float64(left[u].At(stats.Rank(0.5, left[u].N())-1)) / 1e6
				a.LeftAfter = &ms
			}
			counts[u].AfterFailure = a
		}
	}
	shares(warm, counts)
	out := byClass(r, own)
	return &out
}

// shares enters which part of the warm service times passes in calls to each upstream, and of what the slow ones take
// longer.
func shares(warm []warmCall, counts []UpstreamFigures) {
	if len(warm) == 0 {
		return
	}
	slices.SortFunc(warm, func(a, b warmCall) int { return cmp.Compare(a.service, b.service) })
	whole := time.Duration(0)
	for i := range warm {
		whole += warm[i].service
	}
	slow := warm[len(warm)-int(slowTenth*float64(len(warm))):]
	median := warm[len(warm)/2].service
	excess := time.Duration(0)
	for i := range slow {
		excess += slow[i].service - median
	}
	for u := range counts {
		if counts[u].Calls == 0 {
			continue
		}
		sum, slowSum := time.Duration(0), time.Duration(0)
		each := make([]time.Duration, len(warm))
		for i := range warm {
			each[i] = warm[i].each[u]
			sum += each[i]
		}
		if whole > 0 {
			share := float64(sum) / float64(whole)
			counts[u].Share = &share
		}
		if len(slow) < leastSlow || excess <= 0 {
			continue
		}
		usual := quantileOf(each, 0.5)
		for i := range slow {
			slowSum += slow[i].each[u] - usual
		}
		share := max(0, min(1, float64(slowSum)/float64(excess)))
		counts[u].Slow = &share
	}
}
