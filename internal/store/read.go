package store

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sync"

	"nightdrill/internal/core/record"
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
	rows, err := s.db.Query("SELECT seq, data FROM blocks WHERE run = ? AND kind = ? ORDER BY seq", id, kind)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	for rows.Next() {
		var b block
		if err := rows.Scan(&b.seq, &b.data); err != nil {
			return at, err
		}
		at = b.seq + 1
		out[kind] = append(out[kind], b)
	}
	return at, rows.Err()
}

// fill reads blocks into a run, up to the first that cannot be read: records refer
// to each other by their places. It returns what was left out, or "".
func fill(r *record.Run, blocks map[string][]block, until int) (cut string) {
	if until < math.MaxInt {
		cut = fmt.Sprintf("the file cannot be read beyond block %d", until)
	}
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
		// each kind by itself, at the same time
		wg.Go(func() { failed(decodeAll(&arrivals, blocks["arrivals"], until, &r.Arrivals)) })
		wg.Go(func() { failed(decodeAll(&invocations, blocks["invocations"], until, &r.Invocations)) })
		wg.Go(func() { failed(decodeAll(&attempts, blocks["attempts"], until, &r.Attempts)) })
		wg.Go(func() { failed(decodeAll(&deliveries, blocks["deliveries"], until, &r.Deliveries)) })
		wg.Go(func() { failed(decodeAll(&calls, blocks["calls"], until, &r.Calls)) })
		wg.Go(func() { failed(decodeAll(&machine, blocks["machine"], until, &r.Loads)) })
		wg.Go(func() { failed(decodeAll(&spans, blocks["spans"], until, &r.Spans)) })
		wg.Go(func() { failed(decodeAll(&levels, blocks["levels"], until, &r.Levels)) })
		wg.Go(func() {
			for _, b := range blocks["instances"] {
				var some []record.Instance
				if err := json.Unmarshal(b.data, &some); err != nil {
					failed(max(b.seq-1, 0), err)
					continue
				}
				r.Instances = append(r.Instances, some...)
			}
			slices.SortFunc(r.Instances, func(a, b record.Instance) int { return int(a.ID - b.ID) })
		})
		wg.Wait()
		if why == nil || bad >= until {
			break
		}
		until, cut = bad, fmt.Sprintf("block %d: %v", bad, why)
	}
	if cut != "" {
		repair(r)
	}
	return cut
}

// fix leaves out what refers to instances that are not there, and returns the numbers
// of instances that are missing to empty ones.
func repair(r *record.Run) {
	for i := 0; i < len(r.Instances); i++ {
		if int(r.Instances[i].ID) == i {
			continue
		}
		if int(r.Instances[i].ID) < i { // twice
			r.Instances = slices.Delete(r.Instances, i, i+1)
			i--
			continue
		}
		r.Instances = slices.Insert(r.Instances, i, record.Instance{ID: int32(i), Function: -1})
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
// damaged.
func decodeAll[T any](c *codec[T], blocks []block, until int, to *[]T) (seq int, err error) {
	var out []T
	for _, b := range blocks {
		if b.seq >= until {
			break
		}
		if out, err = c.decode(out, b.data); err != nil {
			return b.seq, err
		}
	}
	*to = out
	return 0, nil
}
