package arrival

import (
	"math"
	"slices"
	"testing"
	"time"

	"nightdrill.dev/internal/core/clock"
)

func perSecond(n int) Rate { return Rate{n, time.Second} }

// all takes every arrival; callers are answered after `service`.
func all(s *Schedule, service time.Duration) (out []Arrival) {
	now := clock.Time(0)
	for {
		a, state := s.Peek(now)
		switch state {
		case Over:
			return out
		case Waiting:
			now = a.Due
		default:
			s.Take()
			out = append(out, a)
			s.Answered(a.Caller, a.Due.Add(service))
		}
	}
}

func TestCountsAndTimesOfEachPattern(t *testing.T) {
	times := []time.Duration{0, 2 * time.Second, time.Second}
	for _, c := range []struct {
		name  string
		phase Phase
		n     int
		last  time.Duration
	}{
		{"steady covers its start and not its end", Phase{Pattern: Steady, Rate: perSecond(50), For: 2 * time.Second},
			100, 1980 * time.Millisecond},
		{"steady below one a second", Phase{Pattern: Steady, Rate: Rate{1, 2 * time.Second}, For: 5 * time.Second}, 3,
			4 * time.Second},
		{"one burst a second for a second", Phase{Pattern: Burst, Size: 10, Every: time.Second, For: time.Second}, 10,
			0},
		{"bursts", Phase{Pattern: Burst, Size: 3, Every: time.Second, For: 2500 * time.Millisecond}, 9,
			2 * time.Second},
		{"a ramp is the area under its rate", Phase{Pattern: Ramp, Rate: perSecond(40), To: perSecond(160),
			For: 8 * time.Second}, 800, 7993 * time.Millisecond},
		{"a falling ramp", Phase{Pattern: Ramp, Rate: perSecond(20), To: perSecond(0), For: 2 * time.Second}, 20,
			1552 * time.Millisecond},
		{"recorded in the order of time", Phase{Pattern: Recorded, Speed: 2}, 3, time.Second},
		{"once", Phase{Pattern: Once}, 3, 0},
		{"callers ask again when answered", Phase{Pattern: Callers, Size: 2, For: time.Second}, 20,
			900 * time.Millisecond},
		{"a rate that does not divide a second", Phase{Pattern: Callers, Size: 1, Rate: perSecond(3),
			For: 2 * time.Second},
			6, 5 * time.Second / 3},
		{"callers share a rate", Phase{Pattern: Callers, Size: 2, Rate: perSecond(5), For: time.Second}, 5,
			800 * time.Millisecond},
	} {
		got := all(New([]Phase{c.phase}, times, 3, 0, 1, 0), 100*time.Millisecond)
		if len(got) != c.n {
			t.Errorf("%s: %d arrivals, want %d", c.name, len(got), c.n)
			continue
		}
		last := time.Duration(got[len(got)-1].Due)
		if d := last - c.last; d < -time.Millisecond || d > time.Millisecond {
			t.Errorf("%s: the last falls due at %v, want %v", c.name, last, c.last)
		}
		if !slices.IsSortedFunc(got, func(a, b Arrival) int { return int(a.Due - b.Due) }) {
			t.Errorf("%s: out of order", c.name)
		}
	}
}

func TestPhasesFollowEachOtherAndPayloadsRepeat(t *testing.T) {
	phases := []Phase{{Pattern: Steady, Rate: perSecond(2), For: time.Second},
		{Pattern: Burst, Size: 2, Every: time.Second, For: time.Second}}
	got := all(New(phases, nil, 3, 0, 1, 0), 0)
	want := []Arrival{{0, 0, 0, -1}, {clock.Time(500 * time.Millisecond), 1, 0, -1}, {clock.Time(time.Second), 2, 0,
		-1}, {clock.Time(time.Second), 0, 1, -1}}
	if !slices.Equal(got, want) {
		t.Errorf("got %v\nwant %v", got, want)
	}
}

func TestPoissonIsPoissonAndSeeded(t *testing.T) {
	phase := []Phase{{Pattern: Poisson, Rate: perSecond(200), For: 100 * time.Second}}
	a := all(New(phase, nil, 1, 0, 5, 1), 0)
	if b := all(New(phase, nil, 1, 0, 5, 1), 0); !slices.Equal(a, b) {
		t.Error("the same seed gave other arrivals")
	}
	if b := all(New(phase, nil, 1, 0, 5, 2), 0); slices.Equal(a, b) {
		t.Error("another stream gave the same arrivals")
	}
	// counts by second have mean and variance 200
	var count [100]float64
	for _, x := range a {
		count[x.Due/clock.Time(time.Second)]++
	}
	var mean, variance float64
	for _, n := range count {
		mean += n / 100
	}
	for _, n := range count {
		variance += (n - mean) * (n - mean) / 99
	}
	if math.Abs(mean-200) > 6 || variance < 130 || variance > 290 {
		t.Errorf("counts by second: mean %.1f, variance %.1f; want about 200 each", mean, variance)
	}
}

func TestACallerWhoIsAnsweredFirstAsksFirst(t *testing.T) {
	s := New([]Phase{{Pattern: Callers, Size: 2, For: time.Second}}, nil, 1, 0, 1, 0)
	var caller [2]int
	for i := range caller {
		a, _ := s.Peek(0)
		s.Take()
		caller[i] = a.Caller
	}
	if a, state := s.Peek(0); state != Waiting || a.Due != clock.Time(time.Second) {
		t.Fatalf("with both waiting: %v %v", a, state)
	}
	s.Answered(caller[0], 700)
	if a, _ := s.Peek(0); a.Due != 700 {
		t.Errorf("due at %d, want 700", a.Due)
	}
	s.Answered(caller[1], 300) // known before the other was taken
	if a, _ := s.Peek(0); a.Due != 300 || a.Caller != caller[1] {
		t.Errorf("got %v, want the other caller at 300", a)
	}
	s.Take()
	s.Take()
	if _, state := s.Peek(clock.Time(time.Second)); state != Over {
		t.Errorf("at the end of the phase: %v, want Over", state)
	}
}
