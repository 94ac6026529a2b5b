package measure

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"nightdrill/internal/core/clock"
	"nightdrill/internal/core/engine"
)

// The phases of an invocation lie end to end from its arrival to its end.
func TestPhases(t *testing.T) {
	ms := func(n int) clock.Time { return clock.Time(n) * clock.Time(time.Millisecond) }
	in := &Instance{Spawned: ms(12), Exec: ms(14), Ready: ms(90)}
	for want, v := range map[string]Invocation{
		"wait 2 spawn 2 boot 76 hand over 1 first byte 9 rest 5": {Class: engine.Cold, Assigned: ms(90), Sent: ms(91),
			Received: ms(100), Done: ms(105)},
		"wait 81 first byte 9": {Class: engine.Warm, Assigned: ms(90), Sent: ms(91), Received: ms(100), Done: ms(100)},
		"wait 81 no reply 20":  {Class: engine.First, Assigned: ms(90), Sent: ms(91), Done: ms(111)},
		"wait 20 no reply 10":  {Class: engine.Warm, Assigned: ms(30), Done: ms(40)},
	} {
		var got []string
		at := ms(10)
		for _, p := range Phases(at, in, &v) {
			if p.From != at {
				t.Errorf("%s: %s begins at %v, not at %v", want, p.Name, p.From, at)
			}
			at = p.To
			got = append(got, fmt.Sprintf("%s %d", p.Name, p.Took().Milliseconds()))
		}
		if s := strings.Join(got, " "); s != want || at != v.Done {
			t.Errorf("%s to %v, want %s to %v", s, at, want, v.Done)
		}
	}
}

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
