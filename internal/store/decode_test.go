package store

import (
	"encoding/binary"
	"math"
	"reflect"
	"slices"
	"testing"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/record"
	"nightdrill.dev/internal/core/rng"
)

// plainly is decode as the format says it, value by value.
func plainly(out []record.Invocation, block []byte) ([]record.Invocation, error) {
	type column struct {
		data        []byte
		runs        bool
		value, step int64
		left        uint64
	}
	n, k := binary.Uvarint(block)
	if k <= 0 || n > mostRecords {
		return nil, errCut
	}
	block = block[k:]
	var columns []column
	for len(block) > 0 && len(columns) < invocations.columns {
		size, k := binary.Uvarint(block)
		if k <= 0 || size > uint64(len(block)-k) {
			return nil, errCut
		}
		columns = append(columns, column{data: block[k : k+int(size)], runs: size < n})
		block = block[k+int(size):]
	}
	row := make([]int64, invocations.columns)
	for range n {
		for i := range columns {
			c := &columns[i]
			if c.left == 0 {
				d, k := binary.Varint(c.data)
				if k <= 0 {
					return nil, errCut
				}
				c.data, c.step, c.left = c.data[k:], d, 1
				if c.runs {
					if c.left, k = binary.Uvarint(c.data); k <= 0 || c.left == 0 {
						return nil, errCut
					}
					c.data = c.data[k:]
				}
			}
			c.left--
			c.value += c.step
			row[i] = c.value
		}
		out = append(out, record.Invocation{})
		invocations.get(row, &out[len(out)-1])
	}
	return out, nil
}

// What is decoded is what the format says, of any bytes, and of all that is written.
func FuzzDecode(f *testing.F) {
	f.Add(invocations.encode(random(3, "x").Invocations))
	f.Add(invocations.encode(steady(700)))
	f.Add(binary.AppendUvarint(nil, mostRecords-1))
	f.Fuzz(func(t *testing.T, block []byte) {
		got, err := invocations.decode(nil, block) // of however many: no panic, no endless memory
		if len(got) > max(usualRecords, mostPerByte*len(block)) {
			t.Errorf("%d bytes are %d records", len(block), len(got))
		}
		if n, _ := binary.Uvarint(block); n > 1<<12 {
			return // a few bytes may stand for as many as that, which takes long to compare
		}
		want, wrong := plainly(nil, block)
		if (err == nil) != (wrong == nil) || err == nil && !reflect.DeepEqual(got, want) {
			t.Errorf("decoded %v %+v, want %v %+v", err, got, wrong, want)
		}
		if err != nil {
			return
		}
		// what is wanted by place and invocation, and of it what some columns say
		wanted := func(place int, id uint64) bool { return place%3 == 0 || id%5 == 1 }
		want = slices.DeleteFunc(want, func(v record.Invocation) bool { return !wanted(-1, v.ID) })
		some := chunk[record.Invocation]{data: block, first: 7}
		sound := func(place int, v *record.Invocation) bool { return *v == got[place-7] && wanted(place, v.ID) }
		if err := some.decode(&invocations, nil, wanted, sound); err != nil {
			t.Errorf("of what is wanted: %v", err)
		}
		if len(some.records) < len(want) {
			t.Errorf("%d of %d are there", len(some.records), len(want))
		}
		ends := func(place int, v *record.Invocation) bool {
			of := got[place-7]
			return v.ID == of.ID && v.Done == of.Done && v.Instance == of.Instance && v.Result == of.Result &&
				v.Class == of.Class && v.Status == of.Status && v.Sent == 0 && v.Reply == 0
		}
		if err := some.decode(&invocations, columnsEnd, nil, ends); err != nil || len(some.records) != len(got) {
			t.Errorf("of some columns: %v, %d of %d", err, len(some.records), len(got))
		}
	})
}

// Numbers of every length are read, and none beyond the end.
func TestNumbersOfEveryLength(t *testing.T) {
	r := rng.New(1, 1)
	for range 500 {
		var data []byte
		var want []int64
		for last := int64(0); len(want) < 9; {
			d := int64(r.Below(math.MaxInt64)) >> r.Below(63)
			if r.Chance(1, 2) {
				d = -d
			}
			last += d
			data, want = binary.AppendVarint(data, d), append(want, last)
		}
		got := make([]int64, len(want))
		if c := (columnReader{data: data}); !c.read(got) || !slices.Equal(got, want) || len(c.data) > 0 {
			t.Fatalf("% x is %d, want %d", data, got, want)
		}
		if c := (columnReader{data: data[:len(data)-1]}); c.read(got) {
			t.Fatalf("% x is read without its last byte", data)
		}
	}
	if c := (columnReader{data: slices.Repeat([]byte{0xff}, 12)}); c.read(make([]int64, 1)) {
		t.Error("a number without an end is read")
	}
}

// steady makes invocations as a steady load leaves them.
func steady(n int) []record.Invocation {
	r, all := rng.New(1, 1), make([]record.Invocation, n)
	for i := range all {
		at := clock.Time(i*100_000) + clock.Time(r.Below(80_000))
		done := at + 500_000 + clock.Time(r.Below(1_000_000))
		all[i] = record.Invocation{ID: uint64(i + 1), Instance: int32(r.Below(40)), Assigned: at,
			Sent: at + 5000 + clock.Time(r.Below(20_000)), Received: done, Done: done + clock.Time(r.Below(20_000)),
			Status: 200, Batch: 1}
	}
	return all
}

// BenchmarkDecode reads the invocations of half a second at 10,000 a second, as a share of the time that reading them
// value by value takes.
func BenchmarkDecode(b *testing.B) {
	block := invocations.encode(steady(5000))
	var some []record.Invocation
	var plain, took int64
	for b.Loop() {
		start := b.Elapsed()
		var err error
		if some, err = plainly(some[:0], block); err != nil {
			b.Fatal(err)
		}
		between := b.Elapsed()
		if some, err = invocations.decode(some[:0], block); err != nil {
			b.Fatal(err)
		}
		plain, took = plain+int64(between-start), took+int64(b.Elapsed()-between)
	}
	b.ReportMetric(float64(took)/float64(b.N)/5000, "ns/record")
	b.ReportMetric(float64(took)/float64(plain), "of-plain")
}
