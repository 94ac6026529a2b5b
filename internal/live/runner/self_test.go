package runner

import (
	"context"
	"testing"
	"time"

	"nightdrill.dev/internal/core/record"
)

// The self-check measures round trips before and while it goes on, and timers, and ends
// when it is told to, also where it is notified immediately.
func TestSelfCheck(t *testing.T) {
	d := &Drill{Runner: &Runner{}}
	s := &record.SelfCheck{}
	for long := 3 * echoEvery; len(s.During) == 0 && long < time.Minute; long *= 2 { // a busy machine takes longer
		stop := d.checkSelf(context.Background())
		<-time.After(long)
		stop()
		s = d.rec.Self
	}
	if len(s.Before) != echoesBefore || len(s.Timer) != timers || len(s.During) == 0 {
		t.Fatalf("%d round trips before, %d meanwhile, %d timers", len(s.Before), len(s.During), len(s.Timer))
	}
	for _, all := range [][]time.Duration{s.Before, s.During, s.Timer} {
		for _, x := range all {
			if x < 0 || x > echoPatience {
				t.Errorf("one took %v", x)
			}
		}
	}
	if s.Jump > time.Second || s.Jump < -time.Second {
		t.Errorf("the clock jumped by %v", s.Jump)
	}
	ctx, cancel := context.WithCancel(context.Background())
	stop := d.checkSelf(ctx)
	cancel()
	stop()
}
