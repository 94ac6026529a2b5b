package infer

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill.dev/internal/core/event"
	"nightdrill.dev/internal/core/generate"
)

const source = `{"type":"object","required":["id","kind","seats","at","who"],"additionalProperties":false,"properties":{
	"id":{"type":"string","format":"uuid"},"kind":{"enum":["car","foot","van"],"x-made":{"weights":[70,20,10]}},
	"seats":{"type":"integer","minimum":1,"maximum":9},"at":{"type":"string","format":"date-time"},
	"note":{"type":["string","null"],"maxLength":30,"x-made":{"types":{"null":1,"string":3},"present":0.4}},
	"who":{"type":"object","required":["name"],"additionalProperties":false,"properties":{"name":{"type":"string"},
	  "vip":{"type":"boolean","x-made":{"present":0.2}}}},
	"stops":{"type":"array","maxItems":4,"items":{"type":"object","required":["port"],
	  "properties":{"port":{"type":"string"}},"additionalProperties":false}}}}`

func compile(t *testing.T, text []byte) *jsonschema.Schema {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	c := generate.Compiler(nil)
	if err := c.AddResource("learned.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("learned.json")
	if err != nil {
		t.Fatalf("%v: %s", err, text)
	}
	return s
}

// All that was learned from fits what was learned; without a required member, or
// with another type, it does not; and what is made from it has the observed shares.
func TestLearned(t *testing.T) {
	g, err := generate.New([]byte(source))
	if err != nil {
		t.Fatal(err)
	}
	const n = 1500
	var l Learner
	var seen []map[string]any
	for i := range uint64(n) {
		made, err := g.Make(3, i)
		if err != nil || l.Add(made) != nil {
			t.Fatal(err)
		}
		var v map[string]any
		d := json.NewDecoder(strings.NewReader(string(made)))
		d.UseNumber()
		_ = d.Decode(&v)
		seen = append(seen, v)
	}
	s := compile(t, l.Schema())
	for _, v := range seen {
		if err := s.Validate(v); err != nil {
			t.Fatalf("%v does not fit what was learned from it: %v", v, err)
		}
	}
	for _, name := range []string{"id", "kind", "seats", "at", "who"} {
		kept := seen[0][name]
		delete(seen[0], name)
		if s.Validate(seen[0]) == nil {
			t.Errorf("without %s it fits", name)
		}
		seen[0][name] = []any{true}
		if s.Validate(seen[0]) == nil {
			t.Errorf("with a list as %s it fits", name)
		}
		seen[0][name] = kept
	}
	count := func(of []map[string]any) map[string]int {
		c := map[string]int{}
		for _, v := range of {
			c["kind "+fmt.Sprint(v["kind"])]++
			if note, ok := v["note"]; ok {
				c["note"]++
				if note == nil {
					c["note is null"]++
				}
			}
			if who, _ := v["who"].(map[string]any); who["vip"] != nil {
				c["vip"]++
			}
		}
		return c
	}
	again, err := generate.New(l.Schema())
	if err != nil {
		t.Fatal(err)
	}
	var made []map[string]any
	for i := range uint64(n) {
		text, err := again.Make(9, i)
		if err != nil {
			t.Fatal(err)
		}
		var v map[string]any
		_ = json.Unmarshal(text, &v)
		made = append(made, v)
	}
	was, is := count(seen), count(made)
	for what, k := range was {
		p := float64(k) / n
		if off := 5 * math.Sqrt(2*p*(1-p)/n); math.Abs(float64(is[what])/n-p) > off {
			t.Errorf("%s: %d of %d, in what is made from it %d", what, k, n, is[what])
		}
	}
}

// Shapes that are not plain objects: maps with many keys, mixed types, requests,
// what is empty, and numbers beyond a double.
func TestLearnedShapes(t *testing.T) {
	for name, list := range map[string][]string{
		"mixed":   {`1`, `"x"`, `null`, `[1,"a"]`, `{"a":{}}`, `2.5`},
		"numbers": {`123456789012345678901234567890`, `-0.000000001`, `1e3`},
		"empty":   {`{}`, `[]`, `""`},
	} {
		var l Learner
		for _, x := range list {
			if err := l.Add([]byte(x)); err != nil {
				t.Fatal(err)
			}
		}
		s := compile(t, l.Schema())
		for _, x := range list {
			v, _ := jsonschema.UnmarshalJSON(strings.NewReader(x))
			if err := s.Validate(v); err != nil {
				t.Errorf("%s: %s does not fit: %v\n%s", name, x, err, l.Schema())
			}
		}
	}
	var l Learner
	for i := range 100 {
		if err := l.Add(fmt.Appendf(nil, `{"by":{"key-%d":%d,"key-%d":2}}`, i, i, i+1000)); err != nil {
			t.Fatal(err)
		}
	}
	if text := string(l.Schema()); strings.Contains(text, "key-7") ||
		!strings.Contains(text, `"additionalProperties": {`) {
		t.Errorf("a map of many keys is learned as\n%s", text)
	}
	var asks Learner
	asks.AddRequest(&event.Request{Method: "GET", Target: "/a?x=1",
		Header: []event.Field{{Name: "Accept", Value: "a/b"}}})
	asks.AddRequest(&event.Request{Method: "GET", Target: "/a", Body: []byte(`{"n":1}`)})
	var got []string
	for _, f := range asks.Fields() {
		got = append(got, fmt.Sprintf("%s %d/%d %s", f.At, f.N, f.Of, f.What))
	}
	want := ` 2/2 object|/body 1/2 object|/body/n 1/1 integer: 1 to 1|/headers 1/2 object|/headers/accept 1/1 ` +
		`string: 3 characters|/method 2/2 string: 3 characters|/path 2/2 string: 2 characters|/query 1/2 ` +
		`object|/query/x 1/1 string: 1 character`
	if s := strings.Join(got, "|"); s != want {
		t.Errorf("fields\n%s\nwant\n%s", s, want)
	}
	// a few characters may stand for a million digits: they are not computed with
	var huge Learner
	if err := errors.Join(huge.Add([]byte(`{"n": 3}`)), huge.Add([]byte(`{"n": 1E1000000000}`))); err != nil {
		t.Fatal(err)
	}
	if text := string(huge.Schema()); !strings.Contains(text, `"number"`) || strings.Contains(text, "imum") {
		t.Error(text)
	}
	if l.Add([]byte("{")) == nil {
		t.Error("what is cut off is learned from")
	}
}

// Whatever is learned from fits what was learned, and more of the kind is made of it.
func FuzzLearned(f *testing.F) {
	f.Add([]byte("{\"a\":1,\"b\":[1,\"x\"]}\n{\"a\":null}\n\"2026-05-01\""))
	f.Add([]byte("[]\n[[1.5],[\"\"]]\n{\"~/\":{\"\":true}}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var l Learner
		var all []any
		for line := range strings.Lines(string(text)) {
			if !json.Valid([]byte(line)) || len(line) > 300 || strings.ContainsAny(line, "eE") || len(all) > 20 {
				return // exponents may ask for numbers of a million digits
			}
			if l.Add([]byte(line)) != nil {
				return
			}
			v, err := jsonschema.UnmarshalJSON(strings.NewReader(line))
			if err != nil {
				return
			}
			all = append(all, v)
		}
		if len(all) == 0 {
			return
		}
		s := compile(t, l.Schema())
		for _, v := range all {
			if err := s.Validate(v); err != nil {
				t.Fatalf("%v does not fit: %v\n%s", v, err, l.Schema())
			}
		}
		g, err := generate.New(l.Schema())
		if err != nil {
			t.Fatalf("%v\n%s", err, l.Schema())
		}
		if made, err := g.Make(1, 1); err != nil || len(made) == 0 {
			t.Fatalf("%v\n%s", err, l.Schema())
		}
		for _, field := range l.Fields() {
			if field.N > field.Of || field.N == 0 || field.What == "" {
				t.Fatalf("%+v", field)
			}
		}
	})
}
