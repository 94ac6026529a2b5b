package measure

import (
	"math"
	"sort"
	"time"

	"nightdrill.dev/internal/core/stats"
)

func spreadOf(p *Populations) FunctionSpread {
	f := FunctionSpread{Start: newSpread(&p.Start), Retried: newSpread(&p.Retried)}
	for c := range f.Latency {
		f.Latency[c] = newSpread(&p.Latency[c])
	}
	return f
}

// FunctionSpread is where the durations of a function lie.
type FunctionSpread struct {
	Start   Spread    `json:"start"`
	Latency [3]Spread `json:"latency"` // of deliveries that needed one attempt, by engine.Class
	Retried Spread    `json:"retried"` // of those that needed several
}

// Spread counts durations by their logarithm: Counts[i] of them lie from
// 10^((First+i)/StepsPerDecade) ns on, up to the next.
type Spread struct {
	First  int   `json:"first"`
	Counts []int `json:"counts"`
}

// StepsPerDecade is how many steps of a spread a factor of ten has.
const StepsPerDecade = 40

// Low returns the duration at which step i of the spread begins.
func (s *Spread) Low(i int) time.Duration {
	return time.Duration(math.Pow(10, float64(s.First+i)/StepsPerDecade))
}

func newSpread(p *stats.Population) Spread {
	step := func(d time.Duration) int {
		return int(math.Floor(math.Log10(float64(max(d, time.Microsecond)))*StepsPerDecade + 1e-9))
	}
	n := p.N()
	if n == 0 {
		return Spread{}
	}
	s := Spread{First: step(p.At(0))}
	s.Counts = make([]int, step(p.Max())-s.First+1)
	for i := 0; i < n; { // up to the first that is of the next step
		k := step(p.At(i))
		after := i + sort.Search(n-i, func(j int) bool { return step(p.At(i+j)) > k })
		s.Counts[k-s.First] = after - i
		i = after
	}
	return s
}
