package measure

import (
	"fmt"
	"testing"
)

func TestServerTiming(t *testing.T) {
	for header, want := range map[string]string{
		`search;dur=2.5, cache;desc="a, b; \"c\"";dur=0.1`: `[{search 2.5ms } {cache 100µs a, b; "c"}]`,
		`miss, db ; DUR = 53`:                              `[{miss 0s } {db 53ms }]`,
		`;dur=1,,x;dur=-1`:                                 `[{x 0s }]`,
		`x;desc="open`:                                     `[{x 0s "open}]`,
		``:                                                 `[]`,
	} {
		if got := fmt.Sprint(ParseServerTiming(header)); got != want {
			t.Errorf("%s: %s, want %s", header, got, want)
		}
	}
}
