package store

import (
	"database/sql"
	"fmt"
	"math"
	"slices"
	"sync"

	"nightdrill.dev/internal/core/record"
)

// block is some records of one kind, as they were written together.
type block struct {
	seq  int
	data []byte
}

// blocks returns a run's blocks by their kind, in order. Of a damaged file it gives
// what can be read, and up to which seq that is whole.
func (s *Store) blocks(id string) (out map[string][]block, until int, err error) {
	out, until = map[string][]block{}, math.MaxInt
	for _, kind := range []string{"arrivals", "invocations", "attempts", "deliveries", "levels", "calls", "spans",
		"machine",
		"instances"} {
		at, err := s.blocksOf(id, kind, out)
		switch {
		case err == nil:
		case !s.isDamage(err):
			return nil, 0, s.said(err)
		case kind != "instances": // the other records are of no use beyond
			until = min(until, at)
		}
	}
	return out, until, nil
}

// blocksOf reads the blocks of a kind, and returns the seq at which that failed.
func (s *Store) blocksOf(id, kind string, out map[string][]block) (at int, err error) {
	err = s.eachBlock(id, kind, func(b block) error {
		at = b.seq + 1
		out[kind] = append(out[kind], block{b.seq, slices.Clone(b.data)})
		return nil
	})
	return at, err
}

// eachBlock visits the blocks of a kind in order; their bytes are the visitor's until it returns.
func (s *Store) eachBlock(id, kind string, do func(block) error) error {
	rows, err := s.reads.Query("SELECT seq, data FROM blocks WHERE run = ? AND kind = ? ORDER BY seq", id, kind)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b block
		var data sql.RawBytes
		if err := rows.Scan(&b.seq, &data); err != nil {
			return err
		}
		b.data = data
		if err := do(b); err != nil {
			return err
		}
	}
	return rows.Err()
}

// fill reads blocks into a run, up to the first that cannot be read: records refer
// to each other by their places. It returns what was left out, or "".
func fill(r *record.Run, blocks map[string][]block, until int) (cut string) {
	if until < math.MaxInt {
		cut = fmt.Sprintf("the file cannot be read beyond block %d", until)
	}
	beyond := false
	for head := *r; ; {
		*r = head
		bad := math.MaxInt
		var why error
		var wg sync.WaitGroup
		var mu sync.Mutex
		failed := func(seq int, err error) {
			mu.Lock()
			defer mu.Unlock()
			if err != nil && seq < bad {
				bad, why = seq, err
			}
		}
		x := extentOf(r, blocks, until)
		failed(x.readInstances(blocks["instances"]))
		// each kind by itself, at the same time
		wg.Go(func() { failed(decodeAll(&arrivals, blocks["arrivals"], until, x.arrival, &r.Arrivals)) })
		wg.Go(func() { failed(decodeAll(&invocations, blocks["invocations"], until, x.invocation, &r.Invocations)) })
		wg.Go(func() { failed(decodeAll(&attempts, blocks["attempts"], until, x.attempt, &r.Attempts)) })
		wg.Go(func() { failed(decodeAll(&deliveries, blocks["deliveries"], until, x.delivery, &r.Deliveries)) })
		wg.Go(func() { failed(decodeAll(&calls, blocks["calls"], until, x.call, &r.Calls)) })
		wg.Go(func() { failed(decodeAll(&machine, blocks["machine"], until, x.load, &r.Loads)) })
		wg.Go(func() { failed(decodeAll(&spans, blocks["spans"], until, x.span, &r.Spans)) })
		wg.Go(func() { failed(decodeAll(&levels, blocks["levels"], until, x.level, &r.Levels)) })
		wg.Wait()
		beyond = x.beyond.Load()
		if why == nil || bad >= until {
			break
		}
		until, cut = bad, fmt.Sprintf("block %d: %v", bad, why)
	}
	if cut == "" && (beyond || !inPlace(r.Instances)) {
		cut = "instances are missing"
	}
	if cut != "" {
		repair(r)
	}
	return cut
}

// readInstances reads the instances of a run, and returns the seq up to which what they are of is whole where a
// block of theirs is damaged.
func (x *extent) readInstances(blocks []block) (seq int, err error) {
	for _, b := range blocks {
		some, why := x.instances(b.data)
		if why != nil && err == nil {
			seq, err = max(b.seq-1, 0), why
		}
		x.run.Instances = append(x.run.Instances, some...)
	}
	slices.SortFunc(x.run.Instances, func(a, b record.Instance) int { return int(a.ID - b.ID) })
	return seq, err
}

// inPlace reports whether each instance stands where its ID says.
func inPlace(all []record.Instance) bool {
	for i := range all {
		if int(all[i].ID) != i {
			return false
		}
	}
	return true
}

// repair leaves out what refers to instances that are not there, and returns the numbers
// of instances that are missing to empty ones.
func repair(r *record.Run) {
	there := r.Instances // in the order of their IDs
	r.Instances = nil
	for _, in := range there {
		if in.ID > int32(len(there)+mostIDs) {
			break // it is not one that was written
		}
		for int(in.ID) > len(r.Instances) {
			r.Instances = append(r.Instances, record.Instance{ID: int32(len(r.Instances)), Function: -1})
		}
		if int(in.ID) == len(r.Instances) { // not there twice
			r.Instances = append(r.Instances, in)
		}
	}
	n := len(r.Instances)
	r.Invocations = slices.DeleteFunc(r.Invocations, func(v record.Invocation) bool {
		return int(v.Instance) >= n || v.Instance < 0 || int(v.Function) >= len(r.Functions) ||
			int(v.Source) >= len(r.Sources)
	})
	r.Calls = slices.DeleteFunc(r.Calls, func(c record.Call) bool {
		return int(c.Instance) >= n || c.Function < 0 || int(c.Function) >= len(r.Functions) || c.Upstream < 0 ||
			int(c.Upstream) >= len(r.Upstreams)
	})
}

// decodeAll decodes the blocks before a seq, and returns the seq of the first that is
// damaged, or has a record that is not sound.
func decodeAll[T any](c *codec[T], blocks []block, until int, sound func(int, *T) bool, to *[]T) (seq int, err error) {
	var out []T
	if n := claimed(blocks, until); n > 0 {
		out = make([]T, 0, min(n, len(blocks)*usualRecords)) // a damaged block may claim any number
	}
	for _, b := range blocks {
		if b.seq >= until {
			break
		}
		first := len(out)
		if out, err = c.decode(out, b.data); err != nil {
			return b.seq, err
		}
		for i := first; i < len(out); i++ {
			if !sound(i, &out[i]) {
				return b.seq, errUnsound
			}
		}
	}
	*to = out
	return 0, nil
}
