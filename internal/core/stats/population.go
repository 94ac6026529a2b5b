// Package stats holds populations of durations and what can be said of them:
// percentiles with intervals, and comparisons of two populations.
//
// Everything here is nonparametric: it rests on ranks, never on the shape of a
// distribution. What it does rest on is how samples depend on each other, and so
// every statement takes a Sampling. Independent samples get exact intervals and
// exact tests; samples that follow each other under load get intervals and tests
// that hold for first-order autocorrelation up to 0.7 from the smallest number at
// which they are given, and for any short-range dependence when there are many.
// Where the samples cannot carry a statement, it is absent, and the number of
// samples that it needs is given in its place.
package stats

import (
	"math/bits"
	"slices"
	"sync"
	"time"
)

// Sampling is how the samples of a population depend on each other.
type Sampling int

const (
	// Independent samples have nothing to do with each other, such as starts.
	Independent Sampling = iota
	// Single samples were taken one at a time, such as invocations that waited for the
	// one before: independent, unless there are enough of them to show that they are not.
	Single
	// Serial samples follow each other in time under load: each may resemble its
	// neighbours, and is presumed to until there are enough of them to tell.
	Serial
)

// Population is a set of samples of one kind, such as the warm latencies of one function. What is
// no duration is a number in a unit of the caller's, such as bytes. The zero value is empty. A
// population is not safe for concurrent use.
type Population struct {
	inOrder []time.Duration
	sorted  []time.Duration // nil until it is needed
	// units are the sizes of the units that samples belong to, in order; nil while every
	// sample is a unit of its own.
	units []int32
	last  uint64 // the unit of the last sample
}

// Of returns a population of independent units. The population keeps the slice.
func Of(samples []time.Duration) *Population { return &Population{inOrder: samples} }

// Add appends a sample that is a unit of its own. Samples are added in the order of time.
func (p *Population) Add(d time.Duration) {
	p.inOrder, p.sorted, p.last = append(p.inOrder, d), nil, 0
	if p.units != nil {
		p.units = append(p.units, 1)
	}
}

// AddTo appends a sample of a unit, whose number is not 0. Samples of one unit share
// their fate, as the messages of one batch do: they follow each other, and count once
// wherever the number of samples matters.
func (p *Population) AddTo(unit uint64, d time.Duration) {
	if unit != p.last || len(p.inOrder) == 0 {
		p.Add(d)
		p.last = unit
		return
	}
	if p.units == nil {
		p.units = make([]int32, len(p.inOrder), cap(p.inOrder))
		for i := range p.units {
			p.units[i] = 1
		}
	}
	p.units[len(p.units)-1]++
	p.inOrder, p.sorted = append(p.inOrder, d), nil
}

// Grow makes room for n more samples.
func (p *Population) Grow(n int) { p.inOrder = slices.Grow(p.inOrder, n) }

// N returns the number of samples.
func (p *Population) N() int { return len(p.inOrder) }

// Units returns the number of units.
func (p *Population) Units() int {
	if p.units != nil {
		return len(p.units)
	}
	return len(p.inOrder)
}

// effective returns the number of units of equal size that carry as much as the
// units there are, however strongly the samples of a unit depend on each other (Kish 1965).
func (p *Population) effective() float64 {
	if p.units == nil {
		return float64(len(p.inOrder))
	}
	squares := 0.0
	for _, n := range p.units {
		squares += float64(n) * float64(n)
	}
	n := float64(len(p.inOrder))
	return n * n / squares
}

// byUnit returns one sample for each unit, in order: the mean of its samples. The
// caller leaves it as it is.
func (p *Population) byUnit() []time.Duration {
	if p.units == nil {
		return p.inOrder
	}
	out := make([]time.Duration, len(p.units))
	at := 0
	for i, n := range p.units {
		sum := 0.0
		for _, d := range p.inOrder[at : at+int(n)] {
			sum += float64(d)
		}
		out[i] = time.Duration(sum / float64(n))
		at += int(n)
	}
	return out
}

// At returns the i-th shortest sample, from 0.
func (p *Population) At(i int) time.Duration {
	p.sort()
	return p.sorted[i]
}

// Max returns the longest sample, 0 for an empty population.
func (p *Population) Max() time.Duration {
	if p.N() == 0 {
		return 0
	}
	return p.At(p.N() - 1)
}

// InOrder returns the samples in the order of time; the caller leaves them as they are.
func (p *Population) InOrder() []time.Duration { return p.inOrder }

func (p *Population) sort() {
	if p.sorted == nil && len(p.inOrder) > 0 {
		p.sorted = sorted(p.inOrder)
	}
}

// Thin returns at most n of the samples, evenly spaced; the samples themselves where there
// are no more.
func Thin(samples []time.Duration, n int) []time.Duration {
	if len(samples) <= n {
		return samples
	}
	out := make([]time.Duration, n)
	for i := range out {
		out[i] = samples[i*len(samples)/n]
	}
	return out
}

// digit is how many bits one pass of the radix sort takes: few enough for its counts
// to stay in the fastest cache.
const digit = 11

// sorted returns the samples in ascending order, in memory of its own.
func sorted(samples []time.Duration) []time.Duration {
	if len(samples) < 1<<digit {
		out := slices.Clone(samples)
		slices.Sort(out)
		return out
	}
	low, high := samples[0], samples[0]
	for _, d := range samples {
		low, high = min(low, d), max(high, d)
	}
	passes := (bits.Len64(uint64(high-low)) + digit - 1) / digit
	counts := make([][1 << digit]uint32, passes) // of all digits at once
	for _, d := range samples {
		x := uint64(d - low)
		for k := range counts {
			counts[k][x&(1<<digit-1)]++
			x >>= digit
		}
	}
	spare := scratch.Get().(*[]time.Duration)
	defer scratch.Put(spare)
	*spare = slices.Grow((*spare)[:0], len(samples))[:len(samples)] // all of it is written before it is read
	out := make([]time.Duration, len(samples))
	from, to, next := samples, out, *spare
	if passes%2 == 0 { // the last pass writes to out
		to, next = next, to
	}
	for k := range counts {
		at := &counts[k]
		sum := uint32(0)
		for i, n := range at {
			at[i], sum = sum, sum+n
		}
		for _, d := range from {
			x := uint64(d-low) >> (k * digit) & (1<<digit - 1)
			to[at[x]] = d
			at[x]++
		}
		from, to, next = to, next, to
	}
	if passes == 0 {
		copy(out, samples)
	}
	return out
}

// scratch is memory for sorted.
var scratch = sync.Pool{New: func() any { return new([]time.Duration) }}
