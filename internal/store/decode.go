package store

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"sync"
)

// Bounds of a block, so that a damaged one, or a few bytes, cannot ask for endless memory.
const (
	mostRecords = 1 << 24
	mostPerByte = 1 << 13 // a block of more than usualRecords: columns that stay the same take 3 bytes each
)

var errCut = errors.New("the block is cut off")

// tileRows is how many records of a block are decoded together: so few that they stay in the nearest cache.
const tileRows = 256

// decoder reads the records of a block, some at a time.
type decoder[T any] struct {
	of      *codec[T]
	left    int // records
	columns []columnReader
	row     []int64
	moving  []int // columns that change within the present tile
}

// claim returns how many records a block says it has, and the rest of it.
func claim(block []byte) (n uint64, rest []byte, err error) {
	n, k := binary.Uvarint(block)
	if k <= 0 {
		return 0, nil, errCut
	}
	if n > min(mostRecords, max(usualRecords, mostPerByte*uint64(len(block)))) {
		return 0, nil, fmt.Errorf("a block of %d records is not one that was written", n)
	}
	return n, block[k:], nil
}

// decoder returns what reads a block.
func (c *codec[T]) decoder(block []byte) (*decoder[T], error) {
	n, block, err := claim(block)
	if err != nil {
		return nil, err
	}
	d := &decoder[T]{of: c, left: int(n), columns: make([]columnReader, 0, c.columns), row: make([]int64, c.columns)}
	for len(block) > 0 && len(d.columns) < c.columns { // a block may be from before there were all of them
		size, k := binary.Uvarint(block)
		if k <= 0 || size > uint64(len(block)-k) {
			return nil, errCut
		}
		d.columns = append(d.columns, columnReader{data: block[k : k+int(size)], runs: size < n})
		block = block[k+int(size):]
	}
	return d, nil
}

// only leaves all columns but some out: they are 0.
func (d *decoder[T]) only(columns []int) {
	for k := range d.columns {
		if !slices.Contains(columns, k) {
			d.columns[k] = columnReader{runs: true, left: uint64(d.left)}
		}
	}
}

// next appends the next records.
func (d *decoder[T]) next(to []T) ([]T, error) {
	tile := tiles.Get().(*[][tileRows]int64)
	defer tiles.Put(tile)
	n, ok := d.read(tile)
	if !ok {
		return to, errCut
	}
	first, row, columns := len(to), d.row, *tile
	to = slices.Grow(to, n)[:first+n]
	for i := range n {
		for _, k := range d.moving {
			row[k] = columns[k][i]
		}
		d.of.get(row, &to[first+i])
	}
	return to, nil
}

// wanted appends those of the next records that are wanted, and their places; the first of these is known.
func (d *decoder[T]) wanted(to []T, places []int, place int, want func(int, uint64) bool) ([]T, []int, error) {
	tile := tiles.Get().(*[][tileRows]int64)
	defer tiles.Put(tile)
	n, ok := d.read(tile)
	if !ok {
		return to, places, errCut
	}
	first, row, columns, id := len(to), d.row, *tile, d.of.invocation
	moves := slices.Contains(d.moving, id)
	to = slices.Grow(to, n)[:first+n]
	at := first
	for i := range n {
		if moves {
			row[id] = columns[id][i]
		}
		of := uint64(0)
		if id >= 0 {
			of = uint64(row[id])
		}
		if !want(place+i, of) {
			continue
		}
		for _, k := range d.moving {
			row[k] = columns[k][i]
		}
		d.of.get(row, &to[at])
		places = append(places, place+i)
		at++
	}
	return to[:at], places, nil
}

// read reads the columns of the next records: those that change into a tile, the others into the row.
func (d *decoder[T]) read(tile *[][tileRows]int64) (n int, ok bool) {
	n = min(d.left, tileRows)
	d.moving = d.moving[:0]
	for k := range d.columns { // those that are missing stay 0
		c := &d.columns[k]
		if c.step == 0 && c.left >= uint64(n) {
			c.left -= uint64(n)
			d.row[k] = c.value
			continue
		}
		for len(*tile) <= k {
			*tile = append(*tile, [tileRows]int64{})
		}
		if !c.read((*tile)[k][:n]) {
			return 0, false
		}
		d.moving = append(d.moving, k)
	}
	d.left -= n
	return n, true
}

// tiles is memory for decoders: columns of some records.
var tiles = sync.Pool{New: func() any { return new([][tileRows]int64) }}

// decode appends the records of a block.
func (c *codec[T]) decode(to []T, block []byte) ([]T, error) {
	d, err := c.decoder(block)
	for err == nil && d.left > 0 {
		to, err = d.next(to)
	}
	return to, err
}

type columnReader struct {
	data  []byte
	runs  bool
	value int64
	step  int64  // of the present run
	left  uint64 // of it
}

// read reads the next values, and reports whether there are as many.
func (r *columnReader) read(to []int64) bool {
	if !r.runs {
		return r.readEach(to)
	}
	for len(to) > 0 {
		if r.left == 0 {
			d, k := binary.Varint(r.data)
			if k <= 0 {
				return false
			}
			n, m := binary.Uvarint(r.data[k:])
			if m <= 0 || n == 0 {
				return false
			}
			r.data, r.step, r.left = r.data[k+m:], d, n
		}
		n := min(uint64(len(to)), r.left)
		for i := range to[:n] {
			r.value += r.step
			to[i] = r.value
		}
		to, r.left = to[n:], r.left-n
	}
	return true
}

// readEach reads values that stand as one difference each.
func (r *columnReader) readEach(to []int64) bool {
	data, value := r.data, r.value
	for i := range to {
		var u uint64
		if len(data) >= 8 && data[0]&data[1]&data[2]&data[3] < 0x80 { // of four bytes at most, as nearly all are
			x := binary.LittleEndian.Uint32(data)
			last := ^x & 0x80808080 // the top bits that say where it ends
			x &= last ^ (last - 1)
			u = uint64(x&0x7f | x>>1&(0x7f<<7) | x>>2&(0x7f<<14) | x>>3&(0x7f<<21))
			data = data[bits.TrailingZeros32(last)/8+1:]
		} else {
			var k int
			if u, k = binary.Uvarint(data); k <= 0 {
				return false
			}
			data = data[k:]
		}
		value += int64(u>>1) ^ -int64(u&1)
		to[i] = value
	}
	r.data, r.value = data, value
	return true
}
