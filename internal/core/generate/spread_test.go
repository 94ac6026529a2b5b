package generate

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"strings"
	"testing"
	"unicode/utf8"

	"nightdrill.dev/internal/core/rng"
)

// golden are payloads as they were made once: the same seed gives the same bytes
// on every machine that this runs on.
var golden = []struct {
	schema string
	seed   uint64
	want   []string
}{
	{`{"type":"object","required":["n","l","z"],"additionalProperties":false,"properties":{"n":{"type":"integer",` +
		`"x-made":{"normal":{"mean":50,"deviation":10}}},"l":{"type":"number","x-made":{"lognormal":{"median":40,` +
		`"spread":2}}},"z":{"type":"integer","minimum":1,"x-made":{"zipf":{"of":50,` +
		`"exponent":1.5}}}}}`, 5, []string{`{"l":93.53,"n":41,"z":3}`, `{"l":36.01,"n":66,"z":8}`, `{"l":27.15,` +
		`"n":44,"z":1}`}},
	{`{"type":"array","minItems":2,"maxItems":2,"items":{"type":"string","pattern":"^[a-z]{3}-[0-9]{2}$"}}`, 7,
		[]string{`["xoc-66","tsr-29"]`, `["czl-96","cua-00"]`, `["aal-73","jxd-00"]`}},
	{`{"type":"object","required":["createdAt","price","name"],"additionalProperties":false,` +
		`"properties":{"createdAt":{"type":"string"},"price":{"type":"number","minimum":0},` +
		`"name":{"type":"string"}}}`, 1, []string{`{"createdAt":"2036-01-23T21:25:21+04:30","name":"Yara Anker",` +
		`"price":122.17}`, `{"createdAt":"2004-01-23T01:18:44-08:00","name":"Zoltan Dorn",` +
		`"price":60.61}`, `{"createdAt":"1977-08-07T05:59:41.2Z","name":"Okke Nordin","price":218.81}`}},
}

// Payload n is the same whether those before it were made or not, by a generator
// that is new or one that has made others.
func TestAnyOrder(t *testing.T) {
	if testing.Short() {
		t.Skip("every schema in many orders")
	}
	for name, text := range taken {
		if strings.HasPrefix(name, "the standard") || name == "draft 7 itself" || name == "many items" {
			continue // slow, and nothing else than the others
		}
		used, err := New([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		for n := range uint64(6) {
			if _, err := used.Make(11, n); err != nil {
				t.Fatal(name, err)
			}
			_, _ = used.Edge(11, n) // for what it leaves behind
			used.Break(11, n)
		}
		for _, n := range []uint64{5, 0, 1_000_000} {
			fresh, err := New([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			a, _ := used.Make(11, n)
			b, _ := fresh.Make(11, n)
			if !bytes.Equal(a, b) {
				t.Errorf("%s: payload %d is %.200s after others, and %.200s alone", name, n, a, b)
			}
		}
	}
}

// The whole-number logarithms, powers and roots are those of mathematics, as far
// as their places go.
func TestWholeNumberArithmetic(t *testing.T) {
	for _, x := range []float64{1, 1.5, 2, 2.718281828, 3, 10, 999.5, 1000} {
		got := float64(binaryLog(new(big.Rat).SetFloat64(x))) / (1 << fraction)
		if math.Abs(got-math.Log2(x)) > 1e-8 {
			t.Errorf("log2(%v) = %v, want %v", x, got, math.Log2(x))
		}
	}
	for _, p := range []float64{0, 0.25, 0.5, 1, 3.75, 20.125} {
		got, _ := binaryPower(int64(p * (1 << fraction))).Float64()
		if want := math.Exp2(p); math.Abs(got-want)/want > 1e-8 {
			t.Errorf("2^%v = %v, want %v", p, got, want)
		}
	}
	for _, e := range []string{"0", "0.5", "1", "1.5", "4"} {
		totals, err := zipf(map[string]any{"of": json.Number("40"), "exponent": json.Number(e)}, nil)
		if err != nil {
			t.Fatal(err)
		}
		exponent, _ := rat(json.Number(e)).Float64()
		before := uint64(0)
		for k, total := range totals {
			got, want := float64(total-before), math.Pow(2, 40)/math.Pow(float64(k+1), exponent)
			if math.Abs(got-want) > 1+want*1e-9 {
				t.Errorf("weight %d of exponent %s is %v, want %v", k+1, e, got, want)
			}
			before = total
		}
	}
	m := &maker{r: rng.New(1, 2)}
	sum, squares := 0.0, 0.0
	const n = 20_000
	for range n {
		z := float64(m.normal()) / (1 << fraction)
		sum += z
		squares += z * z
	}
	if mean, variance := sum/n, squares/n; math.Abs(mean) > 5/math.Sqrt(n) ||
		math.Abs(variance-1) > 5*math.Sqrt(2.0/n) {
		t.Errorf("normal numbers have mean %v and variance %v", mean, variance)
	}
}

// What is unique is not a value twice, also where its range is used up to the last.
func TestUnique(t *testing.T) {
	for name, text := range map[string]string{
		"range": `{"type":"integer","minimum":10,"maximum":509,"x-made":{"unique":true}}`,
		"free":  `{"type":"integer","x-made":{"unique":true}}`,
		"uuid":  `{"type":"string","format":"uuid","x-made":{"unique":true}}`,
		"text":  `{"type":"string","x-made":{"unique":true}}`,
	} {
		for seed := range uint64(8) {
			g, err := New([]byte(text))
			if err != nil {
				t.Fatal(err)
			}
			seen := map[string]bool{}
			for n := range uint64(500) {
				made, err := g.Make(seed, n)
				if err != nil || seen[string(made)] {
					t.Fatalf("%s, seed %d: payload %d is %s again, %v", name, seed, n, made, err)
				}
				seen[string(made)] = true
			}
		}
	}
}

// Members of a pool come again, with the same value for the same member wherever
// the pool is used; sequences go on with the payload's number.
func TestPoolsAndSequences(t *testing.T) {
	g, err := New([]byte(`{"type":"object","required":["a","b","n","t"],"additionalProperties":false,"properties":{
		"a":{"type":"string","pattern":"^[A-Z]{5}$","x-made":{"pool":{"name":"ships","size":4}}},
		  "b":{"type":"string","pattern":"^[A-Z]{5}$","x-made":{"pool":{"name":"ships","size":4}}},
		"n":{"type":"number","x-made":{"sequence":{"from":-1,"step":0.5}}},"t":{"type":"string",
		  "format":"date-time","x-made":{"sequence":{"from":"2026-03-29T00:59:59Z","every":"500ms"}}}}}`))
	if err != nil {
		t.Fatal(err)
	}
	a, b := map[string]int{}, map[string]int{}
	for n := range uint64(200) {
		made, err := g.Make(3, n)
		if err != nil {
			t.Fatal(err)
		}
		var v struct {
			A, B, T string
			N       float64
		}
		_ = json.Unmarshal(made, &v)
		a[v.A]++
		b[v.B]++
		if v.N != -1+0.5*float64(n) {
			t.Fatalf("payload %d has %v", n, v.N)
		}
		if n == 4 && v.T != "2026-03-29T01:00:01Z" {
			t.Errorf("payload 4 is of %s", v.T)
		}
	}
	if len(a) != 4 || len(b) != 4 {
		t.Errorf("pools of %d and %d", len(a), len(b))
	}
	for name := range a {
		if b[name] == 0 {
			t.Errorf("%s is in one use of the pool only", name)
		}
	}
}

// Values that are all distinct are found also where there are hardly more than
// are needed, and edges do not make payloads without bounds.
func TestNarrowAndWide(t *testing.T) {
	for _, text := range []string{
		`{"type":"array","uniqueItems":true,"minItems":12,"items":{"enum":[1,1.0,"1",true,null,[],{},[1],{"a":1},` +
			`"a","b",2,3]}}`,
		`{"type":"array","uniqueItems":true,"minItems":5,"items":{"anyOf":[{"type":"boolean"},{"type":"null"},` +
			`{"type":"integer","minimum":1,"maximum":2}]}}`,
		`{"type":"object","minProperties":10,"propertyNames":{"enum":["a","b","c","d","e","f","g","h","i","j"]},` +
			`"additionalProperties":{"type":"integer"}}`,
	} {
		g, err := New([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		for seed := range uint64(20) {
			if made, err := g.Make(seed, 1); err != nil {
				t.Errorf("%s: %s, %v", text, made, err)
			}
		}
	}
	g, err := New([]byte(
		`{"type":"array","maxItems":900,"items":{"type":"array","maxItems":900,"items":{"type":"string",` +
			`"maxLength":9000}}}`))
	if err != nil {
		t.Fatal(err)
	}
	longest := 0
	for seed := range uint64(30) {
		made, err := g.Edge(seed, 1)
		if err != nil {
			t.Fatal(err)
		}
		longest = max(longest, len(made))
		if !utf8.Valid(made) || len(made) > 20<<20 {
			t.Errorf("seed %d: %d bytes", seed, len(made))
		}
	}
	if longest < 1000 {
		t.Errorf("the longest at the edges has %d bytes", longest)
	}
}

// The bytes are those that were made once.
func TestGolden(t *testing.T) {
	for i, c := range golden {
		g, err := New([]byte(c.schema))
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for n := range uint64(3) {
			made, err := g.Make(c.seed, n)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, string(made))
		}
		if fmt.Sprint(got) != fmt.Sprint(c.want) {
			t.Errorf("schema %d gives\n%#v\nwant\n%#v", i, got, c.want)
		}
	}
}
