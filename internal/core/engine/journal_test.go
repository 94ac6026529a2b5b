package engine

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/clock"
	"nightdrill.dev/internal/core/plan"
)

// Histories with all kinds of sources, faults and chains are the same, byte for
// byte, when their inputs are played again; one that was changed is found out.
func TestHistoriesAreReenacted(t *testing.T) {
	for seed := range uint64(60) {
		h := newHistory(seed)
		journal := JournalSetup(&h.p, h.limits, h.e.settle)
		// the history's own steps, kept as a journal beside
		again := New(&h.p, h.limits, h.e.settle)
		var fx Effects
		h.heard = func(now clock.Time, in Input) {
			fx.Reset()
			again.Handle(now, in, &fx)
			journal = AppendJournal(journal, now, in, &fx)
		}
		if err := h.run(length); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		kinds := map[EffectKind]int{}
		if err := Reenact(journal, func(_ *plan.Project, f *Effect, _ []int64) { kinds[f.Kind]++ }); err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if kinds[Send] == 0 || kinds[Ended] == 0 {
			t.Fatalf("seed %d: an empty history", seed)
		}
		changed := strings.Replace(string(journal), `"attempt":1`, `"attempt":7`, 1)
		if err := Reenact([]byte(changed), nil); err == nil || !strings.Contains(err.Error(), "the engine gave") {
			t.Fatalf("seed %d: a changed journal gives %v", seed, err)
		}
	}
}
