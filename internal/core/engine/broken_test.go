//go:build brokenrules

package engine

import (
	"testing"
)

// Each checker is proved: with its rule broken in the engine, it notices within
// a few histories.
func TestEveryBrokenRuleIsNoticed(t *testing.T) {
	for broken := kept + 1; broken < rules; broken++ {
		noticed := ""
		for seed := uint64(0); seed < 300 && noticed == ""; seed++ {
			h := newHistory(seed)
			h.e.broken = broken
			if err := h.run(length); err != nil {
				noticed = err.Error()
			}
		}
		if noticed == "" {
			t.Errorf("rule %d was broken in 300 histories and no one noticed", broken)
		} else {
			t.Logf("rule %d: %s", broken, noticed)
		}
	}
}
