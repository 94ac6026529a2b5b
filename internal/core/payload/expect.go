package payload

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill/internal/core/differ"
	"nightdrill/internal/core/generate"
)

// Expect says what a reply should be. What is not set is not looked at.
type Expect struct {
	Status     []int
	Schema     *jsonschema.Schema // of the body
	SchemaName string
	Values     []Value
	LeaveOut   []string // JSON Pointers of what may differ from one reply to the next
}

// Value is what a reply should hold at a JSON Pointer.
type Value struct {
	At   string
	Want any // as decoded JSON
}

// Verdict says of one expectation whether it held.
type Verdict struct {
	Text string // what was expected
	Held bool
	Got  string // where it broke: what was there instead
}

// Check looks at a reply.
func (x *Expect) Check(status int, body []byte) (out []Verdict) {
	if x == nil {
		return nil
	}
	say := func(held bool, got, format string, args ...any) {
		out = append(out, Verdict{fmt.Sprintf(format, args...), held, got})
	}
	if len(x.Status) > 0 {
		say(slices.Contains(x.Status, status), fmt.Sprint(status), "status %s", strings.Trim(fmt.Sprint(x.Status), "[]"))
	}
	if x.Schema == nil && len(x.Values) == 0 {
		return out
	}
	v, err := differ.Decode(body)
	if err != nil {
		say(false, "not JSON: "+err.Error(), "a reply that is JSON")
		return out
	}
	if x.Schema != nil {
		got := ""
		if plain, err := jsonschema.UnmarshalJSON(bytes.NewReader(body)); err != nil {
			got = err.Error()
		} else if err := x.Schema.Validate(plain); err != nil {
			got = generate.Why(err)
		}
		say(got == "", got, "a reply that fits %s", x.SchemaName)
	}
	for _, want := range x.Values {
		text, _ := json.Marshal(want.Want) // it came from a file
		found, ok := differ.Lookup(v, want.At)
		got := "nothing there"
		if ok {
			b, _ := json.Marshal(found) // it came from JSON
			got = string(b)
		}
		say(ok && differ.Equal(found, want.Want), got, "%s is %s", want.At, text)
	}
	return out
}
