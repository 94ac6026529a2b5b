package store

import (
	"fmt"
	"math"
	"unsafe"

	"nightdrill.dev/internal/core/figure"
)

// A few bytes may stand for very many records. What claims more than fits into the machine is refused before memory
// is asked for.

// eventBytes is what a filter holds for each event of a run.
const eventBytes = 32

// need adds up what the records of blocks take in memory once they are read.
type need struct {
	records, bytes uint64
}

func needs[T any](n *need, blocks []block, _ *codec[T]) {
	records := uint64(claimed(blocks, math.MaxInt))
	n.records += records
	n.bytes += records * uint64(unsafe.Sizeof(*new(T)))
}

// room returns an error if what is to be read of a run does not fit into memory.
func (s *Store) room(id string, n need) error {
	if s.memory == 0 || n.bytes <= s.memory { // or unknown
		return nil
	}
	return fmt.Errorf("run %s says it has %s records, which take %s in memory; this machine has %s", id,
		figure.Count(float64(n.records)), gibibytes(n.bytes), gibibytes(s.memory))
}

func gibibytes(n uint64) string { return fmt.Sprintf("%.3g GiB", float64(n)/(1<<30)) }

// roomFor returns an error if all records of a run do not fit into memory.
func (s *Store) roomFor(id string, blocks map[string][]block) error {
	var n need
	needs(&n, blocks["arrivals"], &arrivals)
	needs(&n, blocks["invocations"], &invocations)
	needs(&n, blocks["attempts"], &attempts)
	needs(&n, blocks["deliveries"], &deliveries)
	needs(&n, blocks["levels"], &levels)
	needs(&n, blocks["calls"], &calls)
	needs(&n, blocks["spans"], &spans)
	needs(&n, blocks["machine"], &machine)
	return s.room(id, n)
}
