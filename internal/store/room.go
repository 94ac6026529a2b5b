package store

import (
	"fmt"
	"math"
	"unsafe"

	"github.com/shirou/gopsutil/v4/mem"

	"nightdrill.dev/internal/core/figure"
)

// A few bytes may stand for very many records. What claims more than fits is refused before memory is asked for.

// eventBytes is what a filter holds for each event of a run.
const eventBytes = 32

// memory returns what the records of a run may take in bytes, half of what is free, since findings are made of them; 0
// if that is not known.
func memory() uint64 {
	m, err := mem.VirtualMemory()
	if err != nil {
		return 0
	}
	return m.Available / 2
}

// need is what records take in memory once they are read.
type need struct {
	records, bytes uint64
}

// needs adds what the records of blocks take.
func (c *codec[T]) needs(n *need, blocks []block) {
	records := uint64(claimed(blocks, math.MaxInt))
	n.records += records
	n.bytes += records * uint64(unsafe.Sizeof(*new(T)))
}

// room returns an error if what is to be read of a run does not fit into memory.
func (s *Store) room(id string, n need) error {
	have := s.memory()
	if have == 0 || n.bytes <= have {
		return nil
	}
	const gib = 1 << 30
	return fmt.Errorf("run %s says it has %s records, which take %.3g GiB in memory; half of what is free here, "+
		"%.3g GiB, is the most", id, figure.Count(float64(n.records)), float64(n.bytes)/gib, float64(have)/gib)
}

// roomFor returns an error if all records of a run do not fit into memory.
func (s *Store) roomFor(id string, blocks map[string][]block) error {
	var n need
	arrivals.needs(&n, blocks["arrivals"])
	invocations.needs(&n, blocks["invocations"])
	attempts.needs(&n, blocks["attempts"])
	deliveries.needs(&n, blocks["deliveries"])
	levels.needs(&n, blocks["levels"])
	calls.needs(&n, blocks["calls"])
	spans.needs(&n, blocks["spans"])
	machine.needs(&n, blocks["machine"])
	return s.room(id, n)
}
