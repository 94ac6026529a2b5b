package infer

import (
	"fmt"
	"testing"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/payload"
	"nightdrill.dev/internal/core/rng"
)

// fares draws payloads of requests, each with how it is answered.
func fares(seed uint64, n int, answer func(r *rng.Source, to, passengers int) string) *Answers {
	r := rng.New(seed, 4)
	a := &Answers{}
	for i := range n {
		to, passengers := r.Below(6), 1+r.Below(9)
		p := &payload.Payload{Request: &event.Request{Method: "GET", Target: fmt.Sprintf(
			"/quote/isle-%d?passengers=%d&day=%d&ref=%d", to, passengers, r.Below(28), i)}}
		a.Add(p, answer(r, to, passengers))
	}
	return a
}

// What decides on the answer is found: a value, or a number from which on it is another; and where nothing
// does, nothing is claimed in more than one case in twenty.
func TestRulesFindWhatDecides(t *testing.T) {
	named := fares(1, 200, func(r *rng.Source, to, _ int) string {
		if to == 3 {
			return "status 404"
		}
		return "status 200"
	}).Rules()
	if len(named) != 1 || named[0].At != "/path" || named[0].Is != "= /quote/isle-3" ||
		named[0].Label != "status 404" ||
		named[0].With != named[0].OfWith || named[0].Without != 0 || named[0].OfWith+named[0].OfWithout != 200 {
		t.Errorf("a value that decides: %+v", named)
	}
	above := fares(2, 200, func(r *rng.Source, _, passengers int) string {
		if passengers >= 7 && r.Chance(9, 10) {
			return "status 422"
		}
		return "status 200"
	}).Rules()
	if len(above) == 0 || above[0].At != "/query/passengers" || above[0].Is != "≥ 7" || above[0].Without != 0 {
		t.Errorf("a number that decides: %+v", above)
	}
	wrong := 0
	const trials = 300
	for seed := range uint64(trials) {
		if fares(100+seed, 60, func(r *rng.Source, _, _ int) string {
			return map[bool]string{true: "status 500", false: "status 200"}[r.Chance(1, 4)]
		}).Rules() != nil {
			wrong++
		}
	}
	if wrong > trials/10 { // 0.05, and more than three standard deviations
		t.Errorf("in %d of %d trials a rule is found where there is none", wrong, trials)
	}
	if got := fares(1, 50, func(*rng.Source, int, int) string { return "status 200" }).Rules(); got != nil {
		t.Errorf("of equal answers: %+v", got)
	}
}

// Fisher's probabilities are those of counting.
func TestFisher(t *testing.T) {
	for _, c := range []struct {
		with, n, hits, all int
		want               float64
	}{{3, 4, 4, 8, 17.0 / 70}, {4, 4, 4, 8, 1.0 / 70}, {0, 4, 4, 8, 1}, {5, 5, 5, 10, 1.0 / 252}} {
		if got := fisher(c.with, c.n, c.hits, c.all); got < c.want*0.999999 || got > c.want*1.000001 {
			t.Errorf("fisher(%d of %d, %d of %d) is %v, want %v", c.with, c.n, c.hits, c.all, got, c.want)
		}
	}
}
