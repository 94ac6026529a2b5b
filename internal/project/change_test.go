package project

import (
	"fmt"
	"strings"
	"testing"
)

// Limits that are given by command stand beside those of the drill: from the
// beginning on, or in the order of their times, each on top of what holds by then.
func TestChangeLimits(t *testing.T) {
	l, err := Load(t.Context(), write(t, good))
	if err != nil {
		t.Fatal(err)
	}
	d := l.DrillNamed("friday-evening")
	changed, err := ChangeLimits(l.Project, d, []string{"quote.max=6@3s", "boarding.keep_warm=2", "concurrency=9@5s",
		"quote.start_rate=unbounded", "boarding.per_instance=3", "boarding.replace@1s", "clerk.idle_after=3s@10s"})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, c := range changed.Changes {
		name := "all"
		if c.Function >= 0 {
			name = l.Functions[c.Function].Name
		}
		got = append(got, fmt.Sprintf("%v %s max %d away %v warm %d all %d replace %v", c.At, name, c.Limits.Max,
			c.Limits.TurnAway, c.Limits.KeepWarm, c.Concurrency, c.Replace))
	}
	want := []string{
		"1s boarding max 10 away false warm 2 all 0 replace true",
		"2s all max 0 away false warm 0 all 12 replace false",
		"2s quote max 4 away true warm 1 all 0 replace false",
		"2s clerk max 10 away false warm 1 all 0 replace false",
		"3s quote max 6 away true warm 1 all 0 replace false",
		"4s quote max 4 away false warm 1 all 0 replace false",
		"4s quote max 4 away false warm 1 all 0 replace true",
		"5s all max 0 away false warm 0 all 9 replace false",
		"10s clerk max 10 away false warm 1 all 0 replace false",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("changes\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if q := changed.Limits[0]; q.StartEvery != 0 || d.Limits[0].StartEvery == 0 || changed.Limits[4].PerInstance != 3 ||
		len(d.Changes) != 5 {
		t.Errorf("the drill's own limits were changed, or the new ones were not: %+v, %+v", q, d.Limits[0])
	}
	if _, err := ChangeLimits(l.Project, l.DrillNamed("starts"), []string{"quote.max=2@1s"}); err == nil ||
		!strings.Contains(err.Error(), "one event after the other") {
		t.Errorf("a drill of cold starts was to change: %v", err)
	}
	if _, err := ChangeLimits(l.Project, d, []string{"clerk.per_instance=2"}); err == nil ||
		!strings.Contains(err.Error(), "one event at a time") {
		t.Errorf("what lines do not allow was taken: %v", err)
	}
	if _, err := ChangeLimits(l.Project, d, []string{"quote.keep_warm=9@3s"}); err == nil ||
		!strings.Contains(err.Error(), "keep_warm is 9") {
		t.Errorf("what cannot hold was taken: %v", err)
	}
}
