package session

import (
	"strings"
	"testing"
	"time"

	"nightdrill.dev/internal/core/plan"
	"nightdrill.dev/internal/core/schedule"
	"nightdrill.dev/internal/live/logs"
	"nightdrill.dev/internal/session/catalog"
)

const ticking = `
nightdrill: 1
project: quay
functions:
  gate: {transport: attach, url: "http://127.0.0.1:1"}
sources:
  often: {kind: schedule, every: 1s, missed: once, wires: [{to: gate}]}
  hourly: {kind: schedule, cron: "0 * * * *", missed: skip, wires: [{to: gate}]}
`

// Schedules are paused until they are let run; then they fire when they fall
// due. What was missed while the machine slept is left out, or made up for once.
func TestSchedulesAtTheDesk(t *testing.T) {
	s, _ := lay(t, ticking)
	fired := func(source string) (n int) {
		for _, v := range s.Recent(keptFirings) {
			if v.Item.SourceName == source {
				n++
				if v.Origin != ByClock {
					t.Errorf("it was fired %v", v.Origin)
				}
			}
		}
		return n
	}
	last := time.Now().Add(-3 * time.Hour)
	if wait := s.tick(&last); wait != longestWait || fired("often") > 0 || time.Since(last) > time.Minute {
		t.Errorf("while they are paused: wait %v, %d fired", wait, fired("often"))
	}
	s.mu.Lock()
	s.ticking = true // without waking keepTime
	s.mu.Unlock()
	last = time.Now().Add(-10 * time.Minute)
	wait := s.tick(&last)
	// one for all that were missed, and those that were due just now
	if n := fired("often"); n < 1 || n > 3 || wait > time.Second {
		t.Errorf("after ten minutes: %d fired, the next in %v", n, wait)
	}
	if n := fired("hourly"); n > 1 {
		t.Errorf("%d hourly times were made up for", n)
	}
	noted := s.Log.Up(s.Log.Last(), 100, func(e *logs.Entry) bool {
		return strings.Contains(e.Text, "scheduled runs were missed while the program or the machine was asleep; "+
			"they are made up for once")
	})
	if len(noted) != 1 {
		t.Errorf("the missed times are noted %d times", len(noted))
	}
	s.mu.Lock()
	s.ticking = false
	s.mu.Unlock()
	s.SetTicking(true)
	before := fired("often")
	until(t, "it fires by itself", func() bool { return fired("often") > before })
	s.SetTicking(false)
	if s.Ticking() {
		t.Error("it goes on")
	}
}

// The next times of several expressions come in order, each once.
func TestNextTimes(t *testing.T) {
	var src plan.Source
	for _, text := range []string{"0 6 * * *", "0 */6 * * *"} {
		x, err := schedule.Parse(text, time.UTC)
		if err != nil {
			t.Fatal(err)
		}
		src.Times = append(src.Times, x)
	}
	var got []string
	for _, x := range catalog.NextTimes(&src, time.Date(2026, 5, 1, 1, 0, 0, 0, time.UTC), 5) {
		got = append(got, x.At.Format("02T15"))
	}
	if text := strings.Join(got, " "); text != "01T06 01T12 01T18 02T00 02T06" {
		t.Errorf("times %s", text)
	}
}
