package generate

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"nightdrill/internal/core/chance"
)

// taken are schemas that something fits; together they use every keyword of the
// standard's validation and applicators.
var taken = map[string]string{
	"anything":           `{}`,
	"true":               `true`,
	"null":               `{"type":"null"}`,
	"boolean":            `{"type":"boolean"}`,
	"types":              `{"type":["integer","string","null"]}`,
	"const":              `{"const":{"a":[1,null,"x"]}}`,
	"enum":               `{"enum":["red",1,null,{"x":true}]}`,
	"enum and type":      `{"enum":["red",1,2.5],"type":"integer"}`,
	"integer":            `{"type":"integer","minimum":-3,"maximum":3}`,
	"one integer":        `{"type":"integer","exclusiveMinimum":4,"exclusiveMaximum":6}`,
	"multiple":           `{"type":"number","multipleOf":0.01,"minimum":0.1,"maximum":0.3}`,
	"multiples":          `{"type":"integer","allOf":[{"multipleOf":4},{"multipleOf":6}],"minimum":1,"maximum":40}`,
	"narrow":             `{"type":"number","exclusiveMinimum":0.1,"exclusiveMaximum":0.1000001}`,
	"huge":               `{"type":"integer","minimum":1e30,"maximum":1e31}`,
	"tiny":               `{"type":"number","minimum":1e-12,"maximum":2e-12}`,
	"length":             `{"type":"string","minLength":3,"maxLength":5}`,
	"exact length":       `{"type":"string","minLength":300,"maxLength":300}`,
	"empty text":         `{"type":"string","maxLength":0}`,
	"pattern":            `{"type":"string","pattern":"^BF-[0-9]{4}-[A-Z]{2,3}$"}`,
	"loose pattern":      `{"type":"string","pattern":"b+c","minLength":8,"maxLength":9}`,
	"pattern and length": `{"type":"string","pattern":"^(ab|cde)*$","minLength":11,"maxLength":11}`,
	"two patterns":       `{"type":"string","allOf":[{"pattern":"^[a-f0-9]+$"},{"pattern":"^.{8}$"}]}`,
	"classes":            `{"type":"string","pattern":"^\\d{2}\\s\\w+[^a-z]\\.$"}`,
	"unicode pattern":    `{"type":"string","pattern":"^[\\u00e0-\\u00ff]{3}$"}`,
	"look ahead":         `{"type":"string","pattern":"^(?=.*[0-9])[a-z0-9]{6}$"}`,
	"word boundary":      `{"type":"string","pattern":"\\bquay\\b"}`,
	"exploding":          `{"type":"string","pattern":"^(a+)+$","minLength":5,"maxLength":40}`,
	"format date-time":   `{"type":"string","format":"date-time"}`,
	"formats":            `{"type":"array","prefixItems":[{"format":"email"},{"format":"uuid"},{"format":"ipv4"},{"format":"ipv6"},{"format":"uri"},{"format":"date"},{"format":"time"},{"format":"duration"},{"format":"hostname"},{"format":"json-pointer"},{"format":"uri-reference"},{"format":"regex"},{"format":"relative-json-pointer"},{"format":"uri-template"}],"minItems":14,"items":false}`,
	"format and length":  `{"type":"string","format":"email","maxLength":30}`,
	"items":              `{"type":"array","items":{"type":"integer"},"minItems":2,"maxItems":4}`,
	"tuple":              `{"type":"array","prefixItems":[{"type":"string"},{"type":"integer"}],"items":false,"minItems":1}`,
	"unique":             `{"type":"array","items":{"enum":[1,2,3,4]},"uniqueItems":true,"minItems":4}`,
	"unique booleans":    `{"type":"array","items":{"type":"boolean"},"uniqueItems":true,"minItems":2,"maxItems":2}`,
	"contains":           `{"type":"array","items":{"type":"integer","minimum":0,"maximum":9},"contains":{"const":7},"minContains":2,"maxContains":3,"maxItems":8}`,
	"contains none":      `{"type":"array","items":{"enum":[1,2]},"contains":{"const":1},"minContains":0,"maxContains":1,"minItems":3}`,
	"unevaluated items":  `{"type":"array","allOf":[{"prefixItems":[{"type":"string"}]}],"unevaluatedItems":{"type":"boolean"},"minItems":3}`,
	"object":             `{"type":"object","properties":{"a":{"type":"string"},"b":{"type":"integer"}},"required":["a"],"additionalProperties":false}`,
	"additional":         `{"type":"object","additionalProperties":{"type":"integer"},"minProperties":3,"maxProperties":5}`,
	"pattern properties": `{"type":"object","patternProperties":{"^x-":{"type":"integer"}},"additionalProperties":false,"minProperties":2}`,
	"overlapping":        `{"type":"object","properties":{"x-a":{"minimum":5}},"patternProperties":{"^x-":{"type":"integer","maximum":9}},"required":["x-a"]}`,
	"names":              `{"type":"object","propertyNames":{"pattern":"^[a-z]{3}$"},"minProperties":2}`,
	"dependent required": `{"type":"object","properties":{"card":{"type":"string"},"address":{"type":"string"},"zip":{"type":"integer"}},"dependentRequired":{"card":["address"],"address":["zip"]},"additionalProperties":false}`,
	"dependent schemas":  `{"type":"object","properties":{"van":{"type":"boolean"},"length":{"type":"number"}},"dependentSchemas":{"van":{"required":["length"],"properties":{"length":{"minimum":4}}}},"additionalProperties":false}`,
	"unevaluated":        `{"type":"object","allOf":[{"properties":{"a":{"type":"integer"}},"required":["a"]}],"properties":{"b":{"type":"string"}},"unevaluatedProperties":false}`,
	"unevaluated choice": `{"type":"object","oneOf":[{"properties":{"kind":{"const":"car"},"length":{"type":"number"}},"required":["kind"]},{"properties":{"kind":{"const":"foot"}},"required":["kind"]}],"unevaluatedProperties":false}`,
	"required alone":     `{"type":"object","required":["one","two"]}`,
	"all of":             `{"allOf":[{"type":"object","required":["a"]},{"properties":{"a":{"type":"integer"}}},{"properties":{"a":{"minimum":10,"maximum":12}}}]}`,
	"any of":             `{"anyOf":[{"type":"integer","minimum":5},{"type":"string","maxLength":3},{"const":null}]}`,
	"one of":             `{"oneOf":[{"type":"integer","multipleOf":3},{"type":"integer","multipleOf":5}],"minimum":1,"maximum":60}`,
	"one of overlapping": `{"oneOf":[{"type":"number"},{"type":"integer"}]}`,
	"not":                `{"type":"integer","minimum":0,"maximum":5,"not":{"enum":[0,1,2]}}`,
	"not object":         `{"type":"object","properties":{"a":{"type":"integer"}},"required":["a"],"not":{"properties":{"a":{"minimum":0}}}}`,
	"if then else":       `{"type":"object","properties":{"kind":{"enum":["car","foot"]},"length":{"type":"number","minimum":2,"maximum":9}},"required":["kind"],"if":{"properties":{"kind":{"const":"car"}}},"then":{"required":["length"]},"else":{"not":{"required":["length"]}},"additionalProperties":false}`,
	"ref":                `{"$defs":{"port":{"enum":["holm","skerry"]}},"type":"object","properties":{"from":{"$ref":"#/$defs/port"},"to":{"$ref":"#/$defs/port"}},"required":["from","to"]}`,
	"ref beside":         `{"$defs":{"n":{"type":"integer"}},"$ref":"#/$defs/n","minimum":3,"maximum":4}`,
	"anchor":             `{"$defs":{"x":{"$anchor":"port","type":"string","pattern":"^p"}},"$ref":"#port"}`,
	"id":                 `{"$id":"https://ferries.example/fare.json","$defs":{"m":{"$id":"money.json","type":"object","required":["cents"],"properties":{"cents":{"type":"integer"}}}},"type":"object","properties":{"price":{"$ref":"money.json"}},"required":["price"]}`,
	"escaped pointer":    `{"$defs":{"a/b~c %":{"type":"boolean"}},"$ref":"#/$defs/a~1b~0c%20%25"}`,
	"tree":               `{"$defs":{"node":{"type":"object","required":["value"],"properties":{"value":{"type":"integer"},"children":{"type":"array","items":{"$ref":"#/$defs/node"}}},"additionalProperties":false}},"$ref":"#/$defs/node"}`,
	"list by next":       `{"type":"object","required":["next"],"properties":{"next":{"anyOf":[{"type":"null"},{"$ref":"#"}]}},"additionalProperties":false}`,
	"expression":         `{"$defs":{"e":{"oneOf":[{"type":"number"},{"type":"object","required":["op","l","r"],"properties":{"op":{"enum":["+","*"]},"l":{"$ref":"#/$defs/e"},"r":{"$ref":"#/$defs/e"}},"additionalProperties":false}]}},"$ref":"#/$defs/e"}`,
	"dynamic":            `{"$id":"https://ferries.example/strict-tree","$dynamicAnchor":"node","$ref":"tree","unevaluatedProperties":false,"$defs":{"tree":{"$id":"tree","$dynamicAnchor":"node","type":"object","properties":{"data":true,"children":{"type":"array","items":{"$dynamicRef":"#node"}}}}}}`,
	"deep types":         `{"type":"object","properties":{"a":{"type":"object","properties":{"b":{"type":"array","items":{"type":"object","properties":{"c":{"type":"string","format":"uuid"}},"required":["c"]},"minItems":1}},"required":["b"]}},"required":["a"]}`,
	"no type":            `{"minimum":5,"maxLength":2,"required":["x"]}`,
	"annotated":          `{"title":"t","description":"d","default":3,"examples":[1],"deprecated":true,"readOnly":true,"$comment":"c","x-own":1,"type":"integer"}`,
	"content":            `{"type":"string","contentEncoding":"base64","contentMediaType":"application/json"}`,
	"draft 7":            `{"$schema":"http://json-schema.org/draft-07/schema#","definitions":{"n":{"type":"integer"}},"type":"object","properties":{"a":{"$ref":"#/definitions/n","type":"string"},"t":{"type":"array","items":[{"type":"string"},{"type":"null"}],"additionalItems":false,"minItems":2}},"required":["a","t"],"dependencies":{"b":["c"],"d":{"required":["e"]}}}`,
	"draft 4":            `{"$schema":"http://json-schema.org/draft-04/schema#","id":"http://ferries.example/x","type":"object","properties":{"n":{"type":"integer","minimum":1,"exclusiveMinimum":true,"maximum":3,"exclusiveMaximum":true}},"required":["n"]}`,
	"draft 2019":         `{"$schema":"https://json-schema.org/draft/2019-09/schema","$recursiveAnchor":true,"type":"object","properties":{"value":{"type":"integer"},"next":{"$recursiveRef":"#"}},"unevaluatedProperties":false}`,
	"empty choice list":  `{"type":"object","properties":{"n":false},"maxProperties":0}`,
}

// refused are schemas that cannot be honoured, with what is said of them.
var refused = map[string]string{
	`{`:                                 "not JSON",
	`7`:                                 "",
	`false`:                             "nothing is allowed",
	`{"type":"strnig"}`:                 "type",
	`{"$ref":"#/$defs/none"}`:           "none",
	`{"$ref":"https://else.example/x"}`: "not fetched",
	`{"$schema":"https://else.example/own","type":"string"}`:                   "",
	`{"type":"string","pattern":"(["}`:                                         "pattern",
	`{"type":"integer","minimum":4,"maximum":3}`:                               "no value that fits",
	`{"type":"string","not":{"type":"string"}}`:                                "no value that fits",
	`{"type":"object","required":["next"],"properties":{"next":{"$ref":"#"}}}`: "without end",
	`{"allOf":[{"const":1},{"const":2}]}`:                                      "no value that fits",
}

// Every schema gives payloads for every seed, each of which the validator takes,
// the same ones each time.
func TestMade(t *testing.T) {
	seeds := uint64(150)
	if testing.Short() {
		seeds = 20
	}
	for name, text := range taken {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g, err := New([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			c := jsonschema.NewCompiler()
			c.AssertFormat()
			c.UseRegexpEngine(engine)
			doc, _ := jsonschema.UnmarshalJSON(strings.NewReader(text))
			if err := c.AddResource("test.json", doc); err != nil {
				t.Fatal(err)
			}
			independent, err := c.Compile("test.json")
			if err != nil {
				t.Fatal(err)
			}
			for seed := range seeds {
				made, err := g.Make(seed, seed%7)
				if err != nil {
					t.Fatalf("seed %d: %v", seed, err)
				}
				v, err := jsonschema.UnmarshalJSON(bytes.NewReader(made))
				if err != nil {
					t.Fatalf("seed %d: %s is not JSON: %v", seed, made, err)
				}
				if err := independent.Validate(v); err != nil {
					t.Fatalf("seed %d: %s: %v", seed, made, err)
				}
				if edge, err := g.Edge(seed, seed%7); err != nil {
					t.Fatalf("seed %d: at the edges: %v", seed, err)
				} else if v, err := jsonschema.UnmarshalJSON(bytes.NewReader(edge)); err != nil || independent.Validate(v) != nil {
					t.Fatalf("seed %d: at the edges: %s: %v", seed, edge, independent.Validate(v))
				}
				if again, _ := g.Make(seed, seed%7); !bytes.Equal(made, again) {
					t.Fatalf("seed %d gives %s, and then %s", seed, made, again)
				}
			}
		})
	}
}

func TestRefused(t *testing.T) {
	for text, want := range refused {
		g, err := New([]byte(text))
		if err == nil {
			_, err = g.Make(1, 1)
		}
		var r *Refused
		if !errors.As(err, &r) || !strings.Contains(r.Error(), want) {
			t.Errorf("%s: %v, want %q", text, err, want)
		}
	}
}

// It is not enough that what is made is valid: every branch, every optional
// member there and not there, and both ends of every bound occur.
func TestEverythingOccurs(t *testing.T) {
	for _, c := range []struct {
		schema string
		want   []string
	}{
		{taken["any of"], []string{"null", `"`, "5"}},
		{taken["if then else"], []string{`{"kind":"foot"}`, `"length":2}`, `"length":9}`, `"kind":"car"`}},
		{taken["dependent required"], []string{`{}`, `{"zip":`, `"card":`, `{"address":`}},
		{taken["dependent schemas"], []string{`{}`, `"van":true`, `"van":false`, `{"length":`}},
		{taken["integer"], []string{"-3", "3", "0"}},
		{taken["length"], []string{"~3", "~4", "~5"}},
		{taken["items"], []string{"#2", "#3", "#4"}},
		{taken["types"], []string{"null", `"`, "0"}},
		{taken["tree"], []string{`"children":[]`, `"children":[{`, `{"value":`}},
		{taken["unevaluated choice"], []string{`"foot"`, `"car"`, `"length"`, `{"kind":"car"}`}},
		{taken["tuple"], []string{"#1", "#2"}},
	} {
		g, err := New([]byte(c.schema))
		if err != nil {
			t.Fatal(err)
		}
		var all strings.Builder
		for n := range uint64(1000) {
			made, err := g.Make(3, n)
			if err != nil {
				t.Fatal(err)
			}
			var v any
			_ = json.Unmarshal(made, &v)
			switch v := v.(type) {
			case string:
				fmt.Fprintf(&all, "~%d ", len(v))
			case []any:
				fmt.Fprintf(&all, "#%d ", len(v))
			}
			all.Write(made)
			all.WriteByte('\n')
		}
		for _, w := range c.want {
			if !strings.Contains(all.String(), w) {
				t.Errorf("%s: in a thousand there is no %s", c.schema, w)
			}
		}
	}
}

// A pattern's texts are found in it, at every length that it can have.
func FuzzPattern(f *testing.F) {
	for _, p := range []string{"^a{2,4}$", "(x|yz)*", "^[^a-z]+$", "a.c", "^$", `\bq`, "(a*)*b", "^(?:a|b){3}(?:cd)?$"} {
		f.Add(p, uint64(1), 0, 10)
	}
	f.Fuzz(func(t *testing.T, p string, seed uint64, lo, hi int) {
		if len(p) > 40 || lo < 0 || lo > 50 || hi < lo || hi > 60 {
			return
		}
		if _, err := engine(p); err != nil {
			return
		}
		m := newMaker(seed)
		if s, ok := m.pattern(p, lo, hi); ok && !matches(p, s) {
			t.Errorf("%q is not found in %q", p, s)
		}
	})
}

// BenchmarkMake compares making a payload of about 1 kB with marshalling the
// same value: the ratio is the median of nine interleaved pairs.
func BenchmarkMake(b *testing.B) {
	g, err := New([]byte(`{"type":"object","required":["pass","sailing","deck","passengers"],"properties":{"pass":{"type":"string","pattern":"^BF-[0-9]{4}-[0-9]{3}$"},"sailing":{"type":"string","format":"date-time"},
		"deck":{"enum":["car","foot","van"]},"passengers":{"type":"array","minItems":10,"maxItems":10,"items":{"type":"object","required":["name","age","id"],"properties":{"name":{"type":"string","minLength":12,"maxLength":20},"age":{"type":"integer","minimum":0,"maximum":99},"id":{"type":"string","format":"uuid"}}}}}}`))
	if err != nil {
		b.Fatal(err)
	}
	const n = 500
	var values []any
	size := 0
	for i := range uint64(n) {
		made, err := g.Make(1, i)
		if err != nil {
			b.Fatal(err)
		}
		size += len(made)
		var v any
		_ = json.Unmarshal(made, &v)
		values = append(values, v)
	}
	marshal := func() time.Duration {
		began := time.Now()
		for _, v := range values {
			if _, err := json.Marshal(v); err != nil {
				b.Fatal(err)
			}
		}
		return time.Since(began)
	}
	create := func(from uint64) time.Duration {
		began := time.Now()
		for i := range uint64(n) {
			v, err := g.draft(1, from+i, 0, false)
			if err != nil {
				b.Fatal(err)
			}
			write(make([]byte, 0, 1024), v)
		}
		return time.Since(began)
	}
	var ratios, far []float64
	var total time.Duration
	for range 9 {
		c := create(0)
		total += c
		ratios = append(ratios, float64(c)/float64(marshal()))
		far = append(far, float64(create(1_000_000))/float64(c))
	}
	slices.Sort(ratios)
	slices.Sort(far)
	for b.Loop() { // what counts was measured
	}
	b.ReportMetric(ratios[4], "times-marshal")
	b.ReportMetric(far[4], "millionth-to-first")
	b.ReportMetric(float64(total.Nanoseconds())/9/n, "ns/payload")
	b.ReportMetric(float64(size)/n, "bytes")
}

func newMaker(seed uint64) *maker {
	return &maker{g: &Generator{programs: map[string]*automaton{}}, r: chance.New(seed, 1), effort: effort}
}
