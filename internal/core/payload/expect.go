package payload

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/generate"
	"nightdrill.dev/internal/core/jsondiff"
)

// Expect is what a reply should be. What is not set is not looked at.
type Expect struct {
	Status     []int
	Schema     *jsonschema.Schema // of the body
	SchemaName string
	Values     []Value
	Recorded   bool     // status and body are those that were recorded with the request
	LeaveOut   []string // JSON Pointers of what may differ from one reply to the next
}

// Value is what a reply should hold at a JSON Pointer.
type Value struct {
	At   string
	Want any // as decoded JSON
}

// Verdict is one expectation, and whether it was met.
type Verdict struct {
	Text string // what was expected
	Held bool
	Got  string // where it broke: what was there instead
}

// ExpectOf returns what is expected of the reply to payload n, from 0; nil for nothing.
func (s *Set) ExpectOf(n int) *Expect {
	if x := s.Payloads[n].Expect; x != nil {
		return x
	}
	return s.Expect
}

// First returns the first expectation that a reply to a payload breaks, in words;
// "" for none.
func (x *Expect) First(p *Payload, status int, body []byte) string {
	for _, v := range x.Check(p, status, body) {
		if !v.Held {
			return fmt.Sprintf("expected %s, got %s", v.Text, v.Got)
		}
	}
	return ""
}

// recorded compares a reply with the one that was recorded.
func (x *Expect) recorded(was *Reply, status int, body []byte, say func(held bool, got, format string, args ...any)) {
	if was == nil {
		say(false, "a recording without replies", "the reply that was recorded")
		return
	}
	say(status == was.Status, fmt.Sprint(status), "status %d, as recorded", was.Status)
	if len(was.Body) == 0 {
		return
	}
	// what was redacted cannot come again
	found := slices.DeleteFunc(jsondiff.Between(was.Body, body, x.LeaveOut),
		func(d jsondiff.Difference) bool { return strings.Contains(d.Was, StandIn) })
	if len(found) == 0 {
		say(true, "", "the body that was recorded")
		return
	}
	or := func(s string) string {
		if s == "" {
			return "nothing"
		}
		if len(s) > 200 {
			return s[:200] + "…"
		}
		return s
	}
	at := found[0].At
	if at == "" {
		at = "the root"
	}
	got := fmt.Sprintf("%s at %s", or(found[0].Is), at)
	if len(found) > 1 {
		got += fmt.Sprintf(", and %d more differences", len(found)-1)
	}
	say(false, got, "%s at %s, as recorded", or(found[0].Was), at)
}

// Check checks the reply to a payload.
func (x *Expect) Check(p *Payload, status int, body []byte) (out []Verdict) {
	if x == nil {
		return nil
	}
	say := func(held bool, got, format string, args ...any) {
		out = append(out, Verdict{fmt.Sprintf(format, args...), held, got})
	}
	if len(x.Status) > 0 {
		say(slices.Contains(x.Status, status), fmt.Sprint(status), "status %s", strings.Trim(fmt.Sprint(x.Status),
			"[]"))
	}
	if x.Recorded {
		x.recorded(p.Reply, status, body, say)
	}
	if x.Schema == nil && len(x.Values) == 0 {
		return out
	}
	v, err := jsondiff.Decode(body)
	if err != nil {
		say(false, "not valid JSON: "+err.Error(), "a reply that is JSON")
		return out
	}
	if x.Schema != nil {
		got := ""
		if plain, err := jsonschema.UnmarshalJSON(bytes.NewReader(body)); err != nil {
			got = err.Error()
		} else if err := x.Schema.Validate(plain); err != nil {
			got = generate.Why(err)
		}
		say(got == "", got, "a reply that satisfies %s", x.SchemaName)
	}
	for _, want := range x.Values {
		text, _ := json.Marshal(want.Want) // it came from a file
		found, ok := jsondiff.Lookup(v, want.At)
		got := "nothing there"
		if ok {
			b, _ := json.Marshal(found) // it came from JSON
			got = string(b)
		}
		say(ok && jsondiff.Equal(found, want.Want), got, "%s is %s", want.At, text)
	}
	return out
}
