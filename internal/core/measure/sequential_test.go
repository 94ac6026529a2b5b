package measure

import (
	"math"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
	"nightdrill.dev/internal/core/stats"
)

// starting is a comparison of two variants whose starts are drawn as it goes on.
type starting struct {
	r   record.Run
	rnd *rng.Source
}

func newStarting(seed uint64, of int) *starting {
	s := &starting{rnd: rng.New(seed, 9)}
	s.r = record.Run{ColdStarts: of, EarlyOf: of, Finished: true, Busy: math.NaN()}
	for i, name := range []string{"f", "f@other"} {
		s.r.Functions = append(s.r.Functions, record.Function{Name: name, Max: 1, PerInstance: 1})
		s.r.Sources = append(s.r.Sources, record.Source{Name: name, Kind: "http", To: []int{i}})
	}
	return s
}

// round starts each variant once: the other takes so many times as long, in the median.
func (s *starting) round(times float64) {
	for fn := range int32(2) {
		took := 100e6 * math.Exp(0.2*s.normal())
		if fn == 1 {
			took *= times
		}
		n := int32(len(s.r.Instances))
		at := clock.Time(n) * clock.Time(time.Second)
		ready := at.Add(time.Duration(took))
		s.r.Instances = append(s.r.Instances, record.Instance{ID: n, Function: fn, Number: n + 1, Spawned: at,
			Ready: ready, Stopped: ready + 2})
		s.r.Invocations = append(s.r.Invocations, record.Invocation{ID: uint64(n) + 1, Function: fn, Instance: n,
			Source: fn, Assigned: ready, Sent: ready, Received: ready + 1, Done: ready + 1, Status: 200})
		s.r.Length = ready + 3
	}
}

// normal returns a sample of the normal distribution (Box and Muller).
func (s *starting) normal() float64 {
	u, v := float64(s.rnd.Below(1<<30)+1)/(1<<30), float64(s.rnd.Below(1<<30))/(1<<30)
	return math.Sqrt(-2*math.Log(u)) * math.Cos(2*math.Pi*v)
}

// carryOut does what a drill does, and returns whether a difference in the starts is claimed.
func (s *starting) carryOut(times float64) (claimed bool) {
	looks := stats.Looks(s.r.EarlyOf)
	for n := range s.r.EarlyOf {
		if len(looks) > 0 && n == looks[0] {
			if looks = looks[1:]; Settled(&s.r, 0.1) {
				s.r.StoppedAt = n
				break
			}
		}
		s.round(times)
	}
	sides := Variants(&s.r)["f"]
	a := Analyze(&s.r)
	for _, c := range Contrasts([]*Populations{&a.Populations[0], &a.Populations[1]}, sides)[0] {
		claimed = claimed || c.What == "start" && c.Beyond
	}
	return claimed
}

// However often it is looked at, a comparison of what is alike claims a difference in at most 5 % of cases;
// one of what differs by half ends early, with that verdict.
func TestEndingEarlyKeepsTheError(t *testing.T) {
	trials := 1500
	if testing.Short() {
		trials = 300
	}
	wrong, stopped, found, rounds := 0, 0, 0, 0
	for seed := range uint64(trials) {
		alike := newStarting(seed, 40)
		if alike.carryOut(1) {
			wrong++
		}
		if alike.r.StoppedAt > 0 {
			stopped++
		}
		if seed%10 > 0 {
			continue
		}
		differs := newStarting(seed, 40)
		if differs.carryOut(1.5) {
			found++
		}
		if rounds += 40; differs.r.StoppedAt > 0 {
			rounds += differs.r.StoppedAt - 40
		}
	}
	share := float64(wrong) / float64(trials)
	if bound := stats.Noise + 3*math.Sqrt(stats.Noise*(1-stats.Noise)/float64(trials)); share > bound {
		t.Errorf("%.3f of comparisons of what is alike claim a difference, at most %.3f may", share, bound)
	}
	if few := trials / 10; found < few*9/10 || rounds > few*20 {
		t.Errorf("a difference by half is found in %d of %d, after %.1f of 40 starts", found, few,
			float64(rounds)/float64(few))
	}
	t.Logf("alike: %.4f claim a difference, %.4f ended early; of those that differ %d of %d were "+
		"found after "+
		"%.1f starts", share, float64(stopped)/float64(trials), found, trials/10, float64(rounds)/float64(trials/10))
}

// The looks are in order, none is right at the end, and together with it they use up no more than the noise.
func TestLooks(t *testing.T) {
	for n := range 2000 {
		looks, last := stats.Looks(n), 0
		for _, at := range looks {
			if at <= last || at >= n || at < 10 {
				t.Fatalf("of %d: %v", n, looks)
			}
			last = at
		}
		if len(looks) > 9 || 2*float64(len(looks))*stats.LookNoise(len(looks))+stats.LateNoise > stats.Noise+1e-9 {
			t.Fatalf("of %d: %d looks", n, len(looks))
		}
	}
}
