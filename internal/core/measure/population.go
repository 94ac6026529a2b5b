package measure

import (
	"math/bits"
	"slices"
	"sync"
	"time"
)

// Population is the durations of one kind: of one function, one class. They are
// added in the order of time.
type Population struct {
	inOrder []time.Duration
	low     time.Duration // the shortest, once it is sorted
	keys    []uint64      // distance from low, and in the low bits the block of time; ascending
	blocks  int
}

// mostBlocks bounds the blocks of time that a population is cut into; a block's
// number fits into blockBits.
const (
	blockBits  = 6
	mostBlocks = 1 << blockBits
)

// Add appends a duration; durations come in the order of time.
func (p *Population) Add(d time.Duration) { p.inOrder, p.keys = append(p.inOrder, d), nil }

// expect makes room for so many more.
func (p *Population) expect(n int) { p.inOrder = slices.Grow(p.inOrder, n) }

// N gives how many there are.
func (p *Population) N() int { return len(p.inOrder) }

// At gives the i-th shortest, from 0.
func (p *Population) At(i int) time.Duration {
	p.sort()
	return p.low + time.Duration(p.keys[i]>>blockBits)
}

// Max gives the longest; 0 for an empty population.
func (p *Population) Max() time.Duration {
	if p.N() == 0 {
		return 0
	}
	return p.At(p.N() - 1)
}

// InOrder gives the durations in the order of time; the caller leaves them as they are.
func (p *Population) InOrder() []time.Duration { return p.inOrder }

// sort brings the durations into order, each with the block of time that it is of.
func (p *Population) sort() {
	if p.keys != nil || len(p.inOrder) == 0 {
		return
	}
	n := len(p.inOrder)
	p.blocks = blocksOf(n)
	p.low = slices.Min(p.inOrder)
	p.keys = make([]uint64, n)
	most := uint64(0)
	for b := range p.blocks {
		for i := b * n / p.blocks; i < (b+1)*n/p.blocks; i++ {
			k := uint64(p.inOrder[i]-p.low)<<blockBits | uint64(b)
			p.keys[i], most = k, max(most, k)
		}
	}
	p.keys = radix(p.keys, bits.Len64(most))
}

// digit is how many bits a pass of radix takes: few enough for its counts to stay
// in the fastest cache.
const digit = 11

// radix sorts keys of which the lowest width bits differ, but for those of the
// block. It may use other memory than it was given.
func radix(keys []uint64, width int) []uint64 {
	if len(keys) < 1<<digit {
		slices.Sort(keys)
		return keys
	}
	spare := scratch.Get().(*[]uint64)
	*spare = slices.Grow((*spare)[:0], len(keys))
	other := (*spare)[:len(keys)] // all of it is written before it is read
	for shift := blockBits; shift < width; shift += digit {
		var at [1 << digit]int
		for _, k := range keys {
			at[k>>shift&(1<<digit-1)]++
		}
		sum := 0
		for i, n := range at {
			at[i], sum = sum, sum+n
		}
		for _, k := range keys {
			d := k >> shift & (1<<digit - 1)
			other[at[d]] = k
			at[d]++
		}
		keys, other = other, keys
	}
	*spare = other
	scratch.Put(spare)
	return keys
}

// scratch is memory for radix.
var scratch = sync.Pool{New: func() any { return new([]uint64) }}
