package generate

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
)

// doubled writes a schema of n steps, each of which refers to the next one twice.
func doubled(n int) string {
	defs := map[string]any{fmt.Sprint("d", n): map[string]any{"type": "integer"}}
	for i := range n {
		next := map[string]any{"$ref": fmt.Sprint("#/$defs/d", i+1)}
		defs[fmt.Sprint("d", i)] = map[string]any{"anyOf": []any{next, map[string]any{"allOf": []any{next, next}}}}
	}
	text, _ := json.Marshal(map[string]any{"$defs": defs, "$ref": "#/$defs/d0"})
	return string(text)
}

// What requests more than is made is refused, with the bound and the place.
func TestWhatIsTooLargeIsRefused(t *testing.T) {
	for text, want := range map[string]string{
		`{"type":"string","minLength":2000000000}`: "/minLength: it is 2000000000; at most " +
			"16777216 characters",
		`{"type":"array","items":{"type":"array","minItems":1e30}}`: "/items/minItems: it is 1e30; at most " +
			"1000000 items",
		`{"type":"object","minProperties":100000}`: "/minProperties: it is 100000; at most " +
			"10000 members",
		`{"type":"array","contains":{"const":1},"minContains":9999999}`:    "at most 1000000 items",
		`{"enum":[` + strings.Repeat("1,", 20000) + `2],"type":"integer"}`: "",
		`{"prefixItems":[` + strings.Repeat("{},", 20000) + `{}]}`: "it has 20002 subschemas; the limit " +
			"is 10000",
		doubled(30): "more than 100000 subschemas apply at this one place",
		`{"type":"string","pattern":"^(?=(a+)+b)(a|aa)+$"}`: "takes longer than 250 ms",
		`{"type":"array","minItems":9,"items":{"type":"string","minLength":16000000,` +
			`"maxLength":16000000}}`: "more than 64 MiB",
	} {
		g, err := New([]byte(text))
		if err == nil {
			_, err = g.Make(1, 1)
		}
		refused, ok := errors.AsType[*Refused](err)
		if (want == "") != (err == nil) || want != "" && (!ok || !strings.Contains(refused.Error(), want)) {
			t.Errorf("%.70s: %v, want %q", text, err, want)
		}
	}
	for _, text := range []string{`{"type":"array","minItems":30000,"items":{"type":"integer"}}`,
		`{"type":"object","minProperties":200}`} {
		g, err := New([]byte(text))
		if err == nil {
			_, err = g.Make(1, 1)
		}
		if err != nil {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// Making ends when it is told to, with what it was told.
func TestMakingEnds(t *testing.T) {
	g, err := New([]byte(
		`{"type":"array","contains":{"type":"integer","multipleOf":7},"minContains":900000,"uniqueItems":true}`))
	if err != nil {
		t.Fatal(err)
	}
	told, asked := errors.New("told to end"), 0
	g.Until(func() error {
		if asked++; asked > 20 {
			return told
		}
		return nil
	})
	if _, err := g.Make(1, 1); !errors.Is(err, told) {
		t.Errorf("it ended with %v", err)
	}
	at := asked
	if _, ok := g.Break(1, 1); ok || asked > at+100 {
		t.Errorf("breaking was done: %v, asked %d times more", ok, asked-at)
	}
}
