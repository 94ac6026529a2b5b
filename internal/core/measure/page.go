package measure

import (
	"math"
	"sort"
	"time"

	"nightdrill/internal/core/stats"
)

// Page is what the findings show of a run, computed once when the run ends and kept with it, so
// that a run of millions of invocations opens at once.
type Page struct {
	Version   int               `json:"version"` // PageVersion
	Summary   *Summary          `json:"summary"`
	Functions []string          `json:"functions"` // in the order of the project
	Sources   []string          `json:"sources"`
	Sentences []string          `json:"sentences"`
	Spreads   []FunctionSpread  `json:"spreads"`  // of each function
	Failures  []FailureCause    `json:"failures"` // what failed, by cause
	Time      *Timeline         `json:"time"`
	Kinds     map[string]string `json:"kinds"`            // of sources, by their names
	Filter    string            `json:"filter,omitempty"` // the part that the page is about, in words; "" for all
}

// PageVersion is the version of how findings are computed. Findings of another version
// are computed again from the run's records.
const PageVersion = 2

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

// NewPage computes the findings of a run.
func NewPage(r *Run) *Page { return pageOf(Analyze(r)) }

func pageOf(a *Analysis) *Page {
	r := a.Run
	warn(a)
	p := &Page{Version: PageVersion, Summary: a.Summary, Time: a.Time, Spreads: a.Spreads(),
		Failures: r.FailureCauses(), Sentences: sentences(a), Kinds: map[string]string{}}
	for i := range r.Functions {
		p.Functions = append(p.Functions, r.Functions[i].Name)
	}
	for i := range r.Sources {
		p.Sources = append(p.Sources, r.Sources[i].Name)
		p.Kinds[r.Sources[i].Name] = r.Sources[i].Kind
	}
	return p
}
