package store

import (
	"encoding/binary"
	"slices"
	"sync"
	"time"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/engine"
	"nightdrill.dev/internal/core/record"
)

// A block holds some records of one kind, column by column: every value as the
// difference from the one before it in its column, as a zigzag varint. Times
// and numbers of neighbours are close, so most values take one to four bytes.
// Where the same difference stands many times in a row, it is written once with
// how often. Such a column is known by having fewer bytes than records.

// codec turns a record into its columns and back.
type codec[T any] struct {
	columns    int
	invocation int // the column of a record's invocation; -1 for none
	put        func(*T, []int64)
	get        func([]int64, *T)
}

// The columns that are read where only the time matters when an event was due, with its payload and origin, and where
// only matters whose an invocation was, how it ended and when.
var columnsDue, columnsEnd = []int{0, 2, 3}, []int{0, 1, 4, 5, 6, 8, 9, 11, 12, 13}

var arrivals = codec[record.Arrival]{9, -1,
	func(a *record.Arrival, c []int64) {
		c[0], c[1], c[2], c[3], c[4], c[5] = int64(a.Due), int64(a.Arrived-a.Due), a.From, int64(a.Payload),
			int64(a.Round), int64(a.Source)
		c[6], c[7], c[8] = int64(a.Origin), int64(a.Fault), int64(a.Delay)
	},
	func(c []int64, to *record.Arrival) {
		origin := engine.Origin(c[6])
		if c[2] >= 0 && origin == engine.FromOutside { // written when there were only dead letters
			origin = engine.FromDeadLetter
		}
		*to = record.Arrival{Due: clock.Time(c[0]), Arrived: clock.Time(c[0] + c[1]), From: c[2],
			Payload: int32(c[3]), Round: int32(c[4]), Source: int32(c[5]), Origin: origin, Fault: uint8(c[7]),
			Delay: time.Duration(c[8])}
	}}

var invocations = codec[record.Invocation]{19, 0,
	func(v *record.Invocation, c []int64) {
		late, unexpected := bit(v.Late), bit(v.Unexpected)
		c[0], c[1], c[2], c[3], c[4] = int64(v.ID), int64(v.Assigned), relative(v.Sent, v.Assigned),
			relative(v.Received, v.Assigned), relative(v.Done, v.Assigned)
		c[5], c[6], c[7], c[8], c[9] = int64(v.Function), int64(v.Instance), int64(v.Slot), int64(v.Source),
			int64(v.Wire)
		c[10], c[11], c[12], c[13], c[14] = int64(v.Batch), int64(v.Status), int64(v.Class), int64(v.Result), late
		c[15], c[16], c[17], c[18] = int64(v.Reply), int64(v.Timing), unexpected, int64(v.RetryAfter)
	},
	func(c []int64, to *record.Invocation) {
		at := clock.Time(c[1])
		*to = record.Invocation{ID: uint64(c[0]), Assigned: at, Sent: absolute(c[2], at),
			Received: absolute(c[3], at), Done: absolute(c[4], at),
			Function: int32(c[5]), Instance: int32(c[6]), Slot: int32(c[7]), Source: int32(c[8]), Wire: int32(c[9]),
			Batch: int32(c[10]), Status: int32(c[11]), Class: engine.Class(c[12]), Result: engine.Result(c[13]),
			Late:  c[14] != 0,
			Reply: int32(c[15]), Timing: int32(c[16]), Unexpected: c[17] != 0,
			RetryAfter: time.Duration(c[18])}
	}}

var attempts = codec[record.Attempt]{6, 1,
	func(a *record.Attempt, c []int64) {
		c[0], c[1], c[2], c[3], c[4], c[5] = a.Event, int64(a.Invocation), int64(a.Source), int64(a.Wire), int64(a.N),
			int64(a.Result)
	},
	func(c []int64, to *record.Attempt) {
		*to = record.Attempt{Event: c[0], Invocation: uint64(c[1]), Source: int32(c[2]), Wire: int32(c[3]),
			N: int32(c[4]), Result: engine.Result(c[5])}
	}}

var deliveries = codec[record.Delivery]{8, 1,
	func(d *record.Delivery, c []int64) {
		c[0], c[1], c[2], c[3], c[4], c[5], c[6] = d.Event, int64(d.Invocation), int64(d.Ended), int64(d.Source),
			int64(d.Wire), int64(d.Attempts), int64(d.Outcome)
		c[7] = int64(d.Cause)
	},
	func(c []int64, to *record.Delivery) {
		*to = record.Delivery{Event: c[0], Invocation: uint64(c[1]), Ended: clock.Time(c[2]), Source: int32(c[3]),
			Wire: int32(c[4]), Attempts: int32(c[5]), Outcome: engine.Outcome(c[6]), Cause: engine.Cause(c[7])}
	}}

var levels = codec[record.Level]{6, -1,
	func(l *record.Level, c []int64) {
		c[0], c[1], c[2], c[3], c[4], c[5] = int64(l.At), int64(l.Function), int64(l.Waiting), int64(l.InFlight),
			int64(l.Starting), int64(l.Ready)
	},
	func(c []int64, to *record.Level) {
		*to = record.Level{At: clock.Time(c[0]), Function: int32(c[1]), Waiting: int32(c[2]), InFlight: int32(c[3]),
			Starting: int32(c[4]), Ready: int32(c[5])}
	}}

var calls = codec[record.Call]{14, 0,
	func(x *record.Call, c []int64) {
		c[0], c[1], c[2], c[3], c[4] = int64(x.Invocation), int64(x.Among), int64(x.Began), relative(x.First, x.Began),
			relative(x.Done, x.Began)
		c[5], c[6], c[7], c[8], c[9] = int64(x.Waited), int64(x.Upstream), int64(x.Function), int64(x.Instance),
			int64(x.Status)
		c[10], c[11], c[12] = int64(x.Label), int64(x.Way), int64(x.Failed)
		c[13] = bit(x.OnPurpose) | bit(x.Repeated)<<1 | bit(x.Starting)<<2
	},
	func(c []int64, to *record.Call) {
		at := clock.Time(c[2])
		*to = record.Call{Invocation: uint64(c[0]), Among: int32(c[1]), Began: at, First: absolute(c[3], at),
			Done: absolute(c[4], at), Waited: clock.Time(c[5]), Upstream: int32(c[6]), Function: int32(c[7]),
			Instance: int32(c[8]), Status: int32(c[9]), Label: int32(c[10]), Way: record.CallWay(c[11]),
			Failed: record.CallFailure(c[12]), OnPurpose: c[13]&1 != 0, Repeated: c[13]&2 != 0, Starting: c[13]&4 != 0}
	}}

var machine = codec[record.MachineLoad]{5, -1,
	func(m *record.MachineLoad, c []int64) {
		c[0], c[1], c[2], c[3], c[4] = int64(m.At), int64(m.Busy), int64(m.Ours), int64(m.Running), int64(m.Stalled)
	},
	func(c []int64, to *record.MachineLoad) {
		*to = record.MachineLoad{At: clock.Time(c[0]), Busy: int32(c[1]), Ours: int32(c[2]), Running: int32(c[3]),
			Stalled: int32(c[4])}
	}}

var spans = codec[record.Span]{11, 1,
	func(s *record.Span, c []int64) {
		c[0], c[1], c[2], c[3], c[4] = s.Event, int64(s.Invocation), int64(s.ID), int64(s.Parent), int64(s.Begin)
		c[5], c[6], c[7], c[8], c[9] = relative(s.End, s.Begin), int64(s.Function), int64(s.Name), int64(s.Attributes),
			int64(s.Kind)
		c[10] = bit(s.Failed)
	},
	func(c []int64, to *record.Span) {
		*to = record.Span{Event: c[0], Invocation: uint64(c[1]), ID: uint64(c[2]), Parent: uint64(c[3]),
			Begin: clock.Time(c[4]), End: absolute(c[5], clock.Time(c[4])), Function: int32(c[6]), Name: int32(c[7]),
			Attributes: int32(c[8]), Kind: uint8(c[9]), Failed: c[10] != 0}
	}}

func bit(b bool) int64 {
	if b {
		return 1
	}
	return 0
}

// relative returns t as a distance from a moment, shifted by one so that 0 can
// stand for "never".
func relative(t, from clock.Time) int64 {
	if t == 0 {
		return 0
	}
	d := int64(t - from)
	if d >= 0 {
		d++
	}
	return d
}

func absolute(d int64, from clock.Time) clock.Time {
	switch {
	case d == 0:
		return 0
	case d > 0:
		d--
	}
	return from + clock.Time(d)
}

// encode writes records as a block.
func (c *codec[T]) encode(records []T) []byte {
	n := len(records)
	row := make([]int64, c.columns)
	memory := matrices.Get().(*[]int64)
	defer matrices.Put(memory)
	*memory = slices.Grow((*memory)[:0], c.columns*n)
	values := (*memory)[:c.columns*n] // each is written before it is read
	for i := range records {
		c.put(&records[i], row)
		for k, v := range row {
			values[k*n+i] = v
		}
	}
	out := binary.AppendUvarint(nil, uint64(n))
	var column []byte
	for k := range c.columns {
		column = appendColumn(column[:0], values[k*n:(k+1)*n])
		out = binary.AppendUvarint(out, uint64(len(column)))
		out = append(out, column...)
	}
	return out
}

// matrices is memory for encode.
var matrices = sync.Pool{New: func() any { return new([]int64) }}

// appendColumn appends a column in the shorter of its two forms.
func appendColumn(b []byte, values []int64) []byte {
	runs, last := 0, int64(0)
	var before int64
	for i, v := range values {
		if d := v - last; i == 0 || d != before {
			runs, before = runs+1, d
		}
		last = v
	}
	last = 0
	if runs*8 < len(values) { // a run takes at most a few bytes, so that it stays below one for each record
		for i := 0; i < len(values); {
			d, n := values[i]-last, 0
			for ; i < len(values) && values[i]-last == d; i++ {
				last, n = values[i], n+1
			}
			b = binary.AppendVarint(b, d)
			b = binary.AppendUvarint(b, uint64(n))
		}
		if len(b) < len(values) {
			return b
		}
		b, last = b[:0], 0
	}
	for _, v := range values {
		b = binary.AppendVarint(b, v-last)
		last = v
	}
	return b
}
