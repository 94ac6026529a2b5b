package store

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"math"
	"sync"
	"sync/atomic"

	"nightdrill.dev/internal/core/record"
)

// Filter reads the part of a run that a filter selects. Of a large run it holds no more in memory than that, and
// some 30 bytes for each event.
func (s *Store) Filter(id string, f record.Filter) (*record.Run, error) {
	r, err := s.head(id)
	if err != nil {
		return nil, err
	}
	if why := r.Unknown(f); why != "" {
		return nil, errors.New(why)
	}
	part, err := s.sift(r, f)
	if err != nil { // damaged: what is left of it is found out as a whole
		if r, err = s.Load(id); err != nil {
			return nil, err
		}
		return r.Filter(f), nil
	}
	listPayloads(part)
	s.timings(part)
	return part, nil
}

func (s *Store) sift(r *record.Run, f record.Filter) (*record.Run, error) {
	blocks := map[string][]block{}
	for _, kind := range []string{"instances", "machine"} { // there are few of them
		if _, err := s.blocksOf(r.ID, kind, blocks); err != nil {
			return nil, err
		}
	}
	x := &extent{run: r}
	if _, err := decodeAll(&machine, blocks["machine"], math.MaxInt, x.load, &r.Loads); err != nil {
		return nil, err
	}
	if err := s.each("SELECT kind, substr(data, 1, 10) FROM blocks WHERE run = ? AND kind IN ('arrivals', "+
		"'invocations')",
		r.ID, func(rows *sql.Rows) error {
			var kind string
			var head []byte
			if err := rows.Scan(&kind, &head); err != nil {
				return err
			}
			n, _ := binary.Uvarint(head)
			if n > usualRecords {
				return errUnsound
			}
			if kind == "arrivals" {
				x.events += int64(n)
			} else {
				x.invocations += int64(n)
			}
			return nil
		}); err != nil {
		return nil, err
	}
	if err := s.room(r.ID, need{uint64(x.events), eventBytes * uint64(x.events)}); err != nil {
		return nil, err
	}
	if _, err := x.readInstances(blocks["instances"]); err != nil {
		return nil, err
	}
	if !inPlace(r.Instances) {
		return nil, errUnsound
	}
	part, err := record.Sift(s.reader(x), f)
	if err == nil && x.beyond.Load() {
		err = errUnsound
	}
	return part, err
}

// reader returns the records of a run from its file.
func (s *Store) reader(x *extent) *record.Reader {
	return &record.Reader{Head: x.run, Events: int(x.events), Over: int(x.invocations),
		Dues:        readEach(s, x.run.ID, "arrivals", &arrivals, columnsDue, x.arrival),
		Arrivals:    readEach(s, x.run.ID, "arrivals", &arrivals, nil, x.arrival),
		Ends:        readEach(s, x.run.ID, "invocations", &invocations, columnsEnd, x.invocation),
		Invocations: readEach(s, x.run.ID, "invocations", &invocations, nil, x.invocation),
		Attempts:    readEach(s, x.run.ID, "attempts", &attempts, nil, x.attempt),
		Deliveries:  readEach(s, x.run.ID, "deliveries", &deliveries, nil, x.delivery),
		Levels:      readEach(s, x.run.ID, "levels", &levels, nil, x.level),
		Calls:       readEach(s, x.run.ID, "calls", &calls, nil, x.call),
		Spans:       readEach(s, x.run.ID, "spans", &spans, nil, x.span)}
}

// chunk is a block that is decoded while others are, and what is wanted of it.
type chunk[T any] struct {
	data    []byte
	records []T
	places  []int // in the run; none where all are wanted, from
	first   int
	err     error
	decoded chan struct{}
}

// place returns the place of a record in the run.
func (x *chunk[T]) place(i int) int {
	if len(x.places) > 0 {
		return x.places[i]
	}
	return x.first + i
}

// chunks is how many blocks are decoded, or have been, ahead of the one that is visited.
const chunks = 3

// readEach returns what decodes the blocks of a kind, several at a time, and visits their records meanwhile, one after
// the other. Where only some columns are to be read, the others are 0.
func readEach[T any](s *Store, run, kind string, c *codec[T], columns []int, sound func(int, *T) bool) record.Each[T] {
	return func(want func(int, uint64) bool, visit func(int, *T)) error {
		free, order := make(chan *chunk[T], chunks+1), make(chan *chunk[T], chunks)
		for range cap(free) {
			free <- &chunk[T]{}
		}
		var failed atomic.Bool
		var err error
		var wg sync.WaitGroup
		wg.Go(func() {
			defer close(order)
			place := 0 // of the block's first record
			err = s.eachBlock(run, kind, func(b block) error {
				n, _, err := claim(b.data)
				if err != nil || failed.Load() {
					return err
				}
				if n > usualRecords { // a block is held in memory as a whole
					return errUnsound
				}
				x := <-free
				x.data, x.first, x.decoded = append(x.data[:0], b.data...), place, make(chan struct{})
				wg.Go(func() {
					defer close(x.decoded)
					x.err = x.decode(c, columns, want, sound)
				})
				place += int(n)
				order <- x
				return nil
			})
		})
		var wrong error
		for x := range order {
			if <-x.decoded; x.err != nil && wrong == nil {
				wrong = x.err
				failed.Store(true)
			}
			for i := 0; i < len(x.records) && wrong == nil; i++ {
				visit(x.place(i), &x.records[i])
			}
			free <- x
		}
		wg.Wait()
		return errors.Join(wrong, err)
	}
}

// decode decodes what is wanted of a chunk.
func (x *chunk[T]) decode(c *codec[T], columns []int, want func(int, uint64) bool, sound func(int, *T) bool) error {
	x.records, x.places = x.records[:0], x.places[:0]
	d, err := c.decoder(x.data)
	if err != nil {
		return err
	}
	if columns != nil {
		d.only(columns)
	}
	for place := x.first; d.left > 0; {
		n, first := d.left, len(x.records)
		if want == nil {
			x.records, err = d.next(x.records)
		} else {
			x.records, x.places, err = d.wanted(x.records, x.places, place, want)
		}
		if err != nil {
			return err
		}
		place += n - d.left
		for i := first; i < len(x.records); i++ {
			if !sound(x.place(i), &x.records[i]) {
				return errUnsound
			}
		}
	}
	return nil
}
