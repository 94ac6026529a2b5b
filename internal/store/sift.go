package store

import (
	"database/sql"
	"encoding/binary"
	"errors"
	"math"
	"sync"

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
		Arrivals:    readEach(s, x.run.ID, "arrivals", &arrivals, x.arrival),
		Invocations: readEach(s, x.run.ID, "invocations", &invocations, x.invocation),
		Attempts:    readEach(s, x.run.ID, "attempts", &attempts, x.attempt),
		Deliveries:  readEach(s, x.run.ID, "deliveries", &deliveries, x.delivery),
		Levels:      readEach(s, x.run.ID, "levels", &levels, x.level),
		Calls:       readEach(s, x.run.ID, "calls", &calls, x.call),
		Spans:       readEach(s, x.run.ID, "spans", &spans, x.span)}
}

// batch is how many records are decoded ahead of those that are visited, several times.
const batch = 16 * tileRows

// readEach returns what decodes the blocks of a kind one after the other, and visits their records meanwhile.
func readEach[T any](s *Store, run, kind string, c *codec[T], sound func(int, *T) bool) record.Each[T] {
	return func(visit func(int, *T)) error {
		ready, free := make(chan []T, 2), make(chan []T, 3)
		for range cap(free) {
			free <- nil
		}
		var err error
		var wg sync.WaitGroup
		wg.Go(func() {
			defer close(ready)
			n := 0
			err = s.eachBlock(run, kind, func(b block) error {
				d, err := c.decoder(b.data)
				for err == nil && d.left > 0 {
					some := (<-free)[:0]
					for err == nil && d.left > 0 && len(some) < batch {
						some, err = d.next(some)
					}
					for i := range some {
						if !sound(n+i, &some[i]) {
							return errUnsound
						}
					}
					n += len(some)
					ready <- some
				}
				return err
			})
		})
		n := 0
		for some := range ready {
			for i := range some {
				visit(n+i, &some[i])
			}
			n += len(some)
			free <- some
		}
		wg.Wait()
		return err
	}
}
