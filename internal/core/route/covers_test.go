package route

import (
	"strings"
	"testing"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/rng"
)

// Where one route is said to cover another, it takes every request that the other
// takes; and of those that do not, many have a request that shows it.
func TestWhatCoversTakesTheSame(t *testing.T) {
	r := rng.New(9, 1)
	pick := func(words ...string) string { return words[r.Below(len(words))] }
	path := func() string {
		var parts []string
		for range 1 + r.Below(3) {
			parts = append(parts, pick("a", "b", "c", "", "a%20b"))
		}
		return "/" + strings.Join(parts, "/")
	}
	pattern := func() (p Pattern) {
		if r.Chance(1, 8) {
			return p
		}
		var parts []string
		n := 1 + r.Below(3)
		for i := range n {
			part := pick("a", "b", "{x}", "{y}")
			if i == n-1 && r.Chance(1, 4) {
				part = "{rest...}"
			}
			parts = append(parts, part)
		}
		p, err := Parse("/" + strings.Join(parts, "/"))
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	fields := func() (out []event.Field) {
		for _, name := range []string{"p", "q"} {
			if r.Chance(1, 4) {
				out = append(out, event.Field{Name: name, Value: pick("1", "2", "*")})
			}
		}
		return out
	}
	covered, shown := 0, 0
	for range 4000 {
		a := When{Method: pick("", "GET", "POST"), Path: pattern(), Query: fields(), Header: fields()}
		b := When{Method: pick("", "GET", "POST"), Path: pattern(), Query: fields(), Header: fields()}
		covers, counter := a.Covers(&b), false
		for range 60 {
			q := &event.Request{Method: pick("GET", "POST", "HEAD"), Target: path() + "?"}
			for _, f := range fields() {
				q.Target += f.Name + "=" + strings.Replace(f.Value, "*", "3", 1) + "&"
			}
			q.Header = fields()
			if b.Matches(q) && !a.Matches(q) {
				counter = true
				if covers {
					t.Fatalf("%s %+v is said to cover %s %+v, but %s %s %v is taken by the second alone", a.String(), a,
						b.String(), b, q.Method, q.Target, q.Header)
				}
			}
			for _, trial := range [][]Trial{a.TryRequest(q)} {
				all := true
				for _, x := range trial {
					all = all && x.Held
				}
				if all != a.Matches(q) {
					t.Fatalf("%+v of %+v: the trials say %v", q, a, trial)
				}
			}
		}
		if covers {
			covered++
		} else if counter {
			shown++
		}
	}
	if covered < 100 || shown < 500 {
		t.Errorf("%d cover, %d are shown not to: too few to prove anything", covered, shown)
	}
}
